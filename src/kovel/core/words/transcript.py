"""Words and their frames, and how they stand in lines on the lined page."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass, replace

from kovel.core.time.rate import Rate
from kovel.core.words.writing import ends, plain, together


@dataclass(frozen=True, slots=True)
class Word:
    """A spoken word; start and end in 48 kHz samples of its recording."""

    text: str
    start: int
    end: int
    speaker: str = ""
    sure: float = 1.0  # how sure the recogniser is; corrected and imported words are certain

    def frames(self, frame_rate: Rate) -> tuple[int, int]:
        """First frame it sounds in, and the frame after the last."""
        return frame_rate.sample_to_frame(self.start), frame_rate.sample_to_frame(max(self.end - 1, self.start)) + 1


@dataclass(frozen=True, slots=True)
class Line:
    """One line of words of a piece. `top` is the row it stands in; words carry their source frame."""

    top: int
    words: tuple[tuple[int, Word], ...]  # (first frame on the source's clock, word)


@dataclass(frozen=True, slots=True)
class Sentence:
    """What was said in one go: samples, speaker and text."""

    start: int
    end: int
    speaker: str
    text: str
    count: int  # of words


def sentences(words: Sequence[Word], pause: int = 72_000) -> list[Sentence]:
    """Words up to a full stop, a change of speaker, or a pause of `pause` samples (1.5 s)."""
    all_sentences: list[Sentence] = []
    run: list[Word] = []
    for word in words:
        if run and (word.speaker != run[-1].speaker or word.start - run[-1].end >= pause):
            all_sentences.append(_sentence(run))
            run = []
        run.append(word)
        if ends(word.text):
            all_sentences.append(_sentence(run))
            run = []
    if run:
        all_sentences.append(_sentence(run))
    return all_sentences


def with_speakers(words: Sequence[Word], named: Sequence[Word]) -> list[Word]:
    """Words with the speaker of whichever of the `named` words stands nearest to each: names outlast a new
    transcript."""
    if not any(word.speaker for word in named):
        return list(words)
    middles = [(word.start + word.end) // 2 for word in named]
    words_with_speakers = []
    for word in words:
        at = (word.start + word.end) // 2
        index = bisect_left(middles, at)
        near_index = min(range(max(0, index - 1), min(len(named), index + 1)), key=lambda k: abs(middles[k] - at))
        words_with_speakers.append(replace(word, speaker=named[near_index].speaker))
    return words_with_speakers


def corrected(word: Word, text: str) -> list[Word]:
    """A word with other text and its own times; text of several words shares the time out by their length.

    [we haul    ]  ->  [we][haul   ]
    """
    parts = text.split()
    size = [len(text_part) + 1 for text_part in parts]
    edges = [
        word.start + (word.end - word.start) * sum(size[:part_index]) // max(1, sum(size))
        for part_index in range(len(parts) + 1)
    ]
    return [
        replace(word, text=text_part, start=edges[index], end=edges[index + 1], sure=1.0)
        for index, text_part in enumerate(parts)
    ]


def joined(run: Sequence[Word]) -> Word:
    """Neighbouring words as one."""
    return replace(run[0], text="".join(word.text for word in run), end=run[-1].end, sure=1.0)


def replaced(words: Sequence[Word], find: str, put: str) -> tuple[list[Word], int]:
    """Every place where the words `find` were said, in whatever case and punctuation, with `put` instead; and how
    often.

    A capital at the beginning and punctuation at the end are kept; times stay those of the words replaced.
    """
    asked_words = [plain(asked_word) for asked_word in find.split()]
    all_words: list[Word] = []
    i = n = 0
    while i < len(words):
        run = words[i : i + len(asked_words)]
        if asked_words and [plain(word.text) for word in run] == asked_words:
            whole = Word("", run[0].start, run[-1].end, run[0].speaker)
            tail = run[-1].text[len(run[-1].text.rstrip(".,;:?!\u2026")) :]
            text = put
            if text and run[0].text[:1].isupper() and find[:1].islower():  # it stood at the beginning of a sentence
                text = text[:1].upper() + text[1:]
            all_words += corrected(whole, (text.rstrip(".,;:?!") + tail) if text else "")
            i += len(asked_words)
            n += 1
        else:
            all_words.append(words[i])
            i += 1
    return all_words, n


def _sentence(run: Sequence[Word]) -> Sentence:
    return Sentence(run[0].start, run[-1].end, run[0].speaker, together(word.text for word in run), len(run))


def words_in(words: Sequence[Word], frame_rate: Rate, start: int, length: int) -> list[tuple[int, Word]]:
    """Words whose middle lies in [start, start+length) frames: a word cut in two belongs to the side that keeps
    more."""
    begin, end = frame_rate.frame_to_sample(start), frame_rate.frame_to_sample(start + length)
    index = bisect_left(words, begin, key=lambda w: w.start)
    while index > 0 and words[index - 1].end > begin:
        index -= 1
    words_there = []
    for word in words[index:]:
        if word.start >= end:
            break
        if begin <= (word.start + word.end) // 2 < end:
            words_there.append((max(word.frames(frame_rate)[0], start), word))
    return words_there


def lines(
    words: Sequence[tuple[int, Word]], *, start: int, length: int, frames_per_row: float, line_count: int, chars: int
) -> list[Line]:
    """Set words in rows at their time; a full row pushes words down while rows are left, then they crowd the last.

    row 0 |We haul the ferry across by|      a row is `frames_per_row` frames tall and holds about `chars` characters
    row 1 |hand, two of us            |
    """
    table: list[list[tuple[int, Word]]] = [[] for _ in range(max(line_count, 1))]
    used = [0] * len(table)
    row_number = 0
    for word_frame, word in words:
        row_number = max(row_number, min(int((word_frame - start) / frames_per_row), len(table) - 1))
        if used[row_number] + len(word.text) > chars and row_number + 1 < len(table):
            row_number += 1
        table[row_number].append((word_frame, word))
        used[row_number] += len(word.text) + 1
    return [Line(index, tuple(table_row)) for index, table_row in enumerate(table) if table_row]
