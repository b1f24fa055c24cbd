"""What Kovel opens: containers known by their first bytes, each read by the one demuxer named here, from files only."""

import errno
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import av

from kovel.core.errors import Told

MOST_PIXELS = 100_000_000
LONGEST = 24 * 3600  # seconds of a recording
RESERVE = 200_000_000  # bytes of the disk that stay free whatever is made
STILLS = {
    b"\xff\xd8\xff": "jpeg",
    b"\x89PNG\r\n\x1a\n": "png",
    b"II*\x00": "tiff",
    b"MM\x00*": "tiff",
    b"GIF8": "gif",
    b"BM": "bmp",
}
STILL_BRANDS = (b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx", b"mif1", b"msf1", b"avif", b"avis")


class Unusable(Told, ValueError):
    """A file that cannot be used. The message says what is wrong and what to do, in the editor's words."""


class NoRoom(Unusable):
    """The disk takes no more: what was begun can be made once it does."""

    def __init__(self, what: str, do: str) -> None:
        super().__init__(f"{what} {do}, then try again.")
        self.what, self.do = what, do


def refused(error: OSError) -> Unusable:
    """What the disk, or the system, did not do."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return NoRoom("The disk is full.", "Make room on it")
    if error.errno in (errno.EROFS, errno.EACCES, errno.EPERM):
        return NoRoom(
            f"The disk cannot be written{f' ({error.filename})' if error.filename else ''}.", "Allow writing there"
        )
    if error.errno == errno.EIO:
        return NoRoom("The disk does not answer as it should.", "Look after it")
    return Unusable(f"The disk refused: {error.strerror or error}. Make room or check the folder, then try again.")


def _begins(*marks: bytes, at: int = 0) -> Callable[[bytes], bool]:
    """Whether a file has one of these marks at a byte of it."""
    return lambda head: head[at:].startswith(marks)


def _chunked(*forms: bytes, of: tuple[bytes, ...] = (b"RIFF", b"RF64")) -> Callable[[bytes], bool]:
    """Whether a file is of chunks, and its form is one of these."""
    return lambda head: head.startswith(of) and head[8:12] in forms


def _transport_stream(head: bytes) -> bool:
    """Packets of 188 bytes, or of 192 as camcorders write them, each beginning with its sync byte."""
    return len(head) > 388 and (head[0] == head[188] == head[376] == 0x47 or head[4] == head[196] == head[388] == 0x47)


def _sync_word(mask: int, value: int) -> Callable[[bytes], bool]:
    """Whether a file begins with the sync word of MPEG audio, its layer as told."""
    return lambda head: len(head) > 1 and head[0] == 0xFF and head[1] & mask == value


SIGNATURES: tuple[tuple[str, Callable[[bytes], bool]], ...] = (  # the first that fits tells the kind
    ("still", lambda head: head[4:8] == b"ftyp" and head[8:12] in STILL_BRANDS),
    ("mov", _begins(b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip", at=4)),
    ("matroska", _begins(b"\x1a\x45\xdf\xa3")),
    ("avi", _chunked(b"AVI ")),
    ("wav", _chunked(b"WAVE")),
    ("still", _chunked(b"WEBP")),
    ("aiff", _chunked(b"AIFF", b"AIFC", of=(b"FORM",))),
    ("flac", _begins(b"fLaC")),
    ("ogg", _begins(b"OggS")),
    ("mxf", _begins(b"\x06\x0e\x2b\x34")),
    ("mpegts", _transport_stream),
    ("mpeg", _begins(b"\x00\x00\x01\xba")),
    ("dv", _begins(b"\x1f\x07\x00")),
    ("asf", _begins(b"\x30\x26\xb2\x75")),
    ("caf", _begins(b"caff")),
    ("w64", _begins(b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb\x04\xc1\x00\x00")),
    ("ac3", _begins(b"\x0bw")),
    ("aac", _sync_word(0xF6, 0xF0)),
    ("still", _begins(*STILLS)),
    ("mp3", _begins(b"ID3")),
    ("mp3", _sync_word(0xE6, 0xE2)),
)


def kind_of(path: Path) -> str:
    """The demuxer for a file, or `still`; `Unusable` for anything not on the list (playlists among them).

    Decided by content, never by name. With the demuxer fixed, no other one can be talked into opening the file.
    """
    try:
        if path.exists() and not path.is_file():  # a pipe or a device would never end
            raise Unusable(f"{path.name} is not a file.")
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(600)
    except OSError:
        raise Unusable(f"{path.name} cannot be read. Check that it is still there and that you may open it.") from None
    if size == 0:
        raise Unusable(f"{path.name} is empty (0 bytes). The copy probably broke off; copy it from the card again.")
    kind = next((kind for kind, has_signature in SIGNATURES if has_signature(head)), None)
    if kind is not None:
        return kind
    if head.lstrip()[:7] == b"#EXTM3U":
        raise Unusable(f"{path.name} is a playlist, not a recording. Bring in the recordings it names.")
    if b"\x00" not in head:
        raise Unusable(f"{path.name} is a text file, whatever its name says. Nothing was brought in.")
    raise Unusable(
        f"{path.name} is not a kind of file Kovel reads. It takes MP4, MOV, MKV, WebM, AVI, MXF, MPEG (TS, PS), DV, "
        "WAV, W64, AIFF, CAF, FLAC, Ogg, MP3, AAC, AC-3, WMA, JPEG, PNG, TIFF, WebP, GIF, BMP, HEIC and AVIF."
    )


def spare(folder: Path, need: float = 0) -> None:
    """Hold what is going to be written against the room there is; `NoRoom` where the disk would be full."""
    free = shutil.disk_usage(folder).free
    if free < need + RESERVE:
        wants = f"making this takes about {need / 1e9:.1f} GB and the disk" if need > RESERVE else "the disk"
        raise NoRoom(f"There is no room: {wants} has {free / 1e9:.1f} GB left.", "Make room on it")


def open_media(path: Path) -> Any:
    """An `av` container on a local file with the demuxer its first bytes call for; no other protocol than `file`."""
    kind = kind_of(path)
    if kind == "still":
        raise Unusable(f"{path.name} is a still picture.")
    try:
        return av.open(str(path), format=kind, options={"protocol_whitelist": "file"}, metadata_errors="replace")
    except (av.FFmpegError, OSError, ValueError):
        raise Unusable(
            f"{path.name} cannot be opened: it is damaged or was cut off while copying. "
            "Copy it from the card again, or play it back in the camera and save it anew."
        ) from None
