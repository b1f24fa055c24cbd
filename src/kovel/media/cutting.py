"""A recording with only some of its pictures: whole groups are taken over as they are, nothing is coded anew; all of
its sound stays.

pictures   |K....|K....|K....|K....|K....|K....|       K: a key frame, from which the rest of its group is made
wanted              [─────)
kept       |K....|     |K....|K....|     |K....|       the first and the last group too: so length and every number stay

Every picture keeps its time, so frames, words and edits mean the same moments; in what is left out the picture
before it stands.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from kovel.core.time.rate import Rate
from kovel.media.files import Unusable, kind_of, open_media
from kovel.media.reader import FrameReader

MOVIE = ".mov", "mov"
FORMS = {
    "matroska": (".mkv", "matroska"),
    "mpegts": (".ts", "mpegts"),
}  # these stay what they are; all else is written as a movie
HELD = 12  # pictures that are compared with those of the whole recording
Group = list[Any]  # packets from a key frame up to the next one


def cut_pictures(
    source_file: Path,
    to: Path,
    frame_rate: Rate,
    ranges: Sequence[tuple[Fraction, Fraction]],
    progress: Callable[[float], None],
) -> bool:
    """Write `to` with the pictures of seconds `ranges` of `source_file`, counted from its first picture, and
    all its sound.

    False (and nothing written) where that is not possible exactly, or saves nothing: the whole recording is taken then.
    """
    try:
        with closing(FrameReader(source_file, frame_rate)) as whole:
            zero = whole.zero * whole.base
        _write(source_file, to, [(start + zero, end + zero) for start, end in ranges], progress)
        if to.stat().st_size < 0.9 * source_file.stat().st_size and _same(source_file, to, frame_rate, ranges):
            return True
    except (av.FFmpegError, Unusable, ValueError, OSError, StopIteration):
        pass
    to.unlink(missing_ok=True)
    return False


def ending(source_file: Path) -> str:
    """That of the container that the pictures are written in."""
    return FORMS.get(kind_of(source_file), MOVIE)[0]


def _write(
    source_file: Path, to: Path, wanted: Sequence[tuple[Fraction, Fraction]], progress: Callable[[float], None]
) -> None:
    size = source_file.stat().st_size
    with (
        open_media(source_file) as container,
        av.open(str(to), "w", format=FORMS.get(kind_of(source_file), MOVIE)[1]) as output_file,
    ):
        video = next(
            video_stream
            for video_stream in container.streams.video
            if not video_stream.disposition & av.stream.Disposition.attached_pic
        )
        streams = {
            kept_stream.index: output_file.add_stream_from_template(kept_stream)
            for kept_stream in (video, *container.streams.audio)
        }
        for packet, kept in _chosen(container, video, list(streams), wanted):
            if packet.pos is not None:
                progress(min(1.0, packet.pos / size))
            if kept:
                packet.stream = streams[packet.stream.index]
                output_file.mux(packet)


def _chosen(
    c: Any, video: Any, of: Sequence[int], wanted: Sequence[tuple[Fraction, Fraction]]
) -> Iterator[tuple[Any, bool]]:
    """Every packet of some streams, and whether it is kept: pictures by their group, once that is whole."""
    group: Group = []
    broken = True  # whether the group before it is left out: what is made from that cannot stand
    first = True
    for packet in c.demux([c.streams[frame_index] for frame_index in of]):
        if packet.dts is None:
            continue
        if packet.stream is not video:
            yield packet, True
            continue
        if packet.is_keyframe and group:
            end = packet.pts if packet.pts is not None else packet.dts
            keep = first or _meets(group, end, video.time_base, wanted)
            yield from _of_group(group, keep, broken)
            broken, first, group = not keep, False, []
        if group or packet.is_keyframe:
            group.append(packet)
    yield from _of_group(group, True, broken)


def _of_group(group: Group, keep: bool, broken: bool) -> Iterator[tuple[Any, bool]]:
    """Pictures that stand before their key frame are made from the group before as well: they go where that is left
    out."""
    for packet in group:
        yield packet, keep and not (broken and packet.pts is not None and packet.pts < group[0].pts)


def _meets(group: Group, end: int, base: Fraction, wanted: Sequence[tuple[Fraction, Fraction]]) -> bool:
    """Whether pictures of a group stand in a wanted stretch; one stands until the next group's begin."""
    stamps = [packet.pts for packet in group if packet.pts is not None]
    a, b = min(stamps, default=end) * base, max(end, *stamps, end) * base
    return any(a < y and wanted_start < b for wanted_start, y in wanted)


def _same(source_file: Path, to: Path, frame_rate: Rate, ranges: Sequence[tuple[Fraction, Fraction]]) -> bool:
    """Whether pictures from all over the ranges are those of the whole recording, to the bit."""
    frames = [int(moment * frame_rate.fps) for start, end in ranges for moment in (start, (start + end) / 2, end)] or [
        0
    ]
    some = sorted(
        {frames[frame_index] for frame_index in np.linspace(0, len(frames) - 1, min(HELD, len(frames))).astype(int)}
    )
    with closing(FrameReader(source_file, frame_rate)) as whole, closing(FrameReader(to, frame_rate)) as part:
        return all(np.array_equal(_bits(whole.get(n)), _bits(part.get(n))) for n in some)


def _bits(frame: Any) -> np.ndarray[Any, Any]:
    return np.concatenate([np.frombuffer(plane, np.uint8) for plane in frame.planes])
