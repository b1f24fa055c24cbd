"""The same thing told again, by one person or by several; and which telling is the better one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from kovel.core.words.fillers import word_proposals
from kovel.core.words.languages import ENGLISH, Language
from kovel.core.words.nearness import MANY, Said
from kovel.core.words.transcript import Word

Floats = npt.NDArray[np.float32]
CLOSE = 0.34  # of a pair: twice its likeness less how near each one's own nearest are (Conneau et al. 2018: CSLS)
PLAINLY = 0.1  # more than that, and it need not be the nearest
NEIGHBOURS, BESIDE, USUAL = (
    4,
    0.3,
    0.3,
)  # sentences on each side, how much their likeness counts, what of it is nothing special
FLOOR = 0.46  # mean cosine under which two sentences are not the same, however far all others are
AROUND = 10  # of the nearest that this is measured by
LEAST = 5  # words of a sentence that can be told twice: "Yes, I think so" is told often
BLOCK = 512


@dataclass(frozen=True, slots=True)
class Pair:
    """Two sentences that tell the same, by their indices, `a` before `b`; how alike they are, 0 to 1."""

    a: int
    b: int
    alike: float


@dataclass(frozen=True, slots=True)
class Telling:
    """How something was told: words, samples, what disturbs it (fillers, false starts, repeats), seconds of pauses
    inside, words a minute."""

    words: int
    length: int
    stumbles: int
    pauses: float
    pace: float

    @property
    def fluent(self) -> float:
        """1 for talk without a stumble, less for each in ten words and for time in which nothing is said."""
        seconds = max(self.length / 48_000, 0.1)
        return max(0.0, 1 - 5 * self.stumbles / max(1, self.words) - self.pauses / seconds)


def told_twice(said: Sequence[Said], rows: Floats, close: float = CLOSE) -> list[Pair]:
    """Pairs of sentences that tell the same, most alike first. `rows`: their meaning, (n, WIDTH).

    What is said before and after counts a little: a retelling comes among what belongs to it. Each goes with the one
    it is nearest to, or with all that are plainly the same.
    """
    worth = [
        index
        for index, spoken in enumerate(said)
        if len(spoken.text.split()) >= LEAST and not spoken.text.rstrip().endswith("?")
    ]
    if len(worth) < 2:
        return []
    halves = 2 if np.any(rows[:, MANY:]) else 1
    x = rows[worth] / np.float32(np.sqrt(halves))  # so that the product is the mean of both models' cosines
    about = _about(said, rows)[worth]
    blocks = [np.arange(a, min(len(worth), a + BLOCK)) for a in range(0, len(worth), BLOCK)]
    k = min(AROUND, len(worth) - 1)
    near = np.zeros(len(worth), np.float32)
    for some in blocks:
        s = x[some] @ x.T
        s[np.arange(len(some)), some] = -1
        near[some] = np.partition(s, -k, 1)[:, -k:].mean(1)
    best = np.zeros(len(worth), int)
    found: list[tuple[int, int, float, float]] = []
    for some in blocks:
        s = x[some] @ x.T
        score = 2 * s - near[some, None] - near[None] + BESIDE * (about[some] @ about.T - USUAL)
        score[np.arange(len(some)), some] = -9
        best[some] = score.argmax(1)
        at, other = np.nonzero((score >= close) & (s >= FLOOR) & (some[:, None] < np.arange(len(worth))[None]))
        found += [(int(some[i]), int(j), float(s[i, j]), float(score[i, j])) for i, j in zip(at, other, strict=True)]
    out = [
        Pair(worth[i], worth[j], alike)
        for i, j, alike, score in found
        if (best[i] == j and best[j] == i) or score >= close + PLAINLY
    ]
    return sorted(out, key=lambda p: -p.alike)


def _about(said: Sequence[Said], rows: Floats) -> Floats:
    """(n, WIDTH): what is said around each sentence by the same speaker, as one direction."""
    out = np.zeros_like(rows)
    for index, spoken in enumerate(said):
        around = [
            j
            for j in range(max(0, index - NEIGHBOURS), min(len(said), index + NEIGHBOURS + 1))
            if j != index and said[j].recording == spoken.recording and said[j].speaker == spoken.speaker
        ]
        if around:
            out[index] = rows[around].mean(0)
    return np.asarray(out / np.maximum(1e-9, np.linalg.norm(out, axis=1, keepdims=True)), np.float32)


def telling(words: Sequence[Word], of: Language = ENGLISH, pause: int = 24_000) -> Telling:
    """How the words of a sentence were said; pauses from half a second on count."""
    if not words:
        return Telling(0, 0, 0, 0.0, 0.0)
    length = words[-1].end - words[0].start
    gaps = [other.start - word.end for word, other in pairwise(words)]
    waits = sum(gap for gap in gaps if gap >= pause) / 48_000
    stumbles = sum(
        1 for proposal in word_proposals(words, of=of) if proposal.kind in ("filler", "voice", "repeat", "false start")
    )
    return Telling(len(words), length, stumbles, waits, len(words) * 60 * 48_000 / max(1, length))
