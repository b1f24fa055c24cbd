"""Hostile media: `./kovel bench hostile [FILES]` (2000 unless said).

Files that are cut off, flipped, lie in their heads, name others (playlists, references into the network and
elsewhere on the disk) or grow beyond measure are made by this script, brought into a project over HTTP, folder by
folder, while the server is asked how it is. Prints how many were taken and how many refused and why, the slowest
answer meanwhile, the largest child, and whatever went wrong.
"""

import contextlib
import io
import random
import re
import sqlite3
import struct
import sys
import tempfile
import threading
import time
import wave
import zlib
from collections import Counter
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import httpx
import numpy as np
from PIL import Image

from bench.served import server

EACH = 100  # files of a folder


def film(kind: str, codec: str, sound: str) -> bytes:
    """A second of moving picture and sound."""
    out = io.BytesIO()
    with av.open(out, "w", format=kind) as c:
        v = c.add_stream(codec, rate=25)
        v.width, v.height, v.pix_fmt = 128, 96, "yuv420p"
        a = c.add_stream(sound, rate=48_000, layout="mono")
        for n in range(25):
            f = av.VideoFrame.from_ndarray(np.full((96, 128, 3), (9 * n) % 255, np.uint8), "rgb24")
            f.pts, f.time_base = n, Fraction(1, 25)
            c.mux(v.encode(f))
        c.mux(v.encode(None))
        for n in range(0, 48_000, 960):
            s = av.AudioFrame.from_ndarray(np.full((1, 960), 900, np.int16), "s16", "mono")
            s.rate, s.pts, s.time_base = 48_000, n, Fraction(1, 48_000)
            c.mux(a.encode(s))
        c.mux(a.encode(None))
    return out.getvalue()


def seeds() -> list[tuple[str, bytes]]:
    """Whole files of several kinds, to be spoilt."""
    rows = [
        ("mp4", film("mp4", "libx264", "aac")),
        ("mov", film("mov", "mpeg4", "pcm_s16le")),
        ("mkv", film("matroska", "libx264", "flac")),
        ("avi", film("avi", "mpeg4", "pcm_s16le")),
        ("ts", film("mpegts", "mpeg2video", "mp2")),
    ]
    w = io.BytesIO()
    with wave.open(w, "wb") as f:
        f.setparams((2, 2, 48_000, 0, "NONE", ""))
        f.writeframes(bytes(40_000))
    rows.append(("wav", w.getvalue()))
    for kind in ("PNG", "JPEG", "TIFF", "WEBP"):
        p = io.BytesIO()
        Image.new("RGB", (200, 120), (120, 60, 30)).save(p, kind)
        rows.append((kind.lower(), p.getvalue()))
    return rows


def bomb() -> bytes:
    """A PNG that says it is 60,000 by 60,000 and is nothing but zeros, packed."""

    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    head = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(bytes(4_000_000), 9))
        + chunk(b"IEND", b"")
    )


def ways(rng: random.Random, good: bytes) -> dict[str, Callable[[], bytes]]:
    def flipped() -> bytes:
        x = bytearray(good)
        for _ in range(rng.choice([1, 8, 200])):
            x[rng.randrange(len(x))] = rng.randrange(256)
        return bytes(x)

    def lying() -> bytes:
        x, at = bytearray(good), rng.randrange(0, min(len(good) - 8, 400))
        x[at : at + 4] = rng.choice(
            [b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\x00\x00\x00\x00", b"\x00\x00\x00\x01"]
        )
        return bytes(x)

    def slow_wav() -> bytes:
        return (
            b"RIFF"
            + struct.pack("<I", 60_036)
            + b"WAVEfmt "
            + struct.pack("<IHHIIHH", 16, 1, 1, rng.choice([1, 7, 100]), 2, 2, 16)
            + b"data"
            + struct.pack("<I", 60_000)
            + bytes(60_000)
        )

    return {
        "cut off": lambda: good[: rng.randrange(len(good))],
        "flipped": flipped,
        "lying": lying,
        "doubled": lambda: good + good[rng.randrange(len(good)) :],
        "noise behind a head": lambda: good[:64] + rng.randbytes(rng.randrange(20_000)),
        "noise": lambda: rng.randbytes(rng.randrange(1, 20_000)),
        "playlist": lambda: b"#EXTM3U\n#EXTINF:10,\nhttp://127.0.0.1:9/x.ts\n/etc/passwd\n",
        "text": lambda: b"ffconcat version 1.0\nfile /etc/passwd\nfile http://127.0.0.1:9/a.mp4\n",
        "sdp": lambda: b"v=0\no=- 0 0 IN IP4 127.0.0.1\nm=video 9 RTP/AVP 96\n",
        "bomb": bomb,
        "slow": slow_wav,
        "empty": lambda: b"",
    }


def make(folder: Path, rng: random.Random, rows: list[tuple[str, bytes]]) -> Counter[str]:
    done: Counter[str] = Counter()
    folder.mkdir()
    for n in range(EACH):
        ending, good = rng.choice(rows)
        how, body = rng.choice(list(ways(rng, good).items()))
        (folder / f"{n:03} {how}.{ending}").write_bytes(body())
        done[how] += 1
    return done


def largest_child() -> int:
    """Resident megabytes of the largest child now."""
    most = 0
    for p in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            if (p / "comm").read_text().strip() == "kovel-child":  # as media/fork_server.py names them
                found = re.search(r"VmRSS:\s+(\d+)", (p / "status").read_text())
                most = max(most, int(found[1]) // 1024 if found else 0)
    return most


def run(root: Path, files: int, seed: int = 1) -> dict[str, object]:
    rng, rows = random.Random(seed), seeds()
    kinds: Counter[str] = Counter()
    why: Counter[str] = Counter()
    taken, worst, child, wrong = 0, 0.0, 0, []
    with (
        server(str(root / "data"), "--media", str(root)) as url,
        httpx.Client(base_url=url, headers={"x-kovel": "1"}, timeout=600) as c,
    ):
        c.post("/projects", data={"name": "Hostile"})
        for n in range(0, files, EACH):
            kinds += make(root / f"card {n}", rng, rows)
            got: list[httpx.Response] = []
            t = threading.Thread(
                target=lambda path=root / f"card {n}", got=got: got.append(
                    c.post("/p/1/footage/path", data={"path": str(path)})
                )
            )
            t.start()
            with httpx.Client(base_url=url, timeout=60) as other:
                while t.is_alive():
                    began = time.monotonic()
                    other.get("/health")
                    worst, child = max(worst, time.monotonic() - began), max(child, largest_child())
                    time.sleep(0.05)
            t.join()
            if got[0].status_code != 200 or "Traceback" in got[0].text:
                wrong.append(f"{got[0].status_code}: {got[0].text[:200]}")
            for line in re.findall(r"(?:is|are|has|says|cannot|took|holds)\b[^<.]{0,60}", got[0].text[-40_000:]):
                why[" ".join(line.split()[:4])] += 1
        with contextlib.closing(sqlite3.connect(root / "data" / "kovel.db")) as db:
            taken = db.execute("SELECT count(*) FROM recording").fetchone()[0]
    return {
        "made": dict(kinds),
        "taken": taken,
        "refused": files - taken,
        "why": dict(why.most_common(8)),
        "slowest answer": round(worst, 3),
        "largest child MB": child,
        "wrong": wrong,
    }


def main() -> None:
    files = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    with tempfile.TemporaryDirectory() as root:
        began = time.monotonic()
        for k, v in run(Path(root), files).items():
            print(f"{k}: {v}")
        print(f"{time.monotonic() - began:.0f} s")


if __name__ == "__main__":
    main()
