"""Transcripts as caption files, WebVTT (W3C) and SubRip, in and out, by the webvtt library: times of words are ours.

file    00:01.000 --> 00:03.000     ->  cue [1 s, 3 s)   ->  words [we][haul][it]     (core/words/caption_text.py)
        <v Maren>We <00:01.400>haul it
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from html import escape

import webvtt

from kovel.core.time.rate import SAMPLE_RATE
from kovel.core.words.caption_text import SaidCue, words_of_cues
from kovel.core.words.transcript import Word, sentences

_INNER = re.compile(r"<((?:\d+:)?\d\d:\d\d\.\d{3})>")


@dataclass(frozen=True, slots=True)
class Read:
    """Words of a caption file in order, and what could not be taken: (line number, why)."""

    words: tuple[Word, ...]
    refused: tuple[tuple[int, str], ...]


@dataclass(frozen=True, slots=True)
class Block:
    """A cue as it stands in a file: the number of its line of times, samples [start, end), what is below them."""

    line: int
    start: int
    end: int
    speaker: str
    text: str


def caption_blocks(text: str) -> tuple[list[Block], list[tuple[int, str]]]:
    """The cues of WebVTT or SubRip in the order of the file, and what could not be taken: (line number, why)."""
    blocks: list[Block] = []
    refused: list[tuple[int, str]] = []
    for number, lines in _cues(text):
        cue = _cue(lines)
        if cue is None:
            refused.append((number, "its times cannot be read"))
        elif cue.end_time <= cue.start_time:
            refused.append((number, "it ends before it begins"))
        else:
            start, end = _samples(cue.start_time), _samples(cue.end_time)
            blocks.append(Block(number, start, end, (cue.voice or "").strip(), cue.raw_text))
    return blocks, refused


def _cues(text: str) -> Iterator[tuple[int, list[str]]]:
    """(number of the line of times, that line and those below it up to an empty one)."""
    lines = text.lstrip("\ufeff").replace("\r\n", "\n").replace("\r", "\n").split("\n")
    at = 0
    while at < len(lines):
        if "-->" in lines[at]:
            below = next((n for n in range(at + 1, len(lines)) if not lines[n].strip()), len(lines))
            yield at + 1, lines[at:below]
            at = below
        at += 1


def _cue(lines: Sequence[str]) -> webvtt.Caption | None:
    """One cue as the library reads it; None where its times are none. Each is read by itself, so that a bad one is
    told by its line and hides no other."""
    times = lines[0].replace(",", ".")  # SubRip has a comma before the thousandths
    try:
        return next(iter(webvtt.from_string("\n".join(("WEBVTT", "", times, *lines[1:])))), None)
    except webvtt.errors.MalformedCaptionError:
        return None


def _samples(time: webvtt.models.Timestamp) -> int:
    hours, minutes, seconds, thousandths = time.to_tuple()
    return (((hours * 60 + minutes) * 60 + seconds) * 1000 + thousandths) * SAMPLE_RATE // 1000


def read_captions(text: str) -> Read:
    """Words from WebVTT or SubRip. Bad cues are left out and told. WebVTT voice spans name the speaker and inner time
    stamps are kept (W3C WebVTT, sections 4.2 and 6)."""
    blocks, refused = caption_blocks(text)
    cues = [SaidCue(block.start, block.end, block.speaker, tuple(_parts(block))) for block in blocks]
    return Read(tuple(words_of_cues(cues)), tuple(refused))


def _parts(block: Block) -> Iterator[tuple[int, str]]:
    """What a cue says from which sample on, by the time stamps within it."""
    texts = _INNER.split(block.text)
    yield block.start, texts[0]
    for stamp, text in zip(texts[1::2], texts[2::2], strict=True):
        yield _samples(webvtt.models.Timestamp.from_string(stamp)), text


def stamped(ms: int) -> str:
    """Milliseconds as WebVTT has them."""
    return f"{ms // 3_600_000:02d}:{ms // 60_000 % 60:02d}:{ms // 1000 % 60:02d}.{ms % 1000:03d}"


def _stamp(sample: int) -> str:
    return stamped((sample * 1000 + SAMPLE_RATE // 2) // SAMPLE_RATE)


def as_vtt(cues: Sequence[webvtt.Caption]) -> str:
    """A WebVTT file of these."""
    return webvtt.WebVTT(captions=list(cues)).content


def as_srt(cues: Sequence[webvtt.Caption]) -> str:
    """A SubRip file of these."""
    file = io.StringIO()
    webvtt.WebVTT(captions=list(cues)).write(file, format="srt")
    return file.getvalue() + "\n"


def write_vtt(words: Sequence[Word]) -> str:
    """WebVTT with a cue a sentence, the speaker as a voice span, and a time stamp before each word but the first."""
    cues = []
    at = 0
    for sentence in sentences(words):
        first, *more = words[at : at + sentence.count]
        at += sentence.count
        text = _safe(first.text) + "".join(f" <{_stamp(word.start)}>{_safe(word.text)}" for word in more)
        voice = f"<v {sentence.speaker}>" if sentence.speaker else ""
        cues.append(webvtt.Caption(_stamp(sentence.start), _stamp(sentence.end), voice + text))
    return as_vtt(cues)


def _safe(text: str) -> str:
    return escape(text, quote=False)


def write_srt(words: Sequence[Word]) -> str:
    """SubRip with a numbered cue a sentence."""
    return as_srt(
        [
            webvtt.Caption(_stamp(said_sentence.start), _stamp(said_sentence.end), said_sentence.text)
            for said_sentence in sentences(words)
        ]
    )
