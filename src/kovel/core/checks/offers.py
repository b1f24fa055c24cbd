"""What could take the jolt out of an exposed jump: a cover from the shelf, another camera, a punch-in, a dissolve."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kovel.core.story.edit_rules import frames_in_words
from kovel.core.story.fitted_transitions import longest
from kovel.core.story.model import Sources, Story
from kovel.core.story.seams import SPARE, Seam, seams
from kovel.core.story.sync import same_moment
from kovel.core.words.transcript import Word

NEAR = 0.2  # in meaning, from which on a shot is told to be near
SMALL = {
    "the",
    "and",
    "that",
    "this",
    "with",
    "for",
    "was",
    "were",
    "you",
    "they",
    "have",
    "had",
    "are",
    "but",
    "not",
    "from",
    "what",
    "she",
    "his",
    "her",
    "our",
    "one",
    "out",
    "all",
    "its",
    "into",
    "then",
}


@dataclass(frozen=True, slots=True)
class Shot:
    """Something on the shelf to cover with; `text` is its name, tags and note."""

    source: int
    start: int
    length: int
    name: str
    text: str
    used: int = 0
    near: float = 0.0  # how near it is in meaning to what is said there, 0 to 1


@dataclass(frozen=True, slots=True)
class Offer:
    """One way out, as a command with its parameters, and why it is offered."""

    kind: str
    name: str
    why: str
    command: str
    params: Mapping[str, Any]
    score: float = 0.0


def stems(text: str) -> set[str]:
    """Words without their endings, roughly: enough that `boats` meets `boat`, `hauling` `haul` and `ferries` `ferry`
    (y becomes i, as in Porter 1980)."""
    found_stems = set()
    for word in re.findall(r"[^\W\d_]{3,}", text.lower()):
        if word not in SMALL:
            bare = re.sub(r"(ings?|ed|es|s|e)$", "", word) if len(word) > 4 else word.removesuffix("s")
            found_stems.add(re.sub(r"(?<=...)y$", "i", bare))
    return found_stems


def cover_span(story: Story, seam: int, edges: Sequence[int], most: int) -> tuple[int, int] | None:
    """Where a cover of 3 to 4 s over a seam begins and ends: at word edges, some frames clear of it on both sides.

    words   |we |haul| it |by  |hand|two|of us|
    seam                ^
    cover       [────────────────────────)
    """
    fps = float(story.rate.fps)
    first, last = max(0.0, seam - 3 * fps), seam - SPARE
    starts = [edge for edge in edges if first <= edge <= last] or [max(0, seam - int(fps))]
    spans: list[tuple[int, int]] = []
    for start in starts:
        latest = min(story.length, start + min(most, int(4.5 * fps)))
        ends = [edge for edge in edges if seam + SPARE <= edge <= latest]
        spans += [(start, end) for end in ends or [min(story.length, start + min(most, int(3.5 * fps)))]]

    def cost(span: tuple[int, int]) -> float:
        start, end = span
        return abs((end - start) / fps - 3.5) + abs((seam - start) / fps - 1.2) * 0.5

    clear = [(a, b) for a, b in spans if a <= seam - SPARE and seam + SPARE <= b <= a + most]
    return min(clear, key=cost, default=None)


def worth_of(shot: Shot, shared: Collection[str]) -> float:
    """What a shot is worth over words with which it shares these word stems: more the more it has to do with them,
    less for every use."""
    return 2.0 * len(shared) + (4.0 * shot.near if shot.near >= NEAR else 0.0) - 1.5 * shot.used


def meeting_in_words(shot: Shot, shared: Collection[str]) -> str:
    """What a shot has to do with what is said; empty where nothing."""
    if shared:
        return f"meets “{', '.join(sorted(shared))}”"
    return "near in meaning" if shot.near >= NEAR else ""


def use_in_words(shot: Shot) -> str:
    """How often a shot is in the story already."""
    if not shot.used:
        return "not used yet"
    return f"used {shot.used} times" if shot.used > 1 else "used once"


def offers(
    story: Story, sources: Sources, seam: Seam, shots: Iterable[Shot], words: Sequence[tuple[int, int, Word]]
) -> list[Offer]:
    """Ways to treat an exposed jump, best first. `words` are (first, last frame in the story, word) around it."""
    frame_rate = story.rate
    near = stems(
        " ".join(word.text for start, end, word in words if abs((start + end) // 2 - seam.at) < 8 * frame_rate.fps)
    )
    edges = sorted({span_edge for start, end, _ in words for span_edge in (start, end)})
    all_offers: list[Offer] = []
    for shot in shots:
        span = cover_span(story, seam.at, edges, shot.length)
        if span is None:
            continue
        shared = stems(shot.text) & near
        score = worth_of(shot, shared) + (0.5 if shot.length >= 3 * frame_rate.fps else -1)
        why = ", ".join(reason for reason in (meeting_in_words(shot, shared), use_in_words(shot)) if reason)
        start = shot.start + max(0, (shot.length - (span[1] - span[0])) // 3)
        params = {"source": shot.source, "at": span[0], "until": span[1], "start": start}
        all_offers.append(Offer("cover", shot.name, why, "lay_cover", params, score))
    all_offers.sort(key=lambda o: -o.score)
    all_offers = all_offers[:3]
    # a word's edge a little before the jump, so that it is hidden with frames to spare
    lead = [
        edge
        for edge in edges
        if seam.at - 2 * frame_rate.fps <= edge <= seam.at - SPARE
        and edge >= story.starts[story.index_of(seam.left.id)]
    ]
    begin = lead[-1] if lead else max(story.starts[story.index_of(seam.left.id)], seam.at - round(frame_rate.fps))
    all_offers = [*angles(story, sources, begin, pauses_between(words)), *all_offers]
    index = story.index_of(seam.right.id)
    before = round(story.value_at(seam.left, "zoom", sources, seam.ends[0] - 1))
    zoom = 100 if before >= 120 else min(300, round(before * 1.25))
    all_offers.append(
        Offer(
            "punch-in",
            f"Show the second piece at {zoom} %",
            "another framing of the same shot",
            "set_value",
            {"to": seam.right.id, "setting": "zoom", "value": zoom},
        )
    )
    most = min(longest(story, sources, index, "dissolve"), round(frame_rate.fps * 3 / 5))
    if most >= 4:
        all_offers.append(
            Offer(
                "soft cut",
                f"Dissolve over {frames_in_words(most)}",
                "takes the jolt out, and is seen as one",
                "set_blend",
                {"piece": seam.right.id, "blend": "dissolve", "length": most},
            )
        )
    return all_offers


def pauses_between(words: Sequence[tuple[int, int, Word]], shortest: int = 4) -> list[int]:
    """Story frames at which a word ends and nobody speaks for `shortest` frames or more."""
    spans = sorted((start, end) for start, end, _ in words)
    ends = sorted(end for _, end in spans)
    return [end for end in ends if not any(begin < end + shortest and until > end for begin, until in spans)]


def _angle_end(story: Story, sources: Sources, begin: int, edges: Sequence[int], length: int | None) -> tuple[int, int]:
    """(the jump that another camera laid from `begin` on hides, or 0; where it ends if it is long enough)."""
    until = begin + (length or round(5 * story.rate.fps))
    jumps = (seam.at for seam in seams(story, sources) if seam.kind in ("jump", "covered"))
    jump = next((at for at in jumps if begin < at < until + SPARE), 0)
    until = max(until, jump + SPARE)
    return jump, next((edge for edge in edges if until <= edge <= until + 2 * story.rate.fps), until)


def angles(
    story: Story, sources: Sources, begin: int, edges: Sequence[int] = (), length: int | None = None
) -> list[Offer]:
    """The same moment from the other cameras of the sync set, over what stands from story frame `begin` on.

    A cutaway to another angle is 5 s at first (common practice). It runs over a jump that lies in it or just behind,
    and on to the next of `edges`, pauses, where one follows within two seconds, also beyond its piece.

    talk    | A           | A' jumps    |..pause..
    angle      [──────────────────────────)
    """
    frame_rate = story.rate
    if not 0 <= begin < story.length:
        return []
    index = story.index_at(begin)
    piece = story.pieces[index]
    if piece.source is None or piece.source not in sources:
        return []
    other_angles = []
    jump, aimed = _angle_end(story, sources, begin, edges, length)
    for source in sources.values():
        frame = same_moment(sources[piece.source], source, piece.moment(begin - story.starts[index]), frame_rate)
        total = source.length(frame_rate)
        if frame is None or source.id == piece.source or not source.picture or total is None or not 0 <= frame < total:
            continue
        until = min(aimed, story.length, begin + total - frame)
        step = min(until, _in_step(story, sources, index, source.id, frame - begin))
        if until > begin:
            params = {"source": source.id, "at": begin, "until": until, "start": frame}
            why = f"the same moment, in step for {frames_in_words(step - begin)}"
            if step < until:
                why += f", then on over the {'jump' if jump else 'next piece'}"
            other_angles.append(Offer("angle", source.name, why, "lay_cover", params))
    return other_angles


def _in_step(story: Story, sources: Sources, i: int, other: int, shift: int) -> int:
    """The story frame up to which the other camera stays in step with the pieces from index i on."""
    end = story.starts[i + 1]
    for later_index in range(i + 1, len(story.pieces)):
        piece = story.pieces[later_index]
        if piece.source is None or piece.source not in sources:
            break
        frame = same_moment(sources[piece.source], sources[other], piece.moment(0), story.rate)
        if frame is None or abs(frame - (story.starts[later_index] + shift)) > 0:
            break
        end = story.starts[later_index + 1]
    return end
