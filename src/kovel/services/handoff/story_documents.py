"""The documents of a story as it stands."""

from functools import cache, partial
from itertools import groupby

from kovel.core.errors import Missing
from kovel.core.time.timecode import stamp
from kovel.core.words.subtitles import named
from kovel.data_folder import DataFolder
from kovel.exchange.documents import DOCUMENTS, Document, DocumentInput, document_of
from kovel.services.handoff.captioning import said as words_said
from kovel.services.story.story_checks import findings
from kovel.store import projects, recordings, stories


def pdf_of(data: DataFolder, kept: stories.Kept, kind: str) -> tuple[Document, bytes]:
    """One of DOCUMENTS, and as PDF, in the editor's own fonts where a letter needs one."""
    from kovel.exchange.document_pdf import to_pdf  # takes a second to load

    made = document(data, kept, kind)
    own = (
        sorted(path for path in data.fonts.iterdir() if path.suffix in (".ttf", ".otf")) if data.fonts.is_dir() else []
    )
    project = projects.get(data.db, kept.project)
    return made, to_pdf(made, project.name, kept.name, stamp(kept.story.length, kept.story.rate), own)


def document(data: DataFolder, kept: stories.Kept, kind: str) -> Document:
    """One of DOCUMENTS."""
    if kind not in DOCUMENTS:
        raise Missing(f"There is no such document. There are: {', '.join(DOCUMENTS)}.")
    rows = {recording.id: recording for recording in recordings.of_project(data.db, kept.project)}
    all_said = cache(partial(words_said, data, kept))  # asked for by the documents that tell words

    def said(start: int, end: int) -> list[tuple[str, str]]:
        inside = [spoken for spoken in all_said() if start <= spoken.at < end]
        runs = groupby(inside, key=lambda w: w.word.speaker)
        return [(named(speaker), " ".join(spoken.word.text for spoken in run)) for speaker, run in runs]

    told = DocumentInput(
        kept.story, projects.get(data.db, kept.project), rows, said, lambda: findings(data, kept.project, kept.story)
    )
    return document_of(DOCUMENTS[kind], told)
