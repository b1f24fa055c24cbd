"""What several statements have in common: grouped by meaning, named by the words that tell a group from the others.

sentences    [a][b][c]  ?  [d][e]        of one speaker, until somebody else speaks or a long pause
statements   [ABC      ]   [DE  ]        a statement is about one thing: long ones are cut where the subject changes
themes       flood: ABC, ...   leaving: DE, ...
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import log, sqrt

import numpy as np
import numpy.typing as npt

from kovel.core.words.languages import ENGLISH, OTHER
from kovel.core.words.nearness import Said, same_answer
from kovel.core.words.small_words import TALK

Floats = npt.NDArray[np.float32]
LONGEST = 30 * 48_000  # samples of a statement
FEWEST = 2  # sentences on each side of where a long statement is cut
# Ward distance from which on two groups stay apart: about that of two directions that have nothing in common, √2
APART = 1.40
SMALL = TALK | frozenset(ENGLISH.small) | OTHER
TELLING = 14  # words of a group that are weighed for its name
WEIGHT = 0.06  # of how much a word tells, beside how near it is in meaning
MOST = 3000  # statements that are grouped at once; the rest go to the nearest group
LIKE = 0.12  # cosine over which a new statement goes to a theme that is there


@dataclass(frozen=True, slots=True)
class Statement:
    """What somebody says in one go about one thing: samples of a recording; sentences [first, last) of those it was
    made of."""

    recording: int
    start: int
    end: int
    speaker: str
    text: str
    first: int
    last: int


def statements(said: Sequence[Said], sentence_vectors: Floats) -> list[Statement]:
    """Sentences, in order of recording and time, as statements; `rows` their meaning, (n, WIDTH)."""
    same = same_answer(said)
    all_statements: list[Statement] = []
    first = 0
    for end_index in range(1, len(said) + 1):
        if end_index == len(said) or not same[end_index - 1]:
            for start, end in _parts(said, sentence_vectors, first, end_index):
                text = " ".join(spoken.text for spoken in said[start:end])
                all_statements.append(
                    Statement(
                        said[start].recording,
                        said[start].start,
                        said[end - 1].end,
                        said[start].speaker,
                        text,
                        start,
                        end,
                    )
                )
            first = end_index
    return all_statements


def _parts(said: Sequence[Said], sentence_vectors: Floats, start: int, end: int) -> list[tuple[int, int]]:
    """Where an answer is cut into statements: at the deepest change of subject, until none is too long."""
    if said[end - 1].end - said[start].start <= LONGEST or end - start < 2 * FEWEST:
        return [(start, end)]
    best = min(
        range(start + FEWEST, end - FEWEST + 1),
        key=lambda k: float(_mean(sentence_vectors[start:k]) @ _mean(sentence_vectors[k:end])),
    )
    return [*_parts(said, sentence_vectors, start, best), *_parts(said, sentence_vectors, best, end)]


def _mean(sentence_vectors: Floats) -> Floats:
    mean_row: Floats = sentence_vectors.mean(0)
    mean_vector: Floats = mean_row / max(float(np.linalg.norm(mean_row)), 1e-9)
    return mean_vector


def meant(found: Sequence[Statement], rows: Floats) -> Floats:
    """The meaning of statements, (n, WIDTH), each of length 1, less what all of them have in common."""
    if not found:
        return np.zeros((0, rows.shape[1] if rows.ndim == 2 else 0), np.float32)
    mean_rows = np.array([rows[statement.first : statement.last].mean(0) for statement in found], np.float32)
    if len(mean_rows) > 2:
        mean_rows = mean_rows - mean_rows.mean(0)
    meant_vectors: Floats = mean_rows / np.maximum(np.linalg.norm(mean_rows, axis=1, keepdims=True), 1e-9)
    return meant_vectors


def grouped(meaning: Floats) -> list[int]:
    """A group's number for each statement (Ward 1963), from 0, the largest group first."""
    from scipy.cluster.hierarchy import fcluster, ward  # slow to load: only where something is grouped

    count = len(meaning)
    if count < 2:
        return [0] * count
    labels = fcluster(ward(meaning[:MOST]), APART, "distance").tolist()
    middles = {
        label: _mean(meaning[:MOST][[index for index, own_label in enumerate(labels) if own_label == label]])
        for label in set(labels)
    }
    labels += [max(middles, key=lambda g: float(middles[g] @ meaning_row)) for meaning_row in meaning[MOST:]]
    order = {label: index for index, (label, _) in enumerate(Counter(labels).most_common())}
    return [order[label] for label in labels]


def nearest_theme(row: Floats, middles: Mapping[int, Floats]) -> int | None:
    """The theme whose statements mean most alike; None where none does."""
    best = max(middles, key=lambda t: float(middles[t] @ row), default=None)
    return best if best is not None and float(middles[best] @ row) >= LIKE else None


def words_of(text: str) -> list[str]:
    """The words of a text that can name a theme."""
    found_words = re.findall(r"[^\W\d_][\w'\u2019-]+", text.casefold())
    return [w for w in found_words if w not in SMALL]


def names(
    texts: Sequence[str],
    groups: Sequence[int],
    meaning: Floats | None = None,
    words: Mapping[str, Floats] | None = None,
    count: int = 3,
) -> dict[int, str]:
    """A name for each group: of the words that tell it from all others (their log odds with the whole as prior:
    Monroe, Colaresi and Quinn 2008) those that mean most alike to it. `meaning`: of the texts, (n, WIDTH); `words`:
    that of single words, as far as it is known."""
    every: Counter[str] = Counter()
    inside: dict[int, Counter[str]] = {group_number: Counter() for group_number in sorted(set(groups))}
    spread: dict[int, Counter[str]] = {group_number: Counter() for group_number in inside}
    for text, group in zip(texts, groups, strict=True):
        words_found = words_of(text)
        every.update(words_found)
        inside[group].update(words_found)
        spread[group].update(set(words_found))
    names_by_theme: dict[int, str] = {}
    for group, own_statements in inside.items():
        telling = {
            word: _odds(own_statements[word], own_statements.total(), every[word], every.total())
            * (1 + log(spread[group][word]))
            for word in own_statements
        }
        best = sorted(telling, key=lambda w: (-telling[w], w))[:TELLING]
        if meaning is not None and words:
            middle = _mean(meaning[[index for index, other in enumerate(groups) if other == group]])
            near_words = {word: float(words[word] @ middle) if word in words else 0.0 for word in best}
            best.sort(key=lambda w: -(near_words[w] + WEIGHT * telling[w]))
        names_by_theme[group] = ", ".join(best[:count]) or "without words"
    return names_by_theme


def _odds(here: int, size: int, every: int, total: int) -> float:
    """How far a word is more frequent in a group of `size` words than elsewhere, in its standard deviations."""
    a, a0 = float(every), float(total)
    inside, outside = here + a, every - here + a
    log_odds = log(inside / (size + a0 - inside + 1)) - log(outside / (total - size + a0 - outside + 1))
    return log_odds / sqrt(1 / inside + 1 / outside)
