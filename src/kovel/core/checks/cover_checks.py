"""What can be wrong with covers: one function a check."""

from collections.abc import Iterator
from itertools import pairwise

from kovel.core.checks.findings import Finding
from kovel.core.checks.looked_at import LookedAt
from kovel.core.story.edit_rules import frames_in_words
from kovel.core.story.fitted_transitions import kind_of
from kovel.core.story.sync import same_moment


def flashes(look: LookedAt) -> Iterator[Finding]:
    """Less than a second between two covers reads as a flash (common practice, no source)."""
    reach = 0
    for number, (at, end, _) in enumerate(look.covers):
        if number and 0 < at - reach < int(look.rate.fps):
            text = f"A flash of {frames_in_words(at - reach)} between two covers at {look.clock(reach)}"
            yield Finding("flash", reach, text, 48)
        reach = max(reach, end)


def short_and_long_covers(look: LookedAt) -> Iterator[Finding]:
    """Under a second, or over six: 3 to 4 s is the rule of thumb (common practice, no source)."""
    for at, end, cover in look.covers:
        length, name = end - at, look.name(cover.source)
        if length < look.rate.fps:
            yield Finding("short", at, f"{name} covers only {frames_in_words(length)} at {look.clock(at)}", 35)
        elif length > 6 * look.rate.fps:
            yield Finding("long", at, f"{name} stays for {float(length / look.rate.fps):.1f} s at {look.clock(at)}", 12)


def angles_out_of_step(look: LookedAt) -> Iterator[Finding]:
    """Another camera of the moment that is heard, by less than five seconds beside that moment."""
    story, sources = look.story, look.sources
    for at, _, cover in look.covers:
        if cover.source not in sources or sources[cover.source].sync is None:
            continue
        number = story.index_at(at)
        piece = story.pieces[number]
        under = sources.get(piece.source) if piece.source is not None else None
        if (
            under is None or piece.take == "sound" or not piece.clock.as_shot
        ):  # a voice is meant to run under other pictures
            continue
        want = same_moment(under, sources[cover.source], piece.moment(at - story.starts[number]), look.rate)
        if want is not None and want != cover.start and abs(want - cover.start) < 5 * look.rate.fps:
            text = (
                f"{look.name(cover.source)} is {frames_in_words(cover.start - want)} out of step with the voice at "
                f"{look.clock(at)}"
            )
            yield Finding("angle", at, text, 65)


def bared_in_transitions(look: LookedAt) -> Iterator[Finding]:
    """A cover that begins or ends inside a dissolve, a dip or a fade bares part of it."""
    story = look.story
    last = len(story.pieces)
    for number in range(last + 1):
        join = story.transition(number) if story.transitions else None
        if not join or not join.length:
            continue
        before = join.length // 2 if 0 < number < last else 0 if number == 0 else join.length
        low = story.starts[number] - before
        high = low + join.length
        for at, end, cover in look.covers:
            begins, ends = low < at < high, low < end < high
            if begins or ends:
                edge, how = (at, "begins") if begins else (end, "ends")
                where = f"inside the {kind_of(join)} at {look.clock(edge)}"
                yield Finding("half", edge, f"{look.name(cover.source)} {how} {where}: part of it is bared", 46)


def seen_twice(look: LookedAt) -> Iterator[Finding]:
    """The same part of a shot in two covers; a still is meant to be seen again."""
    by_source: dict[int, list[tuple[int, int, int]]] = {}
    for at, _, cover in look.covers:
        by_source.setdefault(cover.source, []).append((cover.start, cover.end, at))
    for source, uses_of_source in by_source.items():
        moves = source in look.sources and look.sources[source].frames is not None
        for (_, end, first), (start, _, second) in pairwise(sorted(uses_of_source)):
            if moves and start < end:
                where = f"{look.clock(first)} and {look.clock(second)}"
                yield Finding(
                    "twice", max(first, second), f"The same part of {look.name(source)} is seen twice: {where}", 28
                )


COVER_CHECKS = (flashes, short_and_long_covers, angles_out_of_step, bared_in_transitions, seen_twice)
