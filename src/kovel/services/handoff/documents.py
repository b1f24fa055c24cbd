"""The papers of a story as it stands."""

from itertools import groupby

from kovel.core.time.timecode import stamp
from kovel.core.words.subtitles import named
from kovel.data_folder import Data
from kovel.exchange.papers import KINDS, Paper, paper
from kovel.services.handoff.captioning import said as words_said
from kovel.services.story.story_checks import findings
from kovel.store import projects, recordings, stories
from kovel.store.projects import Missing


def pdf_of(data: Data, kept: stories.Kept, kind: str) -> tuple[Paper, bytes]:
    """One of KINDS, and as PDF, in the editor's own fonts where a letter needs one."""
    from kovel.exchange.papers_pdf import to_pdf  # takes a second to load

    made = paper_of(data, kept, kind)
    own = sorted(p for p in data.fonts.iterdir() if p.suffix in (".ttf", ".otf")) if data.fonts.is_dir() else []
    project = projects.get(data.db, kept.project)
    return made, to_pdf(made, project.name, kept.name, stamp(kept.story.length, kept.story.rate), own)


def paper_of(data: Data, kept: stories.Kept, kind: str) -> Paper:
    """One of KINDS."""
    if kind not in KINDS:
        raise Missing(f"There is no such paper. There are: {', '.join(KINDS)}.")
    rows = {r.id: r for r in recordings.of_project(data.db, kept.project)}
    words = words_said(data, kept) if kind == "cut" else []

    def said(a: int, b: int) -> list[tuple[str, str]]:
        inside = [w for w in words if a <= w.at < b]
        runs = groupby(inside, key=lambda w: w.word.speaker)
        return [(named(speaker), " ".join(w.word.text for w in run)) for speaker, run in runs]

    found = findings(data, kept.project, kept.story) if kind == "faults" else []
    return paper(kind, kept.story, projects.get(data.db, kept.project), rows, said, found)
