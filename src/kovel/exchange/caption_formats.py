"""Captions and chapters as files: WebVTT (W3C), SubRip, EBU-TT-D (EBU Tech 3380)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from webvtt import Caption

from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.core.time.timecode import running
from kovel.core.words.subtitles import Cue
from kovel.exchange.caption_files import as_srt, as_vtt, stamped

MOST = 20_000  # cues of a file


def _stamp(frame: int, frame_rate: Rate) -> str:
    """A story frame as a time of the film, to the millisecond."""
    return stamped(round(frame * 1000 / frame_rate.fps))


def to_vtt(cues: Sequence[Cue], frame_rate: Rate) -> str:
    return as_vtt(
        [
            _caption(cue.at, cue.end, frame_rate, (f"<v {_plain(cue.speaker)}>" if cue.speaker else "") + _lines(cue))
            for cue in cues
        ]
    )


def _lines(cue: Cue) -> str:
    return "\n".join(_plain(cue_line) for cue_line in cue.lines)


def _caption(at: int, end: int, frame_rate: Rate, text: str, identifier: str | None = None) -> Caption:
    return Caption(_stamp(at, frame_rate), _stamp(end, frame_rate), text, identifier)


def _plain(text: str) -> str:
    return escape(text).replace("-->", "--&gt;").replace("\n", " ")


def to_srt(cues: Sequence[Cue], frame_rate: Rate) -> str:
    return as_srt([_caption(cue.at, cue.end, frame_rate, "\n".join(cue.lines)) for cue in cues])


def to_ttml(cues: Sequence[Cue], frame_rate: Rate, language: str = "en") -> str:
    """EBU-TT-D: times of the media, one region at the lower edge, white on black boxes."""
    body = "\n".join(
        f'      <p xml:id="c{index}" region="below" style="all"'
        f' begin="{_stamp(cue.at, frame_rate)}" end="{_stamp(cue.end, frame_rate)}">'
        f'<span style="words">{"<br/>".join(escape(cue_line) for cue_line in cue.lines)}</span></p>'
        for index, cue in enumerate(cues, 1)
    )
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<tt xmlns="http://www.w3.org/ns/ttml" xmlns:ttp="http://www.w3.org/ns/ttml#parameter"
    xmlns:tts="http://www.w3.org/ns/ttml#styling" xmlns:ebuttm="urn:ebu:tt:metadata"
    ttp:timeBase="media" ttp:cellResolution="50 30" xml:lang={quoteattr(language)}>
  <head>
    <metadata>
      <ebuttm:documentMetadata>
        <ebuttm:conformsToStandard>urn:ebu:tt:distribution:2018-04</ebuttm:conformsToStandard>
      </ebuttm:documentMetadata>
    </metadata>
    <styling>
      <style xml:id="all" tts:fontFamily="sansSerif" tts:fontSize="160%" tts:lineHeight="125%" tts:textAlign="center"/>
      <style xml:id="words" tts:color="#ffffff" tts:backgroundColor="#000000"/>
    </styling>
    <layout>
      <region xml:id="below" tts:origin="10% 75%" tts:extent="80% 20%" tts:displayAlign="after"/>
    </layout>
  </head>
  <body>
    <div>
{body}
    </div>
  </body>
</tt>
"""


def chapters_vtt(chapter_rows: Sequence[tuple[int, str]], length: int, frame_rate: Rate) -> str:
    """Chapters (frame, heading) as WebVTT: each until the next one."""
    ends = [*(at for at, _ in chapter_rows[1:]), length]
    return as_vtt(
        [
            _caption(at, end, frame_rate, _plain(name), str(index))
            for index, ((at, name), end) in enumerate(zip(chapter_rows, ends, strict=True), 1)
        ]
    )


def chapters_text(chapter_rows: Sequence[tuple[int, str]], frame_rate: Rate) -> str:
    """Chapters (frame, heading), the first at frame 0, as lines "0:00 Heading", as they stand under a film on the web
    (common practice, no source)."""
    return "".join(f"{running(at, frame_rate)} {' '.join(name.split())}\n" for at, name in chapter_rows)


@dataclass(frozen=True, slots=True)
class Captions:
    """What a caption file may hold: the cues, the chapters as (frame, heading), and the length of the film in
    frames."""

    cues: Sequence[Cue]
    chapters: Sequence[tuple[int, str]]
    length: int
    rate: Rate


@dataclass(frozen=True, slots=True)
class CaptionFormat:
    """One format of captions, or of chapters: its name in addresses and on the command line, what it is called, how
    files of it end."""

    name: str
    label: str
    suffix: str
    media_type: str
    write: Callable[[Captions], str]
    is_chapters: bool = False
    is_read: bool = False


CAPTION_FORMATS = {
    format.name: format
    for format in (
        CaptionFormat("vtt", "VTT", ".vtt", "text/vtt", lambda c: to_vtt(c.cues, c.rate), is_read=True),
        CaptionFormat("srt", "SRT", ".srt", "application/x-subrip", lambda c: to_srt(c.cues, c.rate), is_read=True),
        CaptionFormat("ttml", "TTML", ".ttml", "application/ttml+xml", lambda c: to_ttml(c.cues, c.rate)),
        CaptionFormat(
            "chapters",
            "Chapters",
            ".chapters.vtt",
            "text/vtt",
            lambda c: chapters_vtt(c.chapters, c.length, c.rate),
            is_chapters=True,
        ),
        CaptionFormat(
            "chapter-list",
            "Chapter list",
            ".chapters.txt",
            "text/plain",
            lambda c: chapters_text(c.chapters, c.rate),
            is_chapters=True,
        ),
    )
}


def cues_of(told: dict[str, Any], frame_rate: Rate) -> list[Cue]:
    """Cues of a caption file that was taken apart (exchange/sent_files.py) at story frames, lines kept."""
    cues: list[Cue] = []
    for a, b, lines, speaker in told["cues"]:
        at, end = (round(cue_second * frame_rate.fps / SAMPLE_RATE) for cue_second in (a, b))
        cues.append(Cue(at, max(at + 1, end), tuple(lines), speaker, (0, len(cues))))
    return cues
