"""Which microphones a file holds: the channels of all its sound tracks, by the names that recorders write (iXML,
open standard)."""

from __future__ import annotations

import re
import struct
import xml.etree.ElementTree as ElementTree
from fractions import Fraction
from pathlib import Path
from typing import Any

SURROUND = re.compile(r"(3\.1|4\.1|5\.[01]|6\.[01]|7\.[01])")  # a mix for loudspeakers, not so many microphones
CHUNK = 1_000_000  # bytes of a chunk that are read at most


def channels_of(c: Any) -> list[tuple[int, int]]:
    """(track, channel in it) of every sound channel of an open container, in order."""
    return [
        (index, channel_index)
        for index, audio_stream in enumerate(c.streams.audio)
        for channel_index in range(audio_stream.codec_context.channels)
    ]


def heard_at_first(c: Any, named: bool) -> list[int]:
    """Which channels are heard unless others are chosen: the first two microphones as left and right. Empty: the
    first track as it is, mono, stereo or a surround mix that is brought to two."""
    counts = [audio_stream.codec_context.channels for audio_stream in c.streams.audio]
    if not counts or counts[0] == 2 or sum(counts) < 2:
        return []
    if counts[0] == 1:
        return [0, 1] if len(counts) > 1 and counts[1] == 1 else []
    surround = SURROUND.match(c.streams.audio[0].codec_context.layout.name) is not None
    return [] if surround and not named else [0, 1]


def names_of(path: Path, c: Any, count: int) -> list[str]:
    """A name for each channel: the recorder's (iXML), else the track's title, else its number."""
    channel_names = [str(n + 1) for n in range(count)]
    for index, (stream_index, channel_index) in enumerate(channels_of(c)):
        title = (c.streams.audio[stream_index].metadata.get("title") or "").strip()
        if title and c.streams.audio[stream_index].codec_context.channels == 1 and channel_index == 0:
            channel_names[index] = title[:40]
    for index, name in written(path).items():
        if 0 < index <= count and name:
            channel_names[index - 1] = name[:40]
    return channel_names


def written(path: Path) -> dict[int, str]:
    """Names of channels, from 1, in the iXML chunk of a WAV; nothing where there is none, or it is no XML."""
    body = _chunk(path, b"iXML")
    if not body or b"<!DOCTYPE" in body or b"<!ENTITY" in body:
        return {}
    try:
        root = ElementTree.fromstring(body.decode("utf-8", "replace").strip("\0 \r\n"))
    except ElementTree.ParseError:
        return {}
    written_channels = {}
    for t in root.iter("TRACK"):
        number = (t.findtext("CHANNEL_INDEX") or "").strip()
        if number.isdecimal() and len(number) < 4:
            written_channels[int(number)] = " ".join((t.findtext("NAME") or "").split())
    return written_channels


def began(c: Any) -> Fraction | None:
    """Seconds since midnight at which a broadcast WAV begins (EBU Tech 3285: its time reference in samples); None
    without one."""
    said_start = c.metadata.get("time_reference", "")
    if not said_start.isdecimal() or len(said_start) > 15 or not c.streams.audio:
        return None
    return Fraction(int(said_start), c.streams.audio[0].codec_context.sample_rate or 48_000)


def _chunk(path: Path, name: bytes) -> bytes:
    """The body of a chunk of a RIFF or RF64 file."""
    with path.open("rb") as file:
        if file.read(4) not in (b"RIFF", b"RF64") or file.seek(8) != 8 or file.read(4) != b"WAVE":
            return b""
        size = path.stat().st_size
        for _ in range(200):
            head = file.read(8)
            if len(head) < 8:
                return b""
            kind, long = head[:4], struct.unpack("<I", head[4:])[0]
            if kind == name:
                return file.read(min(long, CHUNK))
            if long == 0xFFFFFFFF:  # of RF64: its length stands elsewhere; what follows it is found from the end
                return _from_end(path, name)
            if file.seek(long + long % 2, 1) >= size:
                return b""
    return b""


def _from_end(path: Path, name: bytes) -> bytes:
    with path.open("rb") as file:
        file.seek(max(0, path.stat().st_size - CHUNK))
        tail = file.read()
    index = tail.rfind(name)
    if index < 0 or index + 8 > len(tail):
        return b""
    (long,) = struct.unpack("<I", tail[index + 4 : index + 8])
    return tail[index + 8 : index + 8 + long]
