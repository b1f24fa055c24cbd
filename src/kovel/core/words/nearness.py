"""Sentences of like meaning, ranked for a question.

Each sentence has a row of numbers (media.meaning makes them): MANY of a model of many languages, ENGLISH of an English
one. What stands beside a sentence in the same answer says what it is about as well, so it counts too:

    answer     [My boy had polio.] [They kept him behind glass, I could only wave.] [He walked with an iron ...]
    likeness         0.51   ────────▶          0.20 + AROUND * (0.51 + 0.32) / 2          ◀──── 0.32
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from kovel.core.words import languages
from kovel.core.words.writing import plain

MANY, ENGLISH = 512, 384  # numbers a sentence has of the model of many languages, and of the English one
WIDTH = MANY + ENGLISH
AROUND = 0.4  # how much the sentences beside one count (found on 60 questions: 0.3 to 0.4 alike)
NEAR = 0.18  # likeness by the model of many languages under which nothing is found (measured on the demo)
ENGLISH_NEAR = 0.22  # and by the English one
TURN = 3 * 48_000  # samples without a word after which another answer begins
Floats = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Said:
    """A sentence with its place: samples of its recording, who says it, what."""

    recording: int
    start: int
    end: int
    speaker: str
    text: str


def content(text: str) -> str:
    """What of a sentence is asked for its meaning: without fillers, and without words said twice in a row."""
    lines: list[str] = []
    for word in text.split():
        bare = plain(word)
        if bare in languages.HESITATIONS or (lines and bare and bare == plain(lines[-1])):
            continue
        lines.append(word)
    return " ".join(lines).strip(" ,") or text


def foreign(text: str) -> bool:
    """Whether a question is in another language than English, as far as its small words and letters tell."""
    words = re.findall(r"[^\W\d_]+|¿", text.casefold())
    other = sum(word in languages.OTHER for word in words)
    ours = sum(word in languages.ENGLISH_ALONE for word in words)
    return other > ours or (other == ours and any(ord(ch) > 127 and ch.isalpha() for ch in text))


def alike(asked: Floats, sentence_vectors: Floats, english: bool) -> Floats:
    """How alike in meaning a question, (WIDTH,), and each sentence, (n, WIDTH), are; both models' cosines added.
    `english` False: the question is in another language, which the English model knows nothing of."""
    many = sentence_vectors[:, :MANY] @ asked[:MANY]
    likeness_of_all: Floats = many + sentence_vectors[:, MANY:] @ asked[MANY:] if english else many
    return likeness_of_all


def with_context(likeness: Floats, same: npt.NDArray[np.bool_]) -> Floats:
    """Likeness with that of the neighbours in the same answer; `same[i]`: sentence i + 1 is of the answer that i is
    of."""
    if len(likeness) < 2:
        return likeness
    near = np.zeros_like(likeness)
    count = np.zeros_like(likeness)
    near[:-1] += np.where(same, likeness[1:], 0)
    near[1:] += np.where(same, likeness[:-1], 0)
    count[:-1] += same
    count[1:] += same
    likeness_around: Floats = (likeness + AROUND * near / np.maximum(count, 1)).astype(np.float32)
    return likeness_around


def same_answer(sentences_said: Sequence[Said]) -> npt.NDArray[np.bool_]:
    """For each sentence but the last: whether the next one is of the same answer (recording, speaker, no long
    pause)."""
    return np.array(
        [
            spoken.recording == sentence.recording
            and spoken.speaker == sentence.speaker
            and sentence.start - spoken.end < TURN
            for spoken, sentence in pairwise(sentences_said)
        ],
        bool,
    )


def nearest(
    asked: Floats, sentence_vectors: Floats, same: npt.NDArray[np.bool_], question: str, most: int
) -> list[tuple[int, float]]:
    """The sentences nearest in meaning to a question, best first: (index, likeness). Those that are about something
    else are left out, however few are left."""
    if not len(sentence_vectors):
        return []
    english = not foreign(question) and bool(np.any(asked[MANY:]))
    score = with_context(alike(asked, sentence_vectors, english), same)
    many = with_context(sentence_vectors[:, :MANY] @ asked[:MANY], same)
    near = many >= NEAR
    if english:
        near |= with_context(sentence_vectors[:, MANY:] @ asked[MANY:], same) >= ENGLISH_NEAR
    order = np.argsort(-np.where(near, score, -9), kind="stable")[:most]
    return [(int(sentence_index), float(score[sentence_index])) for sentence_index in order if near[sentence_index]]
