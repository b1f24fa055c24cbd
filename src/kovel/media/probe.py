"""What a recording is: rate, length, picture, sound, and in plain words whatever is unusual about it."""

from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Any

import av
from PIL import ImageOps

from kovel.core.time.rate import RATES, Rate
from kovel.media.files import LONGEST, MOST_PIXELS, Unusable, kind_of, open_media
from kovel.media.microphones import began, channels_of, heard_at_first, names_of, written
from kovel.media.own_pictures import group_of
from kovel.media.reader import open_still, pictures_of

SLOWEST = 1000  # samples a second that a recorder writes at least


def probe(path: str) -> dict[str, Any]:
    """Facts of one file as plain values (see the keys below); `Unusable` if there is nothing to use in it.

    size (bytes), rate [num, den], frames (own frames, None for a still), picture, sound, width, height (as seen,
    after rotation and pixel shape), rotation (degrees), channels, start_timecode, variable, interlaced, own (frames
    a group where its own pictures are shown, see media/own_pictures.py; 0: not), remarks, kind (a first guess).
    `rate` and `frames` of sound alone are those of 25 frames a second until a project gives it its own.
    """
    this_path = Path(path)
    if kind_of(this_path) == "still":
        return _still(this_path)
    with open_media(this_path) as container:
        try:
            return _moving(this_path, container)
        except (av.FFmpegError, OverflowError, ZeroDivisionError):
            raise Unusable(
                f"{this_path.name} is damaged: its contents cannot be read. Copy it from the card again."
            ) from None


def _still(path: Path) -> dict[str, Any]:
    remarks = []
    try:
        with open_still(path) as im:
            if getattr(im, "n_frames", 1) > 1:
                remarks.append(
                    f"It holds {im.n_frames} pictures; the first is used. Save it as a video to use it as one."
                )
            w, h = ImageOps.exif_transpose(im).size
    except Unusable:
        raise
    except Exception:
        raise Unusable(f"{path.name} cannot be read as a picture: it is damaged or far too large.") from None
    return _facts(path, kind="still", width=w, height=h, picture=True, remarks=remarks)


def _facts(path: Path, **more: Any) -> dict[str, Any]:
    base = {
        "size": path.stat().st_size,
        "changed": path.stat().st_mtime_ns,
        "rate": [25, 1],
        "frames": None,
        "picture": False,
        "sound": False,
        "width": 0,
        "height": 0,
        "rotation": 0,
        "channels": 0,
        "microphones": [],
        "heard": [],
        "began": None,
        "start_timecode": "",
        "variable": False,
        "interlaced": False,
        "own": 0,
        "remarks": [],
        "kind": "sound",
    }
    return {**base, **more}


def exact_rate(measured: Fraction) -> Rate:
    """The table's rate when the measured one is within 0.2 %, else the measured one itself (denominator to 1001)."""
    near = min(RATES, key=lambda r: abs(r.fps - measured))
    if abs(near.fps - measured) / near.fps < Fraction(1, 500):
        return near
    rate = measured.limit_denominator(1001)
    return Rate(rate.numerator, rate.denominator)


def _moving(path: Path, c: Any) -> dict[str, Any]:
    video = pictures_of(c)
    audio = next(iter(c.streams.audio), None)
    remarks: list[str] = []
    facts = _facts(path, sound=audio is not None, channels=min(audio.codec_context.channels, 2) if audio else 0)
    if audio:
        if (audio.codec_context.sample_rate or 0) < SLOWEST:
            raise Unusable(f"{path.name}: its sound cannot be read. Save it anew from the program that made it.")
        facts |= _microphones(path, c, remarks)
    if video is None:
        return _sound_alone(path, c, audio, facts, remarks)
    first = next(iter(_first(c, video)), None)
    if first is None:
        raise Unusable(
            f"{path.name}: no picture could be read from it. The copy probably broke off; copy it from the card again."
        )
    if video.width * video.height > MOST_PIXELS:
        raise Unusable(f"{path.name} is too large: {video.width} by {video.height}.")
    rate, variable = _rate_of(c, video)
    if variable:
        remarks.append(f"Its frame rate varies; it is treated as {rate} frames a second, in step with its sound.")
    shape = _shape(video, first, remarks)
    if audio is None:
        remarks.append("It has no sound.")
    length = _length(c, video, rate)
    _bounded(path, length)
    frames = max(1, round(length * rate.fps))
    own_group = 0 if variable or len(video.index_entries) != frames else group_of(c, video, first, rate)
    if own_group:
        remarks.append("Its own pictures are played: it needs no proxy.")
    return {
        **facts,
        **shape,
        "rate": [rate.num, rate.den],
        "frames": frames,
        "picture": True,
        "start_timecode": _start_timecode(c, video),
        "variable": variable,
        "interlaced": bool(first.interlaced_frame),
        "own": own_group,
        "remarks": remarks,
        "kind": "interview" if audio and length > 40 else "b-roll",
    }


def _sound_alone(path: Path, c: Any, audio: Any, facts: dict[str, Any], remarks: list[str]) -> dict[str, Any]:
    """The facts of a file without pictures. Raises `Unusable` where it has no sound either."""
    if audio is None:
        raise Unusable(f"{path.name} has neither picture nor sound in it.")
    if not any(len(frame.to_ndarray()[0]) for frame in _first(c, audio)):
        raise Unusable(f"{path.name} has no sound in it: it is cut off or empty.")
    length = Fraction(c.duration or 0, 1_000_000)
    _bounded(path, length)
    frames = max(1, int(length * 25))
    return {**facts, "frames": frames, "kind": "sound", "remarks": ["Sound only.", *remarks]}


def _rate_of(c: Any, video: Any) -> tuple[Rate, bool]:
    """(the frame rate, whether it varies: then the nearest usual one)."""
    average = Fraction(video.average_rate or video.guessed_rate or 25)
    step, variable = _spacing(c, video)
    if step and (variable or abs(step * average - 1) > Fraction(1, 5)):  # some containers count fields for frames
        average = 1 / step
    rate = Rate.nearest(average) if variable else exact_rate(average)
    return (rate, variable) if 1 <= rate.fps <= 240 else (Rate.nearest(average), True)


def _shape(video: Any, first: Any, remarks: list[str]) -> dict[str, int]:
    """Width, height and rotation of the picture as it is shown; what was done for that is added to the remarks."""
    rotation = int(getattr(first, "rotation", 0) or 0) % 360
    pixel = video.sample_aspect_ratio or Fraction(1)
    width, height = round(video.width * pixel), video.height
    if rotation in (90, 270):
        width, height = height, width
    if rotation:
        remarks.append("The camera was turned; the picture is shown upright.")
    if pixel != 1:
        remarks.append("Its pixels are not square; the picture is shown in its true shape.")
    if first.interlaced_frame:
        remarks.append("It is interlaced; whole pictures are made of its fields.")
    if width % 2 or height % 2:
        remarks.append("Its size is odd; one line of pixels is scaled away in renders.")
    return {"width": width, "height": height, "rotation": rotation}


def _length(c: Any, video: Any, frame_rate: Rate) -> Fraction:
    """Seconds of picture; counted where the container's clock cannot be believed."""
    length = Fraction(video.duration * video.time_base) if video.duration else Fraction(c.duration or 0, 1_000_000)
    # the clock of a transport stream has 33 bits, and may begin again while it runs
    doubtful = c.format.name == "mpegts" and not 0 < length <= LONGEST
    return _counted(c, video) / frame_rate.fps if doubtful else length


def _start_timecode(c: Any, video: Any) -> str:
    """The timecode of the first frame: of the pictures, else of the file, else of any other stream."""
    tagged = (video.metadata, c.metadata, *(stream.metadata for stream in c.streams))
    return next((tags["timecode"] for tags in tagged if tags.get("timecode")), "")


def _microphones(path: Path, c: Any, remarks: list[str]) -> dict[str, Any]:
    """Which channels there are, which are heard, and when a broadcast WAV begins."""
    count = len(channels_of(c))
    known = names_of(path, c, count)
    heard_channels = heard_at_first(c, bool(written(path)))
    start = began(c)
    if count > 2 and heard_channels:
        remarks.append(f"It has {count} sound channels: {', '.join(known[:8])}{', …' if count > 8 else ''}.")
    elif count > 2 and c.streams.audio[0].codec_context.channels > 2:
        remarks.append(f"Its {c.streams.audio[0].codec_context.channels} sound channels are mixed to two.")
    elif count > 2:
        remarks.append(f"It has {len(c.streams.audio)} sound tracks; the first is heard.")
    return {
        "microphones": known if count > 1 else [],
        "heard": heard_channels,
        "channels": len(heard_channels) or min(c.streams.audio[0].codec_context.channels, 2),
        "began": [start.numerator, start.denominator] if start is not None else None,
    }


def _counted(c: Any, stream: Any) -> int:
    """How many pictures a stream has, by its packets."""
    c.seek(0) if c.duration else None
    return sum(1 for packet in c.demux(stream) if packet.size)


def _bounded(path: Path, length: Fraction) -> None:
    if length > LONGEST:
        raise Unusable(
            f"{path.name} says it lasts {float(length) / 3600:.0f} hours: it is damaged. Copy it from the card again."
        )


def _spacing(c: Any, stream: Any) -> tuple[Fraction | None, bool]:
    """The usual step between the first 600 pictures in seconds (None if there are too few), and whether it varies.

    Containers round stamps (to a millisecond at worst), so a step counts as uneven from a third of its length on.
    """
    c.seek(0) if c.duration else None
    stamps: list[int] = []
    for packet in c.demux(stream):
        if packet.pts is not None:
            stamps.append(packet.pts)
        if len(stamps) >= 600:
            break
    stamps.sort()
    steps = sorted(end - start for start, end in pairwise(stamps[:590] if len(stamps) == 600 else stamps))
    usual = steps[len(steps) // 2] if steps else 0
    if usual <= 0:
        return None, False
    return Fraction(usual * stream.time_base), any(abs(step - usual) * 3 > usual for step in steps)


def _first(c: Any, stream: Any) -> list[Any]:
    """The first decodable frame of a stream, in a list; empty if none comes within 300 packets."""
    c.seek(0) if c.duration else None
    for index, packet in enumerate(c.demux(stream)):
        try:
            frames = packet.decode()
        except av.FFmpegError:
            frames = []
        if frames:
            return list(frames[:1])
        if index > 300:
            break
    return []
