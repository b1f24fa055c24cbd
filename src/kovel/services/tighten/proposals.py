"""Tightening: what is proposed for a recording, what the editor decided, and the pieces that come of it.

The editor's decisions are kept beside the recording, by what a proposal stands for (a pause, a word); so more or less air
loses none of them.
"""

import csv
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, Literal

from kovel.core.errors import Invalid
from kovel.core.sound.levels import Levels
from kovel.core.story.model import Story
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import format_timecode
from kovel.core.words.fillers import KINDS, Proposal, kept, proposals, word_proposals
from kovel.core.words.languages import Language
from kovel.data_folder import DataFolder
from kovel.services.log.recording_languages import set_list, spoken
from kovel.services.log.speech_levels import found_pauses, levels
from kovel.store import decisions, kept_settings, recordings, transcripts
from kovel.store.decisions import Desk


@dataclass(frozen=True, slots=True)
class Row:
    """A proposal in the project's frames [start, end) on the recording's clock; `out` when it will be taken out."""

    key: str
    start: int
    end: int
    kind: str
    why: str
    sure: float
    out: bool

    @property
    def length(self) -> int:
        return self.end - self.start


def desk(data: DataFolder, recording: int) -> Desk:
    return decisions.desk(data.db, recording)


def put(data: DataFolder, recording: int, d: Desk) -> None:
    """Keep a desk, and the one before it for undo."""
    decisions.put_desk(data.db, recording, d)


def undo(data: DataFolder, recording: int) -> str:
    """Take the last decision or setting back."""
    if not decisions.undo_desk(data.db, recording):
        raise Invalid("There is nothing to undo here.")
    return "Undone."


def interviewer(data: DataFolder) -> str:
    """The name under which the interviewer's words stand in transcripts."""
    return kept_settings.get(data.db, "interviewer") or "interviewer"


@lru_cache(8)
def _of_words(
    data: DataFolder, recording: int, state: str, heard: Levels | None, of: Language, interviewer: str
) -> list[Proposal]:
    """Kept while neither the words (in `state`) nor the sound change: so a setting of the pauses answers at once."""
    return word_proposals(transcripts.words(data.db, recording), heard, of, interviewer)


def rows(data: DataFolder, recording: int, rate: Rate, d: Desk | None = None) -> list[Row]:
    """Every proposal for a recording, whole frames inside what was found, in order."""
    d = d or desk(data, recording)
    said = transcripts.words(data.db, recording)
    pauses = found_pauses(data, recording, d.settings, said)
    state = transcripts.said(data.db, recording)
    of_words = _of_words(
        data, recording, state, levels(data, recording), spoken(data, recordings.get(data.db, recording)), interviewer(data)
    )
    found = proposals(pauses, d.settings, of_words)
    out: list[Row] = []
    seen: set[str] = set()
    off, on = set(d.off), set(d.on)
    for p in found:
        a, b = rate.sample_to_frame(p.start), rate.sample_to_frame(p.end)
        a += rate.frame_to_sample(a) < p.start
        if b <= a:
            continue
        key = f"{p.kind[:2]}{p.start if p.anchor < 0 else p.anchor}"
        if key in seen:  # the second part of a pause in which something else is proposed
            key += f"+{a}"
        seen.add(key)
        a, b = d.moved.get(key, [a, b])
        safe = any(x < b and a < y for x, y in d.protected)
        take = not safe and (key in on or (key not in off and p.kind not in d.kinds_off))
        out.append(Row(key, a, b, p.kind, p.why if not safe else f"protected; {p.why}", p.sure, take))
    return out


def _proposal(data: DataFolder, recording: int, rate: Rate, key: str, d: Desk) -> Row:
    row = next((r for r in rows(data, recording, rate, d) if r.key == key), None)
    if row is None:
        raise Invalid("That proposal is not there any more: the settings changed it. Choose another one.")
    return row


# Each decision reads the desk and keeps it in one transaction: two pages that decide at once lose nothing. What was done,
# in words, comes back.


def toggle(data: DataFolder, recording: int, rate: Rate, key: str) -> str:
    """Take a proposal out, or leave it in."""
    with data.db.write():
        d = desk(data, recording)
        row = _proposal(data, recording, rate, key, d)
        d.off, d.on = [k for k in d.off if k != key], [k for k in d.on if k != key]
        if row.out:
            d.off.append(key)
        elif row.kind in d.kinds_off:
            d.on.append(key)
        d.protected = [p for p in d.protected if row.out or not (p[0] < row.end and row.start < p[1])]
        put(data, recording, d)
        return "Left in." if row.out else "Taken out."


def nudge(data: DataFolder, recording: int, rate: Rate, key: str, edge: Literal["start", "end"], by: int) -> str:
    """Move an edge of a proposal by frames."""
    with data.db.write():
        d = desk(data, recording)
        row = _proposal(data, recording, rate, key, d)
        a, b = (row.start + by, row.end) if edge == "start" else (row.start, row.end + by)
        if not 0 <= a < b <= recordings.get(data.db, recording).length(rate):
            raise Invalid("There is no room to move that edge further.")
        d.moved[key] = [a, b]
        put(data, recording, d)
        return f"Edge moved by {abs(by)} frame{'s' if abs(by) != 1 else ''}."


def decide_all(data: DataFolder, recording: int, rate: Rate, kind: str, out: bool) -> str:
    """Take every proposal of a kind out, or leave them all in; what was decided of single ones is forgotten."""
    if kind not in KINDS:
        raise Invalid("There is no such kind of proposal.")
    with data.db.write():
        d = desk(data, recording)
        here = {r.key for r in rows(data, recording, rate, d) if r.kind == kind}
        d.kinds_off = [k for k in d.kinds_off if k != kind] + ([] if out else [kind])
        d.off, d.on = [k for k in d.off if k not in here], [k for k in d.on if k not in here]
        put(data, recording, d)
        return f"Every {kind} is {'taken out' if out else 'left in'}."


def protect(data: DataFolder, recording: int, start: int, end: int) -> str:
    """Nothing is taken out of frames [start, end) of the recording."""
    if end <= start:
        raise Invalid("Drag over a stretch of the recording's line first, then protect it.")
    with data.db.write():
        d = desk(data, recording)
        d.protected.append([start, end])
        put(data, recording, d)
        return "Protected: nothing is taken out there."


def reset(data: DataFolder, recording: int) -> str:
    """Take every decision back; the settings stay."""
    with data.db.write():
        put(data, recording, Desk(desk(data, recording).settings))
        return "All decisions taken back; the settings stay."


WITHIN = {"shortest": (0.05, 10.0), "before": (0.0, 5.0), "after": (0.0, 5.0), "island": (0.0, 2.0), "threshold": (-90.0, 0.0)}


def set_up(
    data: DataFolder, recording: int, values: Mapping[str, float | None], lists: Mapping[str, str], asking: str | None
) -> str:
    """Change how pauses are looked for (`values` of `Settings`, kept `WITHIN` their bounds; a threshold of None is found
    anew), the `lists` of the recording's language, and the name the interviewer stands under."""
    kept: dict[str, Any] = {k: None if v is None else within(*WITHIN[k], v) for k, v in values.items()}
    with data.db.write():
        d = desk(data, recording)
        d.settings = replace(d.settings, **kept)
        for which, text in lists.items():
            set_list(data, which, spoken(data, recordings.get(data.db, recording)).code, text)
        if asking is not None:
            kept_settings.put(data.db, "interviewer", " ".join(asking.split())[:40])
        put(data, recording, d)
        return "Settings changed."


def within(low: float, high: float, x: float) -> float:
    return min(high, max(low, x))


def left(found: Sequence[Row], start: int, end: int) -> list[tuple[int, int]]:
    """The pieces of [start, end) that stay."""
    return kept(start, end, [(r.start, r.end) for r in found if r.out])


@dataclass(frozen=True, slots=True)
class StoryCut:
    """A stretch [at, end) of the story that a decision would take out of it."""

    at: int
    end: int
    recording: int
    row: Row

    @property
    def length(self) -> int:
        return self.end - self.at


def story_cuts(data: DataFolder, story: Story, only: int | None = None, d: Desk | None = None) -> list[StoryCut]:
    """All that is decided to go and stands in the story, in its order (`only` of one recording, by desk `d` if given)."""
    out: list[StoryCut] = []
    known: dict[int, list[Row]] = {}
    for at, p in zip(story.starts, story.pieces, strict=False):
        if p.source is None or (only is not None and p.source != only) or not p.clock.as_shot:
            continue
        if p.source not in known:
            known[p.source] = [r for r in rows(data, p.source, story.rate, d) if r.out]
        for r in known[p.source]:
            a, b = max(r.start, p.start), min(r.end, p.end)
            if b > a and (a > p.start or b < p.end):
                out.append(StoryCut(at + a - p.start, at + b - p.start, p.source, r))
    return sorted(out, key=lambda c: (c.at, c.end))


def in_story(data: DataFolder, story: Story, only: int | None = None, d: Desk | None = None) -> list[list[int]]:
    """Stretches of the story to take out, apart from each other."""
    return apart(story_cuts(data, story, only, d))


def apart(cuts: Sequence[StoryCut]) -> list[list[int]]:
    """Cuts in order as stretches [a, b): those that touch or overlap are one."""
    out: list[list[int]] = []
    for c in cuts:
        if out and c.at <= out[-1][1]:
            out[-1][1] = max(c.end, out[-1][1])
        else:
            out.append([c.at, c.end])
    return out


def as_csv(found: Sequence[Row], rate: Rate) -> str:
    """What is proposed and decided, as CSV."""
    out = io.StringIO()
    sheet = csv.writer(out)
    sheet.writerow(["start", "end", "length", "kind", "why", "sure", "decision"])
    for r in found:
        times = [format_timecode(f, rate) for f in (r.start, r.end, r.length)]
        sheet.writerow([*times, r.kind, r.why, r.sure, "take out" if r.out else "leave in"])
    return out.getvalue()


@dataclass(frozen=True, slots=True)
class Sums:
    """Lengths before and after in frames, what is saved, and the jump cuts it makes."""

    before: int
    after: int
    saved: int
    jumps: int


def saved(pieces: Sequence[tuple[int, int]], start: int, end: int) -> Sums:
    """What it comes to when of [start, end) only `pieces` stay."""
    after = sum(b - a for a, b in pieces)
    return Sums(end - start, after, end - start - after, max(0, len(pieces) - 1))
