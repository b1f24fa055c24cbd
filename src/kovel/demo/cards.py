"""A made-up camera card and a sound recorder: folders that look like theirs, plugged in and pulled out by a switch."""

import os
import shutil
import wave
from pathlib import Path

import av
import numpy as np

from kovel.core.errors import Missing
from kovel.data_folder import DataFolder
from kovel.demo.project import FOOTAGE
from kovel.media.copying import FAULT
from kovel.services.footage.camera_cards import place

CAMERA = {  # beginnings of shots, taken once more; and one that the demo has already
    "DCIM/100CREEK/C0001.MP4": "marks.mp4 4",
    "DCIM/100CREEK/C0002.MP4": "feet.mp4",
    "DCIM/100CREEK/C0003.MP4": "gulls.mp4 5",
    "DCIM/100CREEK/C0004.MP4": "creek.mp4 6",
}
MADE_UP = {
    "camera-b": ("The made-up camera card", CAMERA),
    "recorder": ("The made-up sound recorder", {"SOUND/0001.WAV": "tone", "SOUND/0002.WAV": "tone"}),
}


def plug_in(data_folder: DataFolder, name: str, failing: bool = False) -> Path:
    """Plug in a made-up card; `failing`: it can be read to its middle only."""
    if name not in MADE_UP:
        raise Missing(f"There is no such card. There are: {', '.join(MADE_UP)}.")
    card_place = place(data_folder) / name
    for path, of in MADE_UP[name][1].items():
        this_path = card_place / path
        this_path.parent.mkdir(parents=True, exist_ok=True)
        if this_path.exists():
            continue
        if of == "tone":
            _tone(this_path, 200 + 110 * int(this_path.stem))
        else:
            _shot(this_path, *of.split())
    (card_place / FAULT).unlink(missing_ok=True)
    if failing:
        (card_place / FAULT).write_text(
            str(sum(path.stat().st_size for path in card_place.rglob("*") if path.is_file()) // 2)
        )
    return card_place


def _shot(path: Path, of: str, seconds: str = "") -> None:
    """A shot, or its first seconds as they were encoded."""
    if not seconds:
        shutil.copy2(FOOTAGE / of, path)
        return
    with av.open(str(FOOTAGE / of)) as src, av.open(str(path), "w", format="mp4") as dst:
        to = {
            stream.index: dst.add_stream_from_template(stream, opaque=True)
            for stream in src.streams
            if stream.type in ("video", "audio")
        }
        for packet in src.demux([stream for stream in src.streams if stream.index in to]):
            if packet.dts is not None and packet.dts * packet.time_base < int(seconds):
                packet.stream = to[packet.stream.index]
                dst.mux(packet)


def _tone(path: Path, hz: int) -> None:
    with wave.open(str(path), "wb") as writer:
        writer.setnchannels(1)
        writer.setsampwidth(2)
        writer.setframerate(48_000)
        t = np.arange(48_000 * 4) / 48_000
        writer.writeframes((np.sin(2 * np.pi * hz * t) * 6_000 * np.minimum(1, t * 4)).astype("<i2").tobytes())


def pull_out(data_folder: DataFolder, name: str) -> None:
    folder = place(data_folder) / name
    if name not in MADE_UP or not folder.exists():
        raise Missing("That card is not plugged in.")
    gone = folder.with_name(f".{name}.{os.getpid()}")
    os.replace(folder, gone)  # at once, as when it is pulled
    shutil.rmtree(gone, ignore_errors=True)
