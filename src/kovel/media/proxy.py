"""How the pictures are encoded for the page, and the proxy of a whole recording, put together from its pieces.

proxy.mp4    H.264, no B-frames, a key frame every 12, at most 960 wide, constant rate; picture only
proxy.idx    one little-endian uint32 a frame: its packet's size. Packets lie end to end from `first` on
small-N.jpg  sheets of 100 small frames, 160 wide
greys.npy    uint8 (frames, 9, 16): each frame very small and grey, to measure jumps by
motion.npy   float16 (frames, 4): brightness, change, shift right and down of each frame (core.picture.shots)
"""

from fractions import Fraction
from typing import Any

import av

from kovel.core.time.rate import Rate
from kovel.media.reader import tag_bt709

GOP = 12
WIDE = 960
SMALL = 160
SHEET = 100


def proxy_size(frame: Any, pixel: Fraction) -> tuple[int, int]:
    """The size a frame is encoded in: its true shape, even, at most WIDE either way."""
    width, height = Fraction(frame.width) * pixel, Fraction(frame.height)
    if int(getattr(frame, "rotation", 0) or 0) % 180:
        width, height = height, width
    scale = min(Fraction(1), Fraction(WIDE) / width, Fraction(WIDE) / height)
    return max(2, round(width * scale / 2) * 2), max(2, round(height * scale / 2) * 2)


def small_size(size: tuple[int, int]) -> tuple[int, int]:
    return SMALL, max(2, round(SMALL * size[1] / size[0] / 2) * 2)


def encoder(size: tuple[int, int], frame_rate: Rate, threads: int = 0) -> Any:
    """An encoder of proxies, opened: its set-up is known before the first frame."""
    codec: Any = av.CodecContext.create("libx264", "w")
    codec.width, codec.height, codec.pix_fmt = *size, "yuv420p"
    codec.time_base, codec.framerate = 1 / frame_rate.fps, frame_rate.fps
    codec.options = {
        "preset": "superfast",
        "crf": "24",
        "g": str(GOP),
        "keyint_min": str(GOP),
        "sc_threshold": "0",
        "bf": "0",
    }
    codec.thread_type, codec.thread_count = "FRAME", threads
    codec.flags |= av.codec.context.Flags.global_header
    tag_bt709(codec)
    codec.open()
    return codec


def units(stream: bytes) -> list[bytes]:
    """The NAL units of an H.264 byte stream (ITU-T H.264, Annex B), without their start codes."""
    found_units = []
    for part in stream.split(b"\x00\x00\x01")[1:]:
        found_units.append(part.rstrip(b"\x00"))
    return found_units


def length_prefixed(stream: bytes) -> bytes:
    """A packet of a byte stream as MP4 and the page's decoder take it: a length before each unit (ISO/IEC 14496-15)."""
    return b"".join(len(unit).to_bytes(4, "big") + unit for unit in units(stream))


def decoder_setup(extradata: bytes) -> bytes:
    """The decoder configuration record, avcC (ISO/IEC 14496-15, 5.3.3.1), of an encoder's parameter sets."""
    sps = next(unit for unit in units(extradata) if unit[0] & 31 == 7)
    pps = next(unit for unit in units(extradata) if unit[0] & 31 == 8)
    head = bytes([1, sps[1], sps[2], sps[3], 0xFF, 0xE1]) + len(sps).to_bytes(2, "big") + sps
    rest = b"\x01" + len(pps).to_bytes(2, "big") + pps
    return head + rest + (bytes([0xFD, 0xF8, 0xF8, 0]) if sps[1] in (100, 110, 122, 144) else b"")


def byte_stream(packet: bytes) -> bytes:
    """The other way round: length-prefixed units as a byte stream with start codes."""
    stream_bytes, at = [], 0
    while at < len(packet):
        number = int.from_bytes(packet[at : at + 4], "big")
        stream_bytes.append(b"\x00\x00\x00\x01" + packet[at + 4 : at + 4 + number])
        at += 4 + number
    return b"".join(stream_bytes)


def parameter_sets(setup: bytes) -> bytes:
    """A byte stream of the parameter sets in a decoder configuration record of `decoder_setup`."""
    number = int.from_bytes(setup[6:8], "big")
    sps, rest = setup[8 : 8 + number], setup[8 + number :]
    pps = rest[3 : 3 + int.from_bytes(rest[1:3], "big")]
    return b"\x00\x00\x00\x01" + sps + b"\x00\x00\x00\x01" + pps
