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


def told_twice(said: Sequence[Said], sentence_vectors: Floats, close: float = CLOSE) -> list[Pair]:
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
    halves = 2 if np.any(sentence_vectors[:, MANY:]) else 1
    worth_vectors = sentence_vectors[worth] / np.float32(
        np.sqrt(halves)
    )  # so that the product is the mean of both models' cosines
    about = _about(said, sentence_vectors)[worth]
    blocks = [np.arange(a, min(len(worth), a + BLOCK)) for a in range(0, len(worth), BLOCK)]
    neighbours = min(AROUND, len(worth) - 1)
    near = np.zeros(len(worth), np.float32)
    for some in blocks:
        likeness = worth_vectors[some] @ worth_vectors.T
        likeness[np.arange(len(some)), some] = -1
        near[some] = np.partition(likeness, -neighbours, 1)[:, -neighbours:].mean(1)
    best = np.zeros(len(worth), int)
    pairs_found: list[tuple[int, int, float, float]] = []
    for some in blocks:
        likeness = worth_vectors[some] @ worth_vectors.T
        score = 2 * likeness - near[some, None] - near[None] + BESIDE * (about[some] @ about.T - USUAL)
        score[np.arange(len(some)), some] = -9
        best[some] = score.argmax(1)
        at, other = np.nonzero((score >= close) & (likeness >= FLOOR) & (some[:, None] < np.arange(len(worth))[None]))
        pairs_found += [
            (
                int(some[sentence_index]),
                int(other_index),
                float(likeness[sentence_index, other_index]),
                float(score[sentence_index, other_index]),
            )
            for sentence_index, other_index in zip(at, other, strict=True)
        ]
    told_pairs = [
        Pair(worth[sentence_index], worth[other_index], alike)
        for sentence_index, other_index, alike, score in pairs_found
        if (best[sentence_index] == other_index and best[other_index] == sentence_index) or score >= close + PLAINLY
    ]
    return sorted(told_pairs, key=lambda p: -p.alike)


def _about(said: Sequence[Said], sentence_vectors: Floats) -> Floats:
    """(n, WIDTH): what is said around each sentence by the same speaker, as one direction."""
    about_vectors = np.zeros_like(sentence_vectors)
    for index, spoken in enumerate(said):
        around = [
            near_index
            for near_index in range(max(0, index - NEIGHBOURS), min(len(said), index + NEIGHBOURS + 1))
            if near_index != index
            and said[near_index].recording == spoken.recording
            and said[near_index].speaker == spoken.speaker
        ]
        if around:
            about_vectors[index] = sentence_vectors[around].mean(0)
    return np.asarray(
        about_vectors / np.maximum(1e-9, np.linalg.norm(about_vectors, axis=1, keepdims=True)), np.float32
    )


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
