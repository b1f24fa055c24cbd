"""A first radio cut to judge: whole sentences of chosen themes, to a length, nothing told twice.

sentences   [a] · [b][c] · [d]  ·  [e]      · a proven pause: only there a cut may lie
bites       a, bc, abc, d, ...              runs of whole sentences from one pause to another
the cut     bc  e  ...                      by worth, less what is said already (maximal marginal relevance)
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from kovel.core.errors import Told
from kovel.core.words.nearness import Said
from kovel.core.words.small_words import LEANING, SOMEBODY
from kovel.core.words.writing import plain

Floats = npt.NDArray[np.float32]
Order = Literal["theme", "time"]
NAMED = 4  # words within which somebody has to be named
MOST = 6  # sentences of a bite
SHORTEST, LONGEST = 2 * 48_000, 30 * 48_000  # samples of one
NEW = (
    0.45  # how much what is new counts beside what is worth it (Carbonell and Goldstein 1998 weigh both by one number)
)
WITHIN = 0.03  # of the target: what is aimed at; 0.05 is what is promised
SAME = 0.62  # mean cosine over which two sentences are taken to say the same
KEPT = {"keep": 0.25, "maybe": 0.08, "": 0.0}  # what a verdict in the log adds


class TooLittle(Told, ValueError):
    """There is not so much to tell."""


@dataclass(frozen=True, slots=True)
class Sentence:
    """A sentence that can be told: its theme and how near to its middle it is; where it can be cut before and after
    (samples; None: no pause there); what the log says of it; how fluent it is, 0 to 1."""

    said: Said
    theme: int
    near: float
    before: int | None
    after: int | None
    verdict: str = ""
    fluent: float = 1.0


@dataclass(frozen=True, slots=True)
class Bite:
    """Sentences [first, last) as one piece: samples [start, end) of a recording; its worth, and whether it stands on
    its own."""

    first: int
    last: int
    start: int
    end: int
    worth: float
    alone: bool

    @property
    def length(self) -> int:
        """Length in frames."""
        return self.end - self.start


@dataclass(frozen=True, slots=True)
class Chosen:
    """A bite of the cut and why it is in it."""

    bite: Bite
    theme: int
    why: str


def alone(text: str) -> bool:
    """Whether a sentence stands on its own: it does not begin by leaning on the one before, says who is meant, and
    is more than a word or two."""
    words = [plain(word) for word in text.split()]
    return len(words) >= 4 and words[0] not in LEANING and not SOMEBODY & set(words[:NAMED])


def bites(sentences: Sequence[Sentence]) -> list[Bite]:
    """Every run of whole sentences of one statement of one theme from one proven pause to another. `sentences` by
    recording and time."""
    chosen_bites = []
    for index, sentence in enumerate(sentences):
        if sentence.before is None or sentence.verdict == "drop":
            continue
        for end_index in range(index, min(len(sentences), index + MOST)):
            t = sentences[end_index]
            if (t.said.recording, t.said.speaker, t.theme) != (
                sentence.said.recording,
                sentence.said.speaker,
                sentence.theme,
            ) or t.verdict == "drop":
                break
            if end_index > index and t.said.start - sentences[end_index - 1].said.end > 3 * 48_000:
                break
            if t.after is None or not SHORTEST <= t.after - sentence.before <= LONGEST:
                continue
            some = sentences[index : end_index + 1]
            worth = float(
                np.mean([sentence.near + KEPT[sentence.verdict] + 0.15 * (sentence.fluent - 1) for sentence in some])
            )
            on_its_own = alone(sentence.said.text)
            chosen_bites.append(
                Bite(index, end_index + 1, sentence.before, t.after, worth - (0 if on_its_own else 0.12), on_its_own)
            )
    return chosen_bites


def proposal(
    sentences: Sequence[Sentence],
    meaning: Floats,
    target: int,
    themes: Sequence[int],
    retold: Collection[tuple[int, int]] = (),
    better: Mapping[tuple[int, int], int] | None = None,
    order: Order = "theme",
) -> list[Chosen]:
    """Bites of about `target` samples in all, in their order, each with its reason.

    `sentences`: those of the themes by recording and time, without questions; `meaning` theirs, (n, WIDTH); `retold`:
    pairs of rows that tell the same, `better` which of them was picked. `TooLittle` where there is not so much to
    tell.
    """
    worse = {(set(key) - {b}).pop() for key, b in (better or {}).items()}
    cut_there = _Cut(
        sentences, meaning, [bite for bite in bites(sentences) if not worse & set(range(bite.first, bite.last))], retold
    )
    while (bite_index := cut_there.next(target)) is not None:
        cut_there.take(bite_index)
    cut_there.fit(target)
    if not cut_there.bites or abs(cut_there.length - target) > 0.05 * target:
        most = cut_there.length / 48_000
        raise TooLittle(
            f"Of these themes {most:.0f} s can be told in whole sentences without telling anything twice; "
            f"{target / 48_000:.0f} s were "
            "asked for. Choose more themes, or another length."
        )
    return cut_there.told(_in_order(cut_there.bites, sentences, themes, order), themes)


class _Cut:
    """What is chosen so far of the bites that were found, and what it says."""

    def __init__(
        self,
        sentences: Sequence[Sentence],
        meaning: Floats,
        found_bites: Sequence[Bite],
        same: Collection[tuple[int, int]],
    ) -> None:
        self.rows, self.found = sentences, found_bites
        unit = meaning / np.maximum(np.linalg.norm(meaning, axis=1, keepdims=True), 1e-9)
        self.like: Floats = unit @ unit.T
        self.twice: dict[int, set[int]] = {}
        for start, end in same:
            self.twice.setdefault(start, set()).add(end)
            self.twice.setdefault(end, set()).add(start)
        self.people: dict[tuple[int, str], int] = {}
        self.first = np.array([bite.first for bite in found_bites], int)
        self.count = np.array([bite.last - bite.first for bite in found_bites], int)
        self.length_of = np.array([bite.length for bite in found_bites], int)
        self.worth = np.array([bite.worth for bite in found_bites], float)
        self.on_its_own = np.array([bite.alone for bite in found_bites], bool)
        self.who = np.array([self._number(self._who(bite)) for bite in found_bites], int)
        self.theme = np.array([sentences[bite.first].theme for bite in found_bites], int)
        step = np.arange(MOST)
        self.inside = step < self.count[:, None]  # (bites, MOST): which of a bite's sentences there are
        self.at = np.minimum(self.first[:, None] + step, max(0, len(sentences) - 1))
        self.blocked = np.zeros(len(found_bites), bool)  # says what a chosen one says
        self.near = np.zeros(len(found_bites))  # how alike the most alike of the chosen ones is
        self.chosen: list[int] = []

    @property
    def bites(self) -> list[Bite]:
        """The bites chosen so far, in the order they were chosen."""
        return [self.found[bite_index] for bite_index in self.chosen]

    @property
    def length(self) -> int:
        """Their length, in frames."""
        return int(self.length_of[self.chosen].sum()) if self.chosen else 0

    def _who(self, bite: Bite) -> tuple[int, str]:
        spoken = self.rows[bite.first].said
        return (0 if spoken.speaker else spoken.recording, spoken.speaker)

    def _number(self, who: tuple[int, str]) -> int:
        return self.people.setdefault(who, len(self.people))

    def repeats(self, k: int) -> npt.NDArray[np.bool_]:
        """Which of the bites say what bite `k` says: the same sentence, one told twice, or one of the same meaning."""
        bite = self.found[k]
        alike = self.like[:, bite.first : bite.last].max(1) > SAME
        for sentence_index in range(bite.first, bite.last):
            alike[[sentence_index, *self.twice.get(sentence_index, ())]] = True
        return np.asarray((alike[self.at] & self.inside).any(1))

    def next(self, target: int) -> int | None:
        """The best bite that still fits; the first of a speaker stands on its own."""
        if not len(self.found):
            return None
        total = max(1, self.length)
        spoken, told_times = np.zeros(len(self.found)), np.zeros(len(self.found))
        heard_already = np.zeros(len(self.found), bool)
        for chosen_bite in self.chosen:
            spoken[self.who == self.who[chosen_bite]] += self.length_of[chosen_bite] / total
            told_times[self.theme == self.theme[chosen_bite]] += self.length_of[chosen_bite] / total
            heard_already |= self.who == self.who[chosen_bite]
        gain = self.worth - NEW * self.near - 0.1 * spoken - 0.15 * told_times
        fits = (
            (self.length_of <= target * (1 + WITHIN) - self.length) & (self.on_its_own | heard_already) & ~self.blocked
        )
        return int(np.argmax(np.where(fits, gain, -np.inf))) if fits.any() else None

    def take(self, k: int) -> None:
        """Chooses one more bite; those that repeat it are out."""
        self.chosen.append(k)
        self.blocked |= self.repeats(k)
        bite = self.found[k]
        mean = self.like[:, bite.first : bite.last].mean(1)
        self.near = np.maximum(self.near, np.where(self.inside, mean[self.at], 0).sum(1) / np.maximum(1, self.count))

    def fit(self, target: int) -> None:
        """Exchange, add or leave out bites, one at a time, as long as it comes nearer to the length: first what
        costs least."""
        for _ in range(40):
            off = abs(self.length - target)
            if off <= WITHIN * target or not self.chosen:
                return
            best = self._nearer(target, off)
            if best is None:
                return
            self.chosen = best

    def _nearer(self, target: int, off: int) -> list[int] | None:
        """The choice with one bite exchanged, added or left out that comes nearer than `off` to the length at the least
        cost; None where none does."""
        clash = np.array([self.repeats(bite) for bite in self.chosen])  # (chosen, bites)
        best, cost = None, np.inf
        for place, taken_out in enumerate([*self.chosen, None]):  # which one goes; None: none does
            other_bites = self.chosen[:place] + self.chosen[place + 1 :]
            base = self.length - (0 if taken_out is None else int(self.length_of[taken_out]))
            lost = 0.0 if taken_out is None else float(self.worth[taken_out])
            free = ~(clash if taken_out is None else np.delete(clash, place, 0)).any(0)
            new_distance = np.abs(base + self.length_of - target)
            price = np.where(free & (new_distance < off), new_distance / target + 0.2 * (lost - self.worth), np.inf)
            for bite in np.argsort(price, kind="stable")[:8].tolist():
                if price[bite] < cost and self._stands([*other_bites, bite]):
                    best, cost = [*other_bites, bite], float(price[bite])
            left_out = abs(base - target) / target + 0.2 * lost
            if abs(base - target) < off and left_out < cost and self._stands(other_bites):
                best, cost = other_bites, left_out
        return best

    def _stands(self, some: Sequence[int]) -> bool:
        """Whether each speaker has a bite that stands on its own."""
        return {int(self.who[bite_index]) for bite_index in some} == {
            int(self.who[bite_index]) for bite_index in some if self.on_its_own[bite_index]
        }

    def told(self, order: Sequence[Bite], themes: Sequence[int]) -> list[Chosen]:
        """The bites in order, each with why it was chosen."""
        told_lines, heard_already = [], set()
        for bite in order:
            some = self.rows[bite.first : bite.last]
            parts = [f"{len(some)} sentence{'s' if len(some) > 1 else ''}, {bite.length / 48_000:.1f} s"]
            parts.append(
                "near the middle of the theme"
                if np.mean([sentence.near for sentence in some]) > 0.5
                else "at the edge of the theme"
            )
            if any(sentence.verdict == "keep" for sentence in some):
                parts.append("kept in the log")
            if self._who(bite) not in heard_already:
                parts.append("brings the speaker in: it stands on its own")
            if any(sentence_index in self.twice for sentence_index in range(bite.first, bite.last)):
                parts.append("told twice: the other telling is left out")
            heard_already.add(self._who(bite))
            told_lines.append(Chosen(bite, self.rows[bite.first].theme, "; ".join(parts)))
        return told_lines


def _in_order(chosen: Sequence[Bite], sentences: Sequence[Sentence], themes: Sequence[int], order: Order) -> list[Bite]:
    """By theme as they were chosen, or by time; the first bite of each speaker stands on its own."""
    rank = {theme: index for index, theme in enumerate(themes)}

    def place(bite: Bite) -> tuple[int, int]:
        return (rank.get(sentences[bite.first].theme, len(rank)) if order == "theme" else 0, bite.first)

    bites_left, bites_in_order = sorted(chosen, key=place), []
    heard_already: set[tuple[int, str]] = set()
    while bites_left:

        def ready(bite: Bite) -> bool:
            spoken = sentences[bite.first].said
            return bite.alone or (0 if spoken.speaker else spoken.recording, spoken.speaker) in heard_already

        bite = next((bite for bite in bites_left if ready(bite)), bites_left[0])
        bites_left.remove(bite)
        spoken = sentences[bite.first].said
        heard_already.add((0 if spoken.speaker else spoken.recording, spoken.speaker))
        bites_in_order.append(bite)
    return bites_in_order
