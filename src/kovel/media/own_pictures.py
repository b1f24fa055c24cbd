"""A recording that already is what a proxy must be: its own pictures are shown, and none are made for the page.

file       |head|key ··|··|··|sound|key ··|··|··|sound| ...   packets of H.264, no B-frames, a key frame every so many
own.npz         at[0], size[0]                                   where the packet of each frame lies in the file
own.json   what the page's decoder needs (group, width, height, avcc), and the bytes of the file: kept with own.npz

Which recordings those are is told by `group_of` when one is brought in. Small frames, motion and greys are made of
them as of any other, only nothing is coded.
"""

import base64
import json
from collections.abc import Callable, Iterable, Sequence
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from kovel.core.picture.colour import BT709
from kovel.core.time.rate import Rate
from kovel.media.files import Unusable, open_media
from kovel.media.pieces import PIECE, Piece
from kovel.media.reader import coding_of, filmed, pictures_of
from kovel.media.whole_files import keep, written_whole

MOST_LINES = 1080
LONGEST_GROUP = 15  # frames: so many are decoded to show one
MOST_BITS = 30_000_000  # a second, in the mean: more than that a page does not take in its stride
SPOTS = 40  # groups that are looked into, spread over the recording
PROFILES = ("Baseline", "Constrained Baseline", "Main", "High")
IDR = 5  # the unit of a picture that nothing before it is needed for (ITU-T H.264, table 7-1)


def group_of(c: Any, video: Any, first: Any, frame_rate: Rate) -> int:
    """Frames from one key frame to the next where an open container's pictures can be shown as they are; 0 where not.

    They can if any page decodes them (H.264, 8 bit 4:2:0, at most 1080 lines, square pixels, upright, progressive,
    BT.709), frame n is packet n by the rule of media/reader.py, and every group is short, of one length and stands
    alone.
    """
    if not _any_page_decodes(c, video, first):
        return 0
    entries = list(video.index_entries)
    if len(entries) < 2 or any(entry.is_discard for entry in entries):
        return 0
    keys = np.flatnonzero([entry.is_keyframe for entry in entries])
    group = int([*keys, len(entries)][1])
    if group > LONGEST_GROUP or not np.array_equal(keys, np.arange(0, len(entries), group)):
        return 0
    if _bits_a_second(entries, frame_rate) > MOST_BITS or not _is_numbered(
        entries, float(video.time_base * frame_rate.fps)
    ):
        return 0
    spots = sorted({int(key) for key in keys[np.linspace(0, len(keys) - 1, min(SPOTS, len(keys))).astype(int)]})
    groups = ([(entry.timestamp, entry.size) for entry in entries[spot : spot + group]] for spot in spots)
    return group if all(_stands_alone(c, video, packet_rows) for packet_rows in groups) else 0


def _bits_a_second(entries: Sequence[Any], frame_rate: Rate) -> float:
    return sum(int(entry.size) for entry in entries) * 8 * float(frame_rate.fps) / len(entries)


def _is_numbered(entries: Sequence[Any], per_tick: float) -> bool:
    """Whether packet n is frame n by its time; `per_tick`: frames in a tick of the time stamps."""
    stamps = np.array([entry.timestamp for entry in entries], np.int64)
    early = (stamps - stamps[0]) * per_tick - np.arange(len(stamps))
    return bool(early.max() <= 0.25 and early.min() > -0.75)


def _any_page_decodes(c: Any, video: Any, first: Any) -> bool:
    """Whether the coding and the shape of a picture are what every browser shows as it is."""
    coding = coding_of(first, filmed(video).coding)
    usual = coding.plain and coding.matrix == BT709 and not coding.full
    return bool(
        c.format.name.startswith("mov") and usual and _is_simple_h264(video, first) and _is_simple_shape(video, first)
    )


def _is_simple_h264(video: Any, first: Any) -> bool:
    """Whether it is H.264 of 8 bit 4:2:0, with no frame that leans on later ones, and lengths before its units."""
    codec = video.codec_context
    return bool(
        codec.name == "h264"
        and codec.profile in PROFILES
        and first.format.name == "yuv420p"
        and not codec.has_b_frames
        and bytes(codec.extradata or b"\0")[0] == 1
    )


def _is_simple_shape(video: Any, first: Any) -> bool:
    """Whether it is upright, of square pixels, progressive, even and not too large."""
    upright = not int(getattr(first, "rotation", 0) or 0) % 360 and Fraction(video.sample_aspect_ratio or 1) == 1
    low, high = sorted((first.width, first.height))
    small = low <= MOST_LINES and high <= 2 * MOST_LINES and not (low % 2 or high % 2)
    return bool(upright and small and not first.interlaced_frame)


def _stands_alone(c: Any, video: Any, wanted: list[tuple[int, int]]) -> bool:
    """Whether the group is as the container's index says (stamp and size of each packet), and in the order it is
    shown in."""
    c.seek(wanted[0][0], stream=video)
    found_groups: list[tuple[int, int]] = []
    for packet in c.demux(video):
        if packet.pts is not None and packet.pts < wanted[0][0]:
            continue  # a seek may land before
        if not packet.size or packet.pts != packet.dts or len(found_groups) == len(wanted):
            break
        if not found_groups and not _idr(bytes(packet), bytes(video.codec_context.extradata)):
            return False
        found_groups.append((packet.pts, packet.size))
    return found_groups == wanted


def _idr(packet: bytes, setup: bytes) -> bool:
    """Whether the first picture in a packet of length-prefixed units is one that decoding can begin at."""
    at, prefix = 0, (setup[4] & 3) + 1
    while at + prefix < len(packet):
        kind = packet[at + prefix] & 31
        if 1 <= kind <= IDR:
            return kind == IDR
        at += prefix + int.from_bytes(packet[at : at + prefix], "big")
    return False


def shown_in(group: int) -> dict[str, int]:
    """Frames a group and frames a piece, for the page, of a recording whose own pictures are shown."""
    return {"gop": group, "piece": group * max(1, PIECE // group)}


def make_index(path: str, out: str, rate: list[int], group: int, progress: Callable[[float], None]) -> dict[str, int]:
    """Note where the packets of a recording lie in its file; how many frames there are."""
    src, folder = Path(path), Path(out)
    folder.mkdir(parents=True, exist_ok=True)
    with open_media(src) as container:
        video = pictures_of(container)
        first = next((frame for packet in container.demux(video) for frame in packet.decode()), None)
        if first is None or group_of(container, video, first, Rate(*rate)) != group:
            raise Unusable(
                f"{src.name} is not the file that was brought in. Find that one, or take this one as it is in Footage."
            )
        index_entries = [(entry.pos, entry.size) for entry in video.index_entries]
        setup = base64.b64encode(bytes(video.codec_context.extradata)).decode()
    with written_whole(folder / "own.npz") as part_file, part_file.open("wb") as file:
        np.savez(
            file,
            at=np.array([packet_row[0] for packet_row in index_entries], np.int64),
            size=np.array([packet_row[1] for packet_row in index_entries], np.uint32),
        )
    size = {"width": first.width, "height": first.height}
    keep(
        folder / "own.json",
        {**shown_in(group), **size, "frames": len(index_entries), "avcc": setup, "bytes": src.stat().st_size},
    )
    return {"frames": len(index_entries)}


def own_piece(folder: Path, source_file: Path, number: int) -> bytes | None:
    """Piece `number` as media/pieces.py writes it, out of the recording itself; None behind the end, or where that
    file is not the one whose pictures were noted."""
    try:
        facts, at, size = _index(folder, (folder / "own.json").stat().st_mtime_ns)
    except OSError:  # it is made anew just now
        return None
    a, b = number * facts["piece"], min((number + 1) * facts["piece"], len(at))
    if not 0 <= a < b:
        return None
    try:
        with source_file.open("rb") as file:
            if source_file.stat().st_size != facts["bytes"]:
                return None
            packets = tuple(_read(file, at[a:b].tolist(), size[a:b].tolist()))
    except OSError:
        return None
    return Piece(facts["width"], facts["height"], base64.b64decode(facts["avcc"]), packets).to_bytes()


def _read(f: Any, at: Iterable[int], size: Iterable[int]) -> Iterable[bytes]:
    for a, n in zip(at, size, strict=True):
        f.seek(a)
        yield f.read(n)


@lru_cache(32)
def _index(folder: Path, stamp: int) -> tuple[dict[str, Any], npt.NDArray[np.int64], npt.NDArray[np.uint32]]:
    with np.load(folder / "own.npz") as index_rows:
        return json.loads((folder / "own.json").read_text()), index_rows["at"], index_rows["size"]
