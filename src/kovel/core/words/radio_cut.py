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
    out = []
    for index, sentence in enumerate(sentences):
        if sentence.before is None or sentence.verdict == "drop":
            continue
        for j in range(index, min(len(sentences), index + MOST)):
            t = sentences[j]
            if (t.said.recording, t.said.speaker, t.theme) != (
                sentence.said.recording,
                sentence.said.speaker,
                sentence.theme,
            ) or t.verdict == "drop":
                break
            if j > index and t.said.start - sentences[j - 1].said.end > 3 * 48_000:
                break
            if t.after is None or not SHORTEST <= t.after - sentence.before <= LONGEST:
                continue
            some = sentences[index : j + 1]
            worth = float(
                np.mean([sentence.near + KEPT[sentence.verdict] + 0.15 * (sentence.fluent - 1) for sentence in some])
            )
            on_its_own = alone(sentence.said.text)
            out.append(Bite(index, j + 1, sentence.before, t.after, worth - (0 if on_its_own else 0.12), on_its_own))
    return out


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
    cut = _Cut(
        sentences, meaning, [bite for bite in bites(sentences) if not worse & set(range(bite.first, bite.last))], retold
    )
    while (k := cut.next(target)) is not None:
        cut.take(k)
    cut.fit(target)
    if not cut.bites or abs(cut.length - target) > 0.05 * target:
        most = cut.length / 48_000
        raise TooLittle(
            f"Of these themes {most:.0f} s can be told in whole sentences without telling anything twice; "
            f"{target / 48_000:.0f} s were "
            "asked for. Choose more themes, or another length."
        )
    return cut.told(_in_order(cut.bites, sentences, themes, order), themes)


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
        return [self.found[k] for k in self.chosen]

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
        for i in range(bite.first, bite.last):
            alike[[i, *self.twice.get(i, ())]] = True
        return np.asarray((alike[self.at] & self.inside).any(1))

    def next(self, target: int) -> int | None:
        """The best bite that still fits; the first of a speaker stands on its own."""
        if not len(self.found):
            return None
        total = max(1, self.length)
        spoken, told = np.zeros(len(self.found)), np.zeros(len(self.found))
        heard = np.zeros(len(self.found), bool)
        for c in self.chosen:
            spoken[self.who == self.who[c]] += self.length_of[c] / total
            told[self.theme == self.theme[c]] += self.length_of[c] / total
            heard |= self.who == self.who[c]
        gain = self.worth - NEW * self.near - 0.1 * spoken - 0.15 * told
        fits = (self.length_of <= target * (1 + WITHIN) - self.length) & (self.on_its_own | heard) & ~self.blocked
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
        for place, out in enumerate([*self.chosen, None]):  # which one goes; None: none does
            rest = self.chosen[:place] + self.chosen[place + 1 :]
            base = self.length - (0 if out is None else int(self.length_of[out]))
            lost = 0.0 if out is None else float(self.worth[out])
            free = ~(clash if out is None else np.delete(clash, place, 0)).any(0)
            new = np.abs(base + self.length_of - target)
            price = np.where(free & (new < off), new / target + 0.2 * (lost - self.worth), np.inf)
            for bite in np.argsort(price, kind="stable")[:8].tolist():
                if price[bite] < cost and self._stands([*rest, bite]):
                    best, cost = [*rest, bite], float(price[bite])
            left_out = abs(base - target) / target + 0.2 * lost
            if abs(base - target) < off and left_out < cost and self._stands(rest):
                best, cost = rest, left_out
        return best

    def _stands(self, some: Sequence[int]) -> bool:
        """Whether each speaker has a bite that stands on its own."""
        return {int(self.who[k]) for k in some} == {int(self.who[k]) for k in some if self.on_its_own[k]}

    def told(self, order: Sequence[Bite], themes: Sequence[int]) -> list[Chosen]:
        """The bites in order, each with why it was chosen."""
        out, heard = [], set()
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
            if self._who(bite) not in heard:
                parts.append("brings the speaker in: it stands on its own")
            if any(i in self.twice for i in range(bite.first, bite.last)):
                parts.append("told twice: the other telling is left out")
            heard.add(self._who(bite))
            out.append(Chosen(bite, self.rows[bite.first].theme, "; ".join(parts)))
        return out


def _in_order(chosen: Sequence[Bite], sentences: Sequence[Sentence], themes: Sequence[int], order: Order) -> list[Bite]:
    """By theme as they were chosen, or by time; the first bite of each speaker stands on its own."""
    rank = {theme: index for index, theme in enumerate(themes)}

    def place(bite: Bite) -> tuple[int, int]:
        return (rank.get(sentences[bite.first].theme, len(rank)) if order == "theme" else 0, bite.first)

    left, out = sorted(chosen, key=place), []
    heard: set[tuple[int, str]] = set()
    while left:

        def ready(bite: Bite) -> bool:
            spoken = sentences[bite.first].said
            return bite.alone or (0 if spoken.speaker else spoken.recording, spoken.speaker) in heard

        bite = next((bite for bite in left if ready(bite)), left[0])
        left.remove(bite)
        spoken = sentences[bite.first].said
        heard.add((0 if spoken.speaker else spoken.recording, spoken.speaker))
        out.append(bite)
    return out
