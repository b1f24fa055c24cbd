"""Manifests of copies as ASC MHL 2.0 (American Society of Cinematographers, media hash list): one generation a copy,
and a chain.

folder/ascmhl/0001_FOLDER_2026-11-26_072938Z.mhl     what was copied: path, size, date, MD5
folder/ascmhl/ascmhl_chain.xml                       the generations, each by its C4 ID (SMPTE ST 2114)
"""

from __future__ import annotations

import hashlib
import socket
import xml.etree.ElementTree as ET
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from kovel.media.files import Unusable
from kovel.media.whole_files import written_whole

LIST, CHAIN = "urn:ASC:MHL:v2.0", "urn:ASC:MHL:DIRECTORY:v2.0"
BASE58 = "123456789ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnopqrstuvwxyz"
IGNORED = (".DS_Store", "ascmhl", "ascmhl/", "*.part")


@dataclass(frozen=True, slots=True)
class Hashed:
    """A file of a copy: its path below the folder, its size, when it was last changed, its MD5."""

    path: str
    size: int
    changed: float
    md5: str


def c4(data: bytes) -> str:
    """The C4 ID of data: its SHA-512 in base 58, 90 signs (SMPTE ST 2114)."""
    n, coded_text = int.from_bytes(hashlib.sha512(data).digest(), "big"), ""
    while n:
        n, k = divmod(n, 58)
        coded_text = BASE58[k] + coded_text
    return "c4" + coded_text.rjust(88, "1")


def _when(seconds: float) -> str:
    return datetime.fromtimestamp(int(seconds), UTC).isoformat()


def write(folder: Path, hashed_files: Sequence[Hashed], verified: bool = False) -> Path:
    """A new generation for a folder with these files; the manifest's path."""
    home = folder / "ascmhl"
    home.mkdir(exist_ok=True)
    before = generations(folder)
    time_now = datetime.now(UTC)
    root = ET.Element("hashlist", {"version": "2.0", "xmlns": LIST})
    creator = ET.SubElement(root, "creatorinfo")
    ET.SubElement(creator, "creationdate").text = time_now.isoformat(timespec="seconds")
    ET.SubElement(creator, "hostname").text = socket.gethostname()
    ET.SubElement(creator, "tool", {"version": "1"}).text = "Kovel"
    process = ET.SubElement(root, "processinfo")
    ET.SubElement(process, "process").text = "in-place" if verified else "transfer"
    ignore = ET.SubElement(process, "ignore")
    for pattern in IGNORED:
        ET.SubElement(ignore, "pattern").text = pattern
    hashes = ET.SubElement(root, "hashes")
    known = {hashed.path for generation in before for hashed in read(home / generation)}
    for hashed in sorted(hashed_files, key=lambda x: x.path):
        one = ET.SubElement(hashes, "hash")
        ET.SubElement(
            one, "path", {"size": str(hashed.size), "lastmodificationdate": _when(hashed.changed)}
        ).text = hashed.path
        action = "verified" if hashed.path in known else "original"
        ET.SubElement(one, "md5", {"action": action, "hashdate": time_now.isoformat()}).text = hashed.md5
    name = f"{len(before) + 1:04d}_{folder.name}_{time_now:%Y-%m-%d_%H%M%SZ}.mhl"
    ET.indent(root)
    _put(home / name, ET.tostring(root, "utf-8", xml_declaration=True))
    chain = ET.Element("ascmhldirectory", {"xmlns": CHAIN})
    for index, generation in enumerate((*before, name), 1):
        entry = ET.SubElement(chain, "hashlist", {"sequencenr": str(index)})
        ET.SubElement(entry, "path").text = generation
        ET.SubElement(entry, "c4").text = c4((home / generation).read_bytes())
    ET.indent(chain)
    _put(home / "ascmhl_chain.xml", ET.tostring(chain, "utf-8", xml_declaration=True))
    return home / name


def _put(path: Path, body: bytes) -> None:
    with written_whole(path) as part_file:
        part_file.write_bytes(body + b"\n")


def generations(folder: Path) -> list[str]:
    """The manifests of a folder, in their order."""
    return sorted(path.name for path in (folder / "ascmhl").glob("[0-9][0-9][0-9][0-9]_*.mhl"))


def read(path: Path) -> list[Hashed]:
    """The files of a manifest; `Unusable` for what is none. Only MD5 is read: others are passed over."""
    try:
        text = path.read_bytes()
        if b"<!" in text[:2000]:
            raise ValueError
        root = ET.fromstring(text)
        hashed_files = []
        for h in root.iter(f"{{{LIST}}}hash"):
            path_node, md5 = h.find(f"{{{LIST}}}path"), h.find(f"{{{LIST}}}md5")
            if path_node is not None and md5 is not None and path_node.text and md5.text:
                changed = datetime.fromisoformat(path_node.get("lastmodificationdate") or "1970-01-01T00:00:00+00:00")
                hashed_files.append(
                    Hashed(
                        path_node.text, int(path_node.get("size") or 0), changed.timestamp(), md5.text.strip().lower()
                    )
                )
    except (OSError, ValueError, ET.ParseError):
        raise Unusable(f"{path.name} is no media hash list that can be read.") from None
    return hashed_files


def verify(folder: Path) -> tuple[int, list[str]]:
    """Read every file of a folder again and hold it against its manifests: how many are right, and what is wrong, in
    words."""
    names = generations(folder)
    if not names:
        raise Unusable(f"{folder.name} has no manifest (ascmhl): it was not copied with one.")
    wanted: dict[str, Hashed] = {}
    wrong: list[str] = []
    chain = (
        (folder / "ascmhl" / "ascmhl_chain.xml").read_text()
        if (folder / "ascmhl" / "ascmhl_chain.xml").exists()
        else ""
    )
    for name in names:
        if c4((folder / "ascmhl" / name).read_bytes()) not in chain:
            wrong.append(f"The manifest {name} was changed after it was written.")
        wanted |= {hashed.path: hashed for hashed in read(folder / "ascmhl" / name)}
    good = 0
    for hashed in wanted.values():
        path = folder / hashed.path
        if ".." in Path(hashed.path).parts or not path.is_file():
            wrong.append(f"{hashed.path} is missing.")
        elif path.stat().st_size != hashed.size:
            wrong.append(f"{hashed.path} has {path.stat().st_size} bytes, not {hashed.size}.")
        elif md5_of(path) != hashed.md5:
            wrong.append(f"{hashed.path} is damaged: its checksum is another one.")
        else:
            good += 1
    return good, wrong


def md5_of(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, lambda: hashlib.md5(usedforsecurity=False)).hexdigest()
