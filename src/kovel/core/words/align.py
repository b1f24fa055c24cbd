"""Recognised words put where they sound: spelled for the aligner, and their edges kept out of proven silence."""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from kovel.core.sound.levels import TICK, Mask, runs
from kovel.core.words.transcript import Word

LATE = 7_200  # samples that starts of the recogniser of English come late by (measured: 150-200 ms)
# and samples that the one of many languages comes early by (measured on English against the aligner: 70-90 ms)
EARLY = 3_840
LETTER = 8 * TICK  # how long a letter of a word is said, at most
LONGEST_TAIL = 50 * TICK
NEAR, NEARER = (
    45,
    30,
)  # ticks to the edge of a stretch that its first or last word may take: by own times, by the aligner's

# Letters to phones of the aligner's set (ARPAbet), longest first; a rough reading is enough to find where a word
# stands.
_SOUNDS = {
    "tion": "SH AH N",
    "ough": "AO",
    "augh": "AO",
    "eigh": "EY",
    "tch": "CH",
    "igh": "AY",
    "sch": "SH",
    "dge": "JH",
    "ch": "CH",
    "sh": "SH",
    "th": "TH",
    "ph": "F",
    "gh": "G",
    "wh": "W",
    "ck": "K",
    "qu": "K W",
    "ng": "NG",
    "kn": "N",
    "wr": "R",
    "ee": "IY",
    "ea": "IY",
    "oo": "UW",
    "ou": "AW",
    "ow": "OW",
    "oa": "OW",
    "oi": "OY",
    "oy": "OY",
    "ai": "EY",
    "ay": "EY",
    "au": "AO",
    "aw": "AO",
    "ie": "IY",
    "ei": "EY",
    "ey": "IY",
    "eu": "Y UW",
    "ew": "UW",
    "ue": "UW",
    "ar": "AA R",
    "er": "ER",
    "ir": "ER",
    "or": "AO R",
    "ur": "ER",
    "a": "AE",
    "b": "B",
    "c": "K",
    "d": "D",
    "e": "EH",
    "f": "F",
    "g": "G",
    "h": "HH",
    "i": "IH",
    "j": "JH",
    "k": "K",
    "l": "L",
    "m": "M",
    "n": "N",
    "o": "AA",
    "p": "P",
    "q": "K",
    "r": "R",
    "s": "S",
    "t": "T",
    "u": "AH",
    "v": "V",
    "w": "W",
    "x": "K S",
    "y": "IY",
    "z": "Z",
}


def sounds(word: str) -> str:
    """A rough pronunciation in ARPAbet phones, from memory; empty for a word without letters."""
    text = re.sub(r"([^aeiou])\1", r"\1", re.sub(r"[^a-z]", "", word.lower()))
    if len(text) > 3 and text.endswith("e"):
        text = text[:-1]
    sounds_of_text, text_index = [], 0
    while text_index < len(text):
        for n in (4, 3, 2, 1):
            if text[text_index : text_index + n] in _SOUNDS:
                sounds_of_text.append(_SOUNDS[text[text_index : text_index + n]])
                text_index += n
                break
        else:
            text_index += 1
    return " ".join(sounds_of_text)


def spoken(text: str) -> list[str]:
    """A written word as spoken ones, lower case, for numbers of up to six figures too: `1,204` is five words."""
    this_text = text.lower().replace("\u2019", "'").replace("&", " and ").replace("%", " percent")
    this_text = re.sub(r"(?<=\d),(?=\d{3})", "", this_text)
    this_text = re.sub(r"\d+", lambda m: " " + " ".join(_number(m[0])) + " ", this_text)
    return [w.strip("'") for w in re.findall(r"[^\W\d_]+(?:'[^\W\d_]+)*'?", this_text) if w.strip("'")]


_ONES = [
    "zero",
    "one",
    "two",
    "three",
    "four",
    "five",
    "six",
    "seven",
    "eight",
    "nine",
    "ten",
    "eleven",
    "twelve",
    "thirteen",
    "fourteen",
    "fifteen",
    "sixteen",
    "seventeen",
    "eighteen",
    "nineteen",
]
_TENS = ["-", "-", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"]


def _number(digits: str) -> list[str]:
    if len(digits) > 6 or (digits[0] == "0" and len(digits) > 1):
        return [_ONES[int(digit)] for digit in digits]
    n = int(digits)
    if n < 20:
        return [_ONES[n]]
    if n < 100:
        return [_TENS[n // 10], *([_ONES[n % 10]] if n % 10 else [])]
    if n < 1000:
        return [_ONES[n // 100], "hundred", *(_number(str(n % 100)) if n % 100 else [])]
    return [*_number(str(n // 1000)), "thousand", *(_number(str(n % 1000)) if n % 1000 else [])]


def snap(words: Sequence[Word], talking: Mask, *, whole: bool = False, near: int = NEARER) -> list[Word]:
    """Words with their edges out of proven silence, in order and without overlap.

    speech  ______█████████___██████        a start in silence moves on to the speech, an end in silence back to it;
    before     [we  ][haul   ][it ]         a first or last word of a stretch takes the stretch's edge if that is near
    after         [we][haul ] [it  ]                  (`near`: so many ticks)
    A word for which nothing sounds is left out, for the recogniser made it up; unless the words must stay `whole`.
    """
    starts, ends = (run * TICK for run in runs(talking))
    if not len(starts):
        return list(words)
    pause_starts, pause_ends = starts.tolist(), ends.tolist()
    near *= TICK
    all_words: list[Word] = []
    for word in words:
        before = all_words[-1].end if all_words else 0
        start, end = max(word.start, before), max(word.end, word.start + 2 * TICK)
        stretch_index = _stretch_of(start, end, pause_starts, pause_ends)
        if (
            start >= pause_ends[stretch_index]
        ):  # all of it after the nearest stretch: it belongs to the next one, or to the end of this one
            if stretch_index + 1 < len(pause_starts) and pause_starts[stretch_index + 1] - end < 60 * TICK:
                stretch_index += 1
            else:
                start = max(pause_ends[stretch_index] - (end - start), before)
                if start > pause_ends[stretch_index] - 2 * TICK and not whole:
                    continue  # nothing is said there
        start = _start_in(
            start, pause_starts[stretch_index], near, is_first=not all_words or before <= pause_starts[stretch_index]
        )
        if end > pause_ends[stretch_index] and (
            end - pause_ends[stretch_index] <= near or not talking[min(len(talking) - 1, (end - 1) // TICK)]
        ):
            end = _end_in(end, stretch_index, pause_starts, pause_ends)
        start = max(start, before)
        start, end = _without_pause(start, max(end, start + 2 * TICK), pause_starts, pause_ends)
        all_words.append(replace(word, start=start, end=end))
    return _to_the_end(all_words, pause_ends, near)


def _start_in(start: int, speech: int, near: int, is_first: bool) -> int:
    """Where a word begins in a stretch of speech that begins at `speech`: there, where it began in the silence before
    it, or is the first word of it and began nearly there."""
    return speech if start < speech or (is_first and start - speech <= near) else start


def _stretch_of(start: int, end: int, s: Sequence[int], e: Sequence[int]) -> int:
    """The stretch of speech that the middle of a word lies in, or else the nearest one, by its index."""
    middle = (start + end) // 2
    stretch_index = bisect_right(s, middle) - 1
    if stretch_index >= 0 and middle < e[stretch_index]:
        return stretch_index
    options = [near_index for near_index in (stretch_index, stretch_index + 1) if 0 <= near_index < len(s)]
    return min(options, key=lambda j: max(s[j] - end, start - e[j], 0))


def _end_in(end: int, i: int, s: Sequence[int], e: Sequence[int]) -> int:
    """Where a word that ends after its stretch i ends: there, unless it reaches over a short gap into the next one."""
    after = bisect_left(e, end)
    reaches_over = after != i and after < len(s) and s[after] < end and end - s[after] >= 6 * TICK
    return end if reaches_over else e[i]


def _to_the_end(words: Sequence[Word], e: Sequence[int], near: int) -> list[Word]:
    """The last word of each stretch takes its end, if that is near, or if so many letters take as long: under noise
    an aligner takes what fades away for silence."""
    rest_of_words = []
    for word, after in zip(words, [*words[1:], None], strict=False):
        index = bisect_left(e, word.end)
        if index < len(e) and (after is None or after.start >= e[index]):
            letters = sum(map(len, spoken(word.text))) or len(word.text)
            reach = min(LONGEST_TAIL, near + max(0, letters * LETTER - (word.end - word.start)))
            if e[index] - word.end <= reach:
                word = replace(word, end=e[index])
        rest_of_words.append(word)
    return rest_of_words


def _without_pause(start: int, end: int, s: Sequence[int], e: Sequence[int]) -> tuple[int, int]:
    """A word that reaches over a pause stands in the longer part: nobody is silent for a quarter of a second in a
    word."""
    parts: list[tuple[int, int]] = []
    for pause_index in range(bisect_right(e, start), bisect_left(s, end)):
        pause_start, y = max(start, s[pause_index]), min(end, e[pause_index])
        if parts and pause_start - parts[-1][1] < 25 * TICK:
            parts[-1] = (parts[-1][0], y)
        else:
            parts.append((pause_start, y))
    return max(parts, key=lambda p: p[1] - p[0]) if len(parts) > 1 else (start, end)


@dataclass(frozen=True, slots=True)
class Clip:
    """Stretches of a recording, ticks [a, b) in order, heard one right after the other: long pauses taken out.

    recording  ..████__█████.............███..     parts   [──────────)       [───)
    clip       ████__████████
    """

    parts: tuple[tuple[int, int], ...]

    @property
    def length(self) -> int:
        """Length of all parts, in samples."""
        return sum(end - start for start, end in self.parts)

    def on_recording(self, tick: int, *, end: bool = False) -> int:
        """Where a tick of the clip stands in the recording; as an `end` it stays with what comes before it."""
        for start, until in self.parts:
            if tick < until - start or (end and tick == until - start):
                return start + tick
            tick -= until - start
        return self.parts[-1][1]

    def halves(self) -> tuple[Clip, Clip]:
        """Two clips of about the same length, cut between two stretches where there are several."""
        half = self.length / 2
        if len(self.parts) > 1:
            done = np.cumsum([end - start for start, end in self.parts[:-1]])
            half_index = int(np.argmin(np.abs(done - half))) + 1
            return Clip(self.parts[:half_index]), Clip(self.parts[half_index:])
        start, end = self.parts[0]
        return Clip(((start, (start + end) // 2),)), Clip((((start + end) // 2, end),))


def clips(talking: Mask, longest: float = 28.0, air: float = 0.4) -> list[Clip]:
    """All speech as clips of at most `longest` seconds to recognise, with `air` seconds around each stretch.

    Cut in pauses; only where somebody goes on for longer than that without one, in the middle of things.
    """
    most, pad = int(longest * 100), int(air * 100)
    kept: list[list[int]] = []
    for speech_start, speech_end in zip(*(run.tolist() for run in runs(talking)), strict=True):
        a, b = max(0, speech_start - pad), min(len(talking), speech_end + pad)
        if kept and a <= kept[-1][1]:
            kept[-1][1] = b
        else:
            kept.append([a, b])
    all_clips: list[Clip] = []
    parts_now: list[tuple[int, int]] = []
    for a, b in kept:
        edges = np.linspace(a, b, -(-(b - a) // most) + 1).astype(int).tolist()
        for start, end in pairwise(edges):
            if parts_now and sum(part_end - part_start for part_start, part_end in parts_now) + end - start > most:
                all_clips.append(Clip(tuple(parts_now)))
                parts_now = []
            parts_now.append((start, end))
    if parts_now:
        all_clips.append(Clip(tuple(parts_now)))
    return all_clips
