"""What to look at before a story goes out, worst first: jumps, flashes, cut words, loose ends. One function a check;
a new one is a function and its place in CHECKS."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from kovel.core.checks.cover_checks import COVER_CHECKS
from kovel.core.checks.findings import Finding
from kovel.core.checks.looked_at import LookedAt
from kovel.core.story.edit_rules import capitalised, frames_in_words, name_of
from kovel.core.story.fitted_transitions import handles_at_seam
from kovel.core.story.marks import sections
from kovel.core.story.model import Sources, Story
from kovel.core.story.seams import Seam

STEP = 8  # dB from which a change of level at a cut is told
PER_CUT = ("jump", "short", "word", "step")  # what is told of a single cut


def exposed_jumps(look: LookedAt) -> Iterator[Finding]:
    """Jumps that nothing hides, the harder the worse."""
    for seam in look.seams:
        if seam.kind == "jump":
            hard = look.strength(seam)
            said_strength = f", strength {hard}" if hard is not None else ""
            text = f"Exposed jump at {look.clock(seam.at)} in {look.name(seam.left.source or 0)}{said_strength}"
            yield Finding("jump", seam.at, text, 50 + (hard or 40) // 2)


def _cuts(look: LookedAt) -> Iterator[tuple[Seam, int, int]]:
    """The seams at which one recording is cut against another, with both; what runs through or is blended is none."""
    for seam in look.seams:
        source_before, right = seam.left.source, seam.right.source
        if seam.kind not in ("through", "soft") and source_before is not None and right is not None:
            yield seam, source_before, right


def cut_words(look: LookedAt) -> Iterator[Finding]:
    """Cuts that go through a word."""
    for seam, piece_before, right in _cuts(look):
        for source, frame, side in ((piece_before, seam.ends[0], "ends"), (right, seam.ends[1], "begins")):
            if word := look.cuts_word(source, frame):
                yield Finding(
                    "word", seam.at, f"{look.name(source)} {side} inside “{word}” at {look.clock(seam.at)}", 55
                )


def steps_of_level(look: LookedAt) -> Iterator[Finding]:
    """Room tone of one recording, or the voice, that changes by more than STEP dB at a cut."""
    for seam, piece_before, right in _cuts(look):
        before, after = look.level_as_set(seam.left, seam.ends[0]), look.level_as_set(seam.right, seam.ends[1])
        if not before or not after:
            continue
        voice, tone = abs(before[0] - after[0]), abs(before[1] - after[1])
        if tone > STEP and piece_before == right:
            yield Finding("step", seam.at, f"The room tone steps by {tone:.0f} dB at {look.clock(seam.at)}", 30)
        elif voice > STEP:
            yield Finding("step", seam.at, f"The voice steps by {voice:.0f} dB at {look.clock(seam.at)}", 32)


def loose_things(look: LookedAt) -> Iterator[Finding]:
    """Covers and sounds whose word has left the story."""
    for cover in look.story.loose:
        yield Finding(
            "loose", None, f"{capitalised(name_of(look.sources, cover))} is loose: its word left the story", 60
        )
    for sound in look.story.loose_sounds:
        yield Finding("loose", None, f"{look.name(sound.source)} (sound) is loose: its word left the story", 60)


def sounds_after_the_end(look: LookedAt) -> Iterator[Finding]:
    """Sounds that are cut off where the pictures end."""
    length = look.story.length
    for sound in look.story.sounds:
        over = look.story.at(sound) + sound.length - length
        if over > 0 and not sound.settings["fade_out"]:
            text = f"{look.name(sound.source)} runs on {frames_in_words(over)} after the end; it is cut off there"
            yield Finding("runs on", length, text, 45)


def music_that_ends_early(look: LookedAt) -> Iterator[Finding]:
    """Music that ends within ten seconds of the end; a bed that ends long before is meant to (common practice, no
    source)."""
    story = look.story
    if "music" in story.muted:
        return
    ends = max((story.at(sound) + sound.length for sound in story.sounds if sound.kind == "music"), default=0)
    frames_left = story.length - ends
    if ends and 0 < frames_left < 10 * look.rate.fps:
        yield Finding("ends early", ends, f"The music ends {frames_in_words(frames_left)} before the pictures", 40)


def spaces_and_short_pieces(look: LookedAt) -> Iterator[Finding]:
    """Spaces, and pieces of under a third of a second."""
    for at, piece in zip(look.story.starts, look.story.pieces, strict=False):
        length = frames_in_words(piece.length)
        if piece.source is None and piece.card is None:
            yield Finding("space", at, f"A space of {length} at {look.clock(at)}", 25)
        elif piece.length < max(2, int(look.rate.fps / 3)):
            yield Finding("short", at, f"A piece of only {length} at {look.clock(at)}", 20)


def dissolves_without_handles(look: LookedAt) -> Iterator[Finding]:
    """Dissolves that use the last frame of a recording."""
    story = look.story
    for join in story.transitions:
        if join.length and join.blend == "dissolve" and join.left and join.right:
            number = story.index_of(join.right)
            after, before, _, _ = handles_at_seam(story, look.sources, number)
            half = join.length // 2
            if min(after - (join.length - half), before - half) == 0:
                at = story.starts[number]
                yield Finding("handle", at, f"The dissolve at {look.clock(at)} uses the last frame there is", 5)


def sections_over_their_length(look: LookedAt) -> Iterator[Finding]:
    """Sections, and the story, that are longer than the length aimed at by a tenth and a second or more (common
    practice, no source)."""
    aims = [(f"“{section.heading}”", section.target, at, end) for section, at, end in sections(look.story) if section]
    for what, target, at, end in (("The story", look.story.target, 0, look.story.length), *aims):
        over = end - at - target
        if target and over >= max(float(look.rate.fps), target / 10):
            yield Finding(
                "over length", at, f"{what} is {float(over / look.rate.fps):.0f} s over its target length", 15
            )


CHECKS: tuple[Callable[[LookedAt], Iterator[Finding]], ...] = (
    exposed_jumps,
    cut_words,
    steps_of_level,
    *COVER_CHECKS,
    loose_things,
    sounds_after_the_end,
    music_that_ends_early,
    spaces_and_short_pieces,
    dissolves_without_handles,
    sections_over_their_length,
)


def checks(
    story: Story,
    sources: Sources,
    *,
    strength: Callable[[Seam], int | None] = lambda seam: None,
    cuts_word: Callable[[int, int], str] = lambda source, frame: "",
    level: Callable[[int, int, int], tuple[float, float] | None] = lambda source, a, b: None,
) -> list[Finding]:
    """All findings, worst first, then by time. The measures are those of `LookedAt`."""
    look = LookedAt(story, sources, strength, cuts_word, level)
    all_findings = _quick_cuts_as_one(look, [finding for check in CHECKS for finding in check(look)])
    return sorted(all_findings, key=lambda f: (-f.weight, f.at if f.at is not None else -1))


def _quick_cuts_as_one(look: LookedAt, found_findings: list[Finding]) -> list[Finding]:
    """Quick cuts are meant: three or more pieces of one recording in a row, each of ten frames or less (common
    practice), are one finding, and what would be said of each of them is not."""
    pieces, starts = look.story.pieces, look.story.starts
    most = max(10, int(look.rate.fps / 3))
    first = 0
    while first < len(pieces):
        end = first
        while (
            end < len(pieces) and pieces[end].source == pieces[first].source is not None and pieces[end].length <= most
        ):
            end += 1
        if end - first >= 3:
            begins, ends = starts[first], starts[end]
            inside = [
                finding
                for finding in found_findings
                if finding.kind in PER_CUT and finding.at is not None and begins <= finding.at <= ends
            ]
            span = f"from {look.clock(begins)} to {look.clock(ends)}"
            text = f"{end - first} quick pieces of {look.name(pieces[first].source)} {span}"
            found_findings = [
                *(finding for finding in found_findings if finding not in inside),
                Finding("quick", begins, text, 15),
            ]
        first = max(end, first + 1)
    return found_findings
