"""Papers for others: the paper cut, shots, music, what lies on which tape, and what a review should look at; as rows, and as CSV.

cut      what is said, in order       0:00 to 0:06   Maren, camera A   14:22:09:10   "We haul the ferry ..."
shots    what is laid over it         music   the cue sheet        tapes   everything used, by roll and timecode
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from kovel.core.checks.findings import Finding
from kovel.core.story.model import TITLE, Story
from kovel.core.time.rate import frame_shown
from kovel.core.time.timecode import format_timecode, stamp
from kovel.exchange.cells import begins_formula
from kovel.store.projects import Project
from kovel.store.recordings import Recording

KINDS = {
    "cut": ("Paper cut", ("Begins", "Ends", "Recording", "Timecode in", "Timecode out", "Speaker", "Words")),
    "shots": ("Shot list", ("Begins", "Ends", "Lane", "Recording", "Roll", "Timecode in", "Timecode out", "Speed")),
    "music": ("Cue sheet", ("Cue", "Begins", "Ends", "Lasts", "Title", "File", "From")),
    "tapes": ("Edit list by tape", ("Roll", "Recording", "Timecode in", "Timecode out", "Used as", "Begins", "Ends")),
    "faults": ("To look at", ("Begins", "What")),
}
Said = Callable[[int, int], list[tuple[str, str]]]  # (speaker, text) of story frames [a, b), a row a speaker


@dataclass(frozen=True, slots=True)
class Paper:
    """A table of words."""

    title: str
    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


def source_time(r: Recording, frame: int, project: Project) -> str:
    """A story frame of a recording's clock in its own timecode."""
    if r.frames is None:
        return ""
    return format_timecode(r.first + frame_shown(frame, project.rate, r.rate), r.rate, r.drops)


def paper(
    kind: str, story: Story, project: Project, recordings: dict[int, Recording], said: Said, found: Sequence[Finding] = ()
) -> Paper:
    """One paper of a story; `kind` is one of KINDS."""
    title, heads = KINDS[kind]
    at = project.timecode
    if kind == "cut":
        rows = []
        for a, p in zip(story.starts, story.pieces, strict=False):
            r = recordings.get(p.source or 0)
            heading = next((s.heading for s in story.sections if s.piece == p.id), "")
            if heading:
                rows.append((at(a), "", heading.upper(), "", "", "", ""))
            times = (source_time(r, p.used[0], project), source_time(r, p.used[1], project)) if r else ("", "")
            what = r.name if r else (p.card.text or "card") if p.card else "space"
            told = said(a, a + p.length) or [("", "")]
            rows.append((at(a), at(a + p.length), what, *times, *told[0]))
            rows += [("", "", "", "", "", *x) for x in told[1:]]
            titles = sorted((x, y, c.title) for x, y, c in story.spans if c.source == TITLE and a <= x < a + p.length)
            rows += [(at(x), at(min(y, story.length)), "title", "", "", "", text.replace("\n", " / ")) for x, y, text in titles]
        return Paper(title, heads, tuple(rows))
    if kind == "shots":
        shots = sorted((a, min(b, story.length), c) for a, b, c in story.spans if c.source and a < story.length)
        return Paper(title, heads, tuple(
            (at(a), at(b), str(c.lane), recordings[c.source].name, recordings[c.source].roll, source_time(recordings[c.source], c.start, project),
             source_time(recordings[c.source], c.end, project), "" if c.as_shot else f"{100 * c.used / c.length:.3g} %")
            for a, b, c in shots if c.source in recordings
        ))  # fmt: skip
    if kind == "music":
        cues = sorted((story.at(x), x) for x in story.sounds if x.kind == "music")
        return Paper(title, heads, tuple(
            (str(n), at(a), at(min(a + x.length, story.length)), stamp(min(x.length, story.length - a), story.rate), recordings[x.source].name,
             recordings[x.source].path.rsplit("/", 1)[-1], stamp(x.start, story.rate))
            for n, (a, x) in enumerate(cues, 1) if x.source in recordings and a < story.length
        ))  # fmt: skip
    if kind == "tapes":
        uses = [(p.source, *p.used, "dialogue", a, a + p.length) for a, p in zip(story.starts, story.pieces, strict=False)]
        uses += [(c.source, c.start, c.end, "cover", a, b) for a, b, c in story.spans]
        uses += [(x.source, x.start, x.end, x.kind, story.at(x), story.at(x) + x.length) for x in story.sounds]
        known = [(recordings[s], a, b, how, x, y) for s, a, b, how, x, y in uses if s is not None and s in recordings]
        known.sort(key=lambda u: (u[0].roll, u[0].camera, u[0].name, u[1]))
        return Paper(title, heads, tuple(
            (f"{r.roll}{f' {r.camera}' if r.camera else ''}", r.name, source_time(r, a, project), source_time(r, b, project), how, at(x), at(y))
            for r, a, b, how, x, y in known
        ))  # fmt: skip
    return Paper(title, heads, tuple((at(f.at) if f.at is not None else "", f.text) for f in found))


def to_csv(p: Paper) -> str:
    """A paper as CSV (RFC 4180); what a table program would take for a formula is held back by a quote."""
    out = io.StringIO()
    w = csv.writer(out)
    w.writerow(p.heads)
    w.writerows([f"'{x}" if begins_formula(x) else x for x in row] for row in p.rows)
    return out.getvalue()
