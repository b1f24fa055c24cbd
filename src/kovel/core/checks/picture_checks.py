"""What to look at in how a story is seen: edges that show, looks that cut off, titles too short to read or out of
sight."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from math import cos, radians, sin
from typing import Any

from kovel.core.checks.findings import Finding
from kovel.core.plan.covered import room_behind
from kovel.core.story.edit_rules import capitalised, frames_in_words, name_of
from kovel.core.story.model import TITLE, Cover, Piece, Source, Sources, Story
from kovel.core.story.settings import FILLED, LOOK
from kovel.core.time.timecode import stamp as clock

WORDS_A_SECOND = 3  # that are read, with half a second to spare (common practice, no source)
CUT_OFF = 2.0  # percent of a picture that a look may cut off before it is told
SAFE = 5.0  # percent of width and height at each edge that a title keeps free (EBU R 95)

Cut = Callable[[Piece | Cover], tuple[float, float]]  # percent of a picture cut off black and white by its look
Box = Callable[[Cover], tuple[float, float, float, float] | None]  # where the letters of a title stand, in percent


def _pictured(clip: Piece | Cover, sources: Sources) -> Source | None:
    """The recording of which a clip shows the picture; None where it shows none."""
    source = sources.get(clip.source) if clip.source is not None else None
    only_heard = isinstance(clip, Piece) and clip.take == "sound"
    return source if source is not None and source.picture and not only_heard else None


def picture_checks(story: Story, sources: Sources, ratio: float, cut: Cut, box: Box) -> list[Finding]:
    """Findings of how it is seen. `ratio` is the picture's width over its height."""
    findings: list[Finding] = []
    started_clips: list[tuple[int, Piece | Cover]] = [*zip(story.starts, story.pieces, strict=False)]
    started_clips += [
        (a, cover) for a, _, cover in story.spans if f"cover {cover.lane}" not in story.muted and a < story.length
    ]
    told_already: set[tuple[int | None, str]] = set()  # looks that were told already: one finding for each
    for at, clip in started_clips:
        if isinstance(clip, Cover) and clip.source == TITLE:
            findings += _title(story, sources, at, clip, box)
            continue
        source = _pictured(clip, sources)
        if source is None:
            continue
        if edge := _edges(partial(_read, story, sources, clip), ratio):
            text = f"The edges of {source.name} are seen at {clock(at, story.rate)}: {edge}"
            findings.append(Finding("edges", at, text, 44))
        if cut_off := _cut_off(story, sources, at, clip, cut):
            scope_key = (clip.source, f"{story.scopes(clip, sources)}")
            findings += [cut_off] if scope_key not in told_already else []
            told_already.add(scope_key)
        if isinstance(clip, Cover) and (missing := _bared(story, sources, at, clip)):
            findings.append(missing)
    return [*findings, *_edges_as_one(story, ratio)]


def _read(story: Story, sources: Sources, clip: Piece | Cover, name: str) -> Any:
    """What is set on a clip."""
    return story.value(clip, name, sources)


def _cut_off(story: Story, sources: Sources, at: int, clip: Piece | Cover, cut: Cut) -> Finding | None:
    """A look that cuts off much of a picture, black or white."""
    if not any(story.value(clip, name, sources) for name in LOOK):
        return None
    black, white = cut(clip)
    if max(black, white) <= CUT_OFF or clip.source is None:
        return None
    clipping_told = f"{white:g} % of it to white" if white >= black else f"{black:g} % of it to black"
    text = f"The look of {sources[clip.source].name} cuts off {clipping_told} at {clock(at, story.rate)}"
    return Finding("cut off", at, text, 26)


def _edges_as_one(story: Story, ratio: float) -> Iterator[Finding]:
    """Black beside a group that is seen as one picture."""
    for scope, values in story.settings:
        started_pieces = zip(story.starts, story.pieces, strict=False)
        starts = [start for start, piece in started_pieces if values["as_one"] and scope == f"group {piece.group}"]
        if starts and (edge := _edges(values.__getitem__, ratio)):
            at = clock(starts[0], story.rate)
            yield Finding("edges", starts[0], f"The edges of what is seen as one picture are seen at {at}: {edge}", 44)


def _edges(read: Callable[[str], Any], ratio: float) -> str:
    """Why black is seen beside the picture, by what is set on it; nothing where it is not."""
    zoom = read("zoom")
    least = min(zoom_there for _, zoom_there in zoom) if isinstance(zoom, tuple) else float(zoom)
    if least < 100:
        return f"shown at {least:g} %"
    if turn := abs(float(read("turn"))):
        angle = radians(turn)
        need = 100 * max(cos(angle) + sin(angle) / ratio, cos(angle) + sin(angle) * ratio) if turn <= 45 else 400.0
        if least < need - 0.5:
            return f"turned by {turn:g}°, which needs {need:.0f} %"
    return ""


def _title(story: Story, sources: Sources, at: int, cover: Cover, box: Box) -> list[Finding]:
    frame_rate, title_findings = story.rate, []
    name = capitalised(name_of(sources, cover))
    words = len(cover.title.split())
    need = round((words / WORDS_A_SECOND + 0.5) * frame_rate.fps)
    seen = min(cover.length, story.length - at)
    if seen < need and not story.value(cover, "rolls", sources):
        title_findings.append(
            Finding(
                "unread",
                at,
                f"{name} is too short to read: {frames_in_words(seen)} for {words} words, {frames_in_words(need)} "
                "would do",
                42,
            )
        )
    if story.value(cover, "filled", sources) == FILLED[1] and not _under(story, at, cover):
        title_findings.append(
            Finding(
                "unfilled", at, f"Nothing lies below {name} at {clock(at, frame_rate)} that could fill its letters", 41
            )
        )
    title_box = None if story.value(cover, "rolls", sources) else box(cover)
    if title_box and (min(title_box[:2]) < SAFE or max(title_box[2:]) > 100 - SAFE):
        title_findings.append(
            Finding("unsafe", at, f"{name} stands outside of the safe area at {clock(at, frame_rate)}", 40)
        )
    return title_findings


def _under(story: Story, at: int, cover: Cover) -> bool:
    """Whether a cover that is no title lies below it, all the time it is seen."""
    end = min(at + cover.length, story.length)
    uncovered_spans = sorted(
        (start, until)
        for start, until, other in story.spans
        if other.source != TITLE
        and other.lane < cover.lane
        and f"cover {other.lane}" not in story.muted
        and start < end
        and until > at
    )
    reached = at
    for start, until in uncovered_spans:
        reached = max(reached, until) if start <= reached else reached
    return reached >= end


def _bared(story: Story, sources: Sources, at: int, cover: Cover) -> Finding | None:
    """A dissolve between covers for which the one before has no material."""
    come = int(cover.settings["appear"])
    before = [
        other for start, end, other in story.spans if end == at and other.lane == cover.lane and other.source in sources
    ]
    if not come or not before or story.value(cover, "through", sources) == "black":
        return None
    have = min(come, room_behind(before[0], sources, story))
    if have >= come:
        return None
    text = (
        f"{name_of(sources, before[0])} ends {frames_in_words(come - max(0, have))} before the dissolve "
        f"to {name_of(sources, cover)} does, at {clock(at, story.rate)}: what is under them is seen"
    )
    return Finding("handle", at, text, 45)
