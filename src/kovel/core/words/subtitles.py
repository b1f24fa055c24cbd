"""Captions of a story: what is said, in cues of two lines at most that can be read, at the time it is heard.

words    | We | haul | the | ferry | by | hand, | two | of | us | on | the | chain. |
cues     [ We haul the ferry by hand,          ][ two of us on the chain.           ]

Lines of at most 37 letters, two at most; read at 160 to 180 words a minute (BBC Subtitle Guidelines); a cue that
stands a little longer than it is said, and closes up to the next one where less than a blink lies between (common
practice, no source).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word

CHARS = 37
LINES = 2
FAST = 180  # words a minute
SPEECH = 1.0  # seconds of silence between two cues
LINGER = 0.6  # seconds for which a cue stands on
BLINK = 0.25  # seconds: less than that between two cues is closed
CUE, FEW = 40, 14  # what another cue costs, and each letter that it is shorter than this
SHORT = 18  # letters: so short a sentence stands with the next one
# English: a line does not end behind these, and may well begin with those
LOOSE = frozenset(
    (
        "a",
        "an",
        "the",
        "of",
        "to",
        "in",
        "on",
        "at",
        "by",
        "for",
        "from",
        "with",
        "and",
        "or",
        "but",
        "that",
        "which",
        "who",
        "my",
        "your",
        "his",
        "her",
        "its",
        "our",
        "their",
        "this",
    )
)
LEADING = frozenset(
    (
        "and",
        "or",
        "but",
        "because",
        "that",
        "which",
        "who",
        "when",
        "where",
        "while",
        "if",
        "so",
        "then",
        "than",
        "as",
        "with",
        "from",
        "by",
        "for",
        "in",
        "on",
        "at",
        "to",
    )
)


@dataclass(frozen=True, slots=True)
class Said:
    """A word as the story has it: story frames, and where it was recorded."""

    at: int
    end: int
    word: Word
    recording: int


@dataclass(frozen=True, slots=True)
class Cue:
    """A caption: story frames [at, end), its lines. `key`: the recording and sample of its first word; (0, n): of a
    file."""

    at: int
    end: int
    lines: tuple[str, ...]
    speaker: str = ""
    key: tuple[int, int] = (0, 0)
    edited: bool = False

    @property
    def text(self) -> str:
        """Its lines as one."""
        return " ".join(self.lines)

    def pace(self, frame_rate: Rate) -> int:
        """Words a minute."""
        return round(
            len(without_name(self.text, self.speaker).split()) * 60 * float(frame_rate.fps) / max(1, self.end - self.at)
        )


Edits = Mapping[tuple[int, int], tuple[str, str]]  # by key: what it said when it was changed, what it says


def cues(
    said: Sequence[Said], frame_rate: Rate, *, chars: int = CHARS, names: bool = False, edits: Edits | None = None
) -> list[Cue]:
    """The captions of words in the order they are heard. `names`: a new speaker is named; `edits` by the editor."""
    all_cues: list[Cue] = []
    last_speaker = ""
    for run in _runs(said, frame_rate):
        for some in _shared(run, chars):
            first, key = some[0], (some[0].recording, some[0].word.start)
            speaker = named(first.word.speaker)
            text = " ".join(spoken.word.text for spoken in some)
            was, now = (edits or {}).get(key, ("", ""))
            edited = bool(now) and was == text
            shown = now if edited else text
            if names and speaker and speaker != last_speaker:
                shown = f"{speaker.upper()}: {shown}"
            last_speaker = speaker or last_speaker
            all_cues.append(
                Cue(first.at, max(spoken.end for spoken in some), broken(shown, chars), speaker, key, edited)
            )
    return _timed(all_cues, frame_rate)


def named(speaker: str) -> str:
    """A speaker's name as it is written out."""
    return speaker.title() if speaker.islower() else speaker


def without_name(text: str, speaker: str) -> str:
    """A caption's text without the name that stands before it."""
    return text.removeprefix(f"{speaker.upper()}: ") if speaker else text


def _runs(said: Sequence[Said], frame_rate: Rate) -> list[list[Said]]:
    """Sentences: up to a full stop, another speaker, or a silence. Short ones stand with what follows."""
    runs_of_words: list[list[Said]] = []
    new = True
    for spoken in said:
        if runs_of_words and not new:
            before = runs_of_words[-1][-1]
            new = spoken.word.speaker != before.word.speaker or (spoken.at - before.end) / frame_rate.fps >= SPEECH
        if new:
            near = (
                runs_of_words
                and spoken.word.speaker == runs_of_words[-1][-1].word.speaker
                and (spoken.at - runs_of_words[-1][-1].end) / frame_rate.fps < SPEECH / 2
            )
            if near and sum(len(spoken.word.text) + 1 for spoken in runs_of_words[-1]) <= SHORT:
                runs_of_words[-1].append(spoken)
            else:
                runs_of_words.append([spoken])
        else:
            runs_of_words[-1].append(spoken)
        new = spoken.word.text.rstrip("\"'”’)").endswith((".", "?", "!", "…"))
    return runs_of_words


def _shared(run: list[Said], chars: int) -> list[list[Said]]:
    """A sentence shared out over as few cues as it needs, broken where a phrase ends: the cheapest way of all."""
    words = [spoken.word.text for spoken in run]
    count = len(words)
    best: list[tuple[float, int]] = [(0.0, 0)] + [(1e18, 0)] * count
    for end_index in range(1, count + 1):
        for first_index in range(end_index - 1, max(-1, end_index - 30), -1):
            lines = broken(" ".join(words[first_index:end_index]), chars)
            if len(lines) > LINES and end_index - first_index > 1:
                break
            size = sum(map(len, lines))
            inner = sum(_break(line_before.split()[-1], right.split()[0]) for line_before, right in pairwise(lines)) / 2
            outer = 0 if end_index == count else _break(words[end_index - 1], words[end_index])
            cost = best[first_index][0] + CUE + inner + outer + max(0, FEW - size)
            if cost < best[end_index][0]:
                best[end_index] = cost, first_index
    ends = [count]
    while ends[-1] > 0:
        ends.append(best[ends[-1]][1])
    ends.reverse()
    return [run[start:end] for start, end in pairwise(ends)]


def _break(left: str, right: str) -> float:
    """How much a break between two words costs: least behind a stop, little before a word that leads on, most behind
    an article."""
    bare = left.lower().strip(".,;:?!…\"'")
    if left.endswith((".", "?", "!", "…")):
        return 0.0
    if left.endswith((",", ";", ":", "–", "—")):
        return 4.0
    if bare in LOOSE:
        return 40.0
    return 10.0 if right.lower().strip("\"'") in LEADING else 20.0


def broken(text: str, chars: int = CHARS) -> tuple[str, ...]:
    """A text in lines of at most `chars` letters: one if it fits, two at the best place, more where they are needed.
    Lines that were made by hand stay."""
    if "\n" in text:
        return tuple(broken_line for part in text.split("\n") for broken_line in broken(part, chars) if broken_line)
    words = text.split()
    whole = " ".join(words)
    if len(whole) <= chars:
        return (whole,) if whole else ()
    ways = []
    for break_index in range(1, len(words)):
        a, b = " ".join(words[:break_index]), " ".join(words[break_index:])
        if len(a) <= chars and len(b) <= chars:
            ways.append((_break(words[break_index - 1], words[break_index]) + abs(len(a) - len(b)) * 0.6, break_index))
    if ways:
        break_index = min(ways)[1]
        return " ".join(words[:break_index]), " ".join(words[break_index:])
    lines: list[str] = []
    for word in words:
        if lines and len(lines[-1]) + 1 + len(word) <= chars:
            lines[-1] += f" {word}"
        else:
            lines.append(word)
    return tuple(lines)


def _timed(all_cues: list[Cue], frame_rate: Rate) -> list[Cue]:
    """Each stands a little longer than it is said, as far as the next one lets it; none lies over another."""
    all_cues = sorted(all_cues, key=lambda c: (c.at, c.end))
    timed_cues = []
    for index, cue in enumerate(all_cues):
        after = all_cues[index + 1].at if index + 1 < len(all_cues) else None
        end = cue.end + round(LINGER * frame_rate.fps)
        if after is not None and after - end < BLINK * frame_rate.fps:
            end = after
        timed_cues.append(replace(cue, end=max(cue.at + 1, end)))
    return [
        cue for index, cue in enumerate(timed_cues) if index + 1 == len(timed_cues) or cue.at < timed_cues[index + 1].at
    ]
