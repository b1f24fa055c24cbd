"""Transcripts as text files: WebVTT (W3C) and SubRip in and out. Cues become words, words become cues."""

from __future__ import annotations

import html
import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby

from kovel.core.time.rate import SAMPLE_RATE
from kovel.core.words.transcript import Word, sentences
from kovel.core.words.writing import named

_TIME = re.compile(r"(?:(\d{1,4}):)?(\d{1,2}):(\d{1,2})[.,](\d{1,3})")
_ARROW = re.compile(r"^\s*(\S*)\s*-->\s*(\S*)")
_INNER = re.compile(r"<((?:\d+:)?\d\d:\d\d\.\d{3})>")
_VOICE = re.compile(r"\s*<v(?:\.[^ >]*)?\s+([^>]+)>")
_TAG = re.compile(r"<[^>]*>")
_MARKS = {0x200E: None, 0x200F: None, 0xA0: " "}  # marks of direction; a space that does not break


@dataclass(frozen=True, slots=True)
class Read:
    """Words of a caption file in order, and what could not be taken: (line number, why)."""

    words: tuple[Word, ...]
    refused: tuple[tuple[int, str], ...]


def _samples(text: str) -> int | None:
    match = _TIME.fullmatch(text)
    if not match or int(match[2]) > 59 or int(match[3]) > 59:
        return None
    ms = ((int(match[1] or 0) * 60 + int(match[2])) * 60 + int(match[3])) * 1000 + int(match[4].ljust(3, "0"))
    return ms * SAMPLE_RATE // 1000


def caption_blocks(text: str) -> tuple[list[tuple[int, int, int, list[str]]], list[tuple[int, str]]]:
    """The blocks of WebVTT or SubRip as (line number, start, end, lines), times in samples; and what could not be
    taken: (line number, why)."""
    lines = text.lstrip("\ufeff").replace("\r\n", "\n").replace("\r", "\n").split("\n")
    out: list[tuple[int, int, int, list[str]]] = []
    refused: list[tuple[int, str]] = []
    i = 0
    while i < len(lines):
        m = _ARROW.match(lines[i])
        i += 1
        if not m:
            continue
        at, start, end = i, _samples(m[1]), _samples(m[2])
        body = []
        while i < len(lines) and lines[i].strip():
            body.append(lines[i])
            i += 1
        if start is None or end is None:
            refused.append((at, "its times cannot be read"))
        elif end <= start:
            refused.append((at, "it ends before it begins"))
        else:
            out.append((at, start, end, body))
    return out, refused


def plain(text: str) -> str:
    """What is said in a line of a caption file, without tags and signs that stand for others."""
    return " ".join(html.unescape(_TAG.sub("", text)).translate(_MARKS).split())


def voice_of(body: str) -> str:
    """The speaker that a WebVTT voice span names."""
    m = _VOICE.match(body)
    return m[1].strip() if m else ""


def read_captions(text: str) -> Read:
    """Words from WebVTT or SubRip. A cue without times for its words shares them out by their length.

    Bad cues are left out and told. WebVTT voice spans name the speaker and inner time stamps are kept (W3C WebVTT,
    sections 4.2 and 6). Where cues overlap, each stays whole and in the order they begin:
    cues    [we haul the ferry by hand──]        words   [we][haul][the][ferry][by][hand][you][count]
                             [you count────]
    """
    blocks, refused = caption_blocks(text)
    cues = [(start, end, "\n".join(body)) for _, start, end, body in blocks]
    cues.sort(key=lambda c: c[0])
    out: list[Word] = []
    groups = [list(g) for _, g in groupby(cues, key=lambda c: c[0])]
    for group, after in zip(groups, [*groups[1:], None], strict=False):
        for index, (start, end, text) in enumerate(group):  # cues that begin together have the time one after the other
            share = max(len(text) + 1, (min(end, after[0][0] if after else end) - start) // len(group))
            inner = _INNER.search(text)
            for word in (
                _cue(text, start, end) if inner else _cue(text, start + index * share, start + (index + 1) * share)
            ):
                first = max(word.start, out[-1].end) if out else word.start
                out.append(Word(word.text, first, max(word.end, first + 480), word.speaker))
    return Read(tuple(out), tuple(refused))


def _cue(body: str, begin: int, until: int) -> list[Word]:
    speaker = voice_of(body)
    if not speaker:
        speaker, body = named(body)
    parts: list[tuple[int, str]] = []
    t, last = begin, 0
    for stamp in _INNER.finditer(body):
        parts.append((t, body[last : stamp.start()]))
        t, last = max(begin, min(until, _samples(stamp[1]) or begin)), stamp.end()
    parts.append((t, body[last:]))
    out: list[Word] = []
    for index, (start, text) in enumerate(parts):
        end = parts[index + 1][0] if index + 1 < len(parts) else until
        said = plain(text).split()
        weight = [len(word) + 1 for word in said]
        done = 0
        for word, n in zip(said, weight, strict=True):
            out.append(
                Word(
                    word,
                    start + (end - start) * done // sum(weight),
                    start + (end - start) * (done + n) // sum(weight),
                    speaker,
                )
            )
            done += n
    return [word for word in out if word.end > word.start]


def _stamp(sample: int, mark: str) -> str:
    return stamped((sample * 1000 + SAMPLE_RATE // 2) // SAMPLE_RATE, mark)


def stamped(ms: int, mark: str) -> str:
    """Milliseconds as caption files have them; `mark` stands before the thousandths."""
    return f"{ms // 3_600_000:02d}:{ms // 60_000 % 60:02d}:{ms // 1000 % 60:02d}{mark}{ms % 1000:03d}"


def write_vtt(words: Sequence[Word]) -> str:
    """WebVTT with a cue a sentence, the speaker as a voice span, and a time stamp before each word but the first."""
    out = ["WEBVTT", ""]
    i = 0
    for sentence in sentences(words):
        run = words[i : i + sentence.count]
        i += sentence.count
        safe = [word.text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;") for word in run]
        text = safe[0] + "".join(
            f" <{_stamp(word.start, '.')}>{text}" for word, text in zip(run[1:], safe[1:], strict=True)
        )
        voice = f"<v {sentence.speaker}>" if sentence.speaker else ""
        out += [f"{_stamp(sentence.start, '.')} --> {_stamp(sentence.end, '.')}", voice + text, ""]
    return "\n".join(out)


def write_srt(words: Sequence[Word]) -> str:
    """SubRip with a numbered cue a sentence."""
    rows = [
        f"{index}\n{_stamp(sentence.start, ',')} --> {_stamp(sentence.end, ',')}\n{sentence.text}\n"
        for index, sentence in enumerate(sentences(words), 1)
    ]
    return "\n".join(rows)
