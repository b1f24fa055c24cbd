"""Whether what was made of a recording is as long as media.json says, by sizes and headers alone; and what is short
taken apart, so that it is made again.

media.json says    |sound 67.6 s ───────────────────────|  frames 1690
sound.pcm          |~~~~~~~~~~|                            short: 8.0 of 67.6 s
"""

import shutil
from pathlib import Path
from typing import Any

import numpy as np

from kovel.core.sound.loudness import STEP
from kovel.core.sound.peaks import BASE, LEVELS
from kovel.core.time.rate import SAMPLE_RATE
from kovel.media.proxy import SHEET
from kovel.media.whole_files import facts_in, keep

SAMPLE = 2  # bytes
OF_SOUND = ("sound.pcm", "peaks.bin", "power.npy", "levels.npy", "pulse.json", "sound.json")
OF_PICTURE = ("proxy.mp4", "proxy.idx", "own.npz", "own.json", "greys.npy", "motion.npy", "picture.json")


def sound_is_long_enough(folder: Path, facts: dict[str, Any]) -> bool:
    """Whether sound.pcm has the bytes that its samples and channels take: a single look at the disk."""
    return _size(folder / "sound.pcm") == int(facts["samples"]) * SAMPLE * int(facts["channels"])


def short_sound(folder: Path, facts: dict[str, Any]) -> str:
    """What a recording's sound lacks of the samples and channels stated, in words; empty where it is whole or has
    none."""
    if not facts.get("sound", True):
        return ""
    samples, width = int(facts["samples"]), SAMPLE * int(facts["channels"])
    if not sound_is_long_enough(folder, facts):
        found_bytes = _size(folder / "sound.pcm")
        return f"its sound had {found_bytes / width / SAMPLE_RATE:.1f} of {samples / SAMPLE_RATE:.1f} s"
    pairs = -(-samples // BASE)
    peaks = 8 + 4 * len(LEVELS) + 2 * sum(-(-pairs // level_index) for level_index in LEVELS)
    if _size(folder / "peaks.bin") != peaks:
        return "its waveform was not whole"
    if _rows(folder / "power.npy") != -(-samples // STEP):
        return "its loudness was not measured to its end"
    return ""


def short_picture(folder: Path, facts: dict[str, Any]) -> str:
    """What a recording's pictures lack of the frames stated, in words; empty where they are whole or there are none."""
    if not facts["picture"]:
        return ""
    frames = facts["frames"] or 1  # a still is one
    if facts.get("own"):
        noted = facts_in(folder / "own.json") or {}
        found_frames = int(noted.get("frames", 0)) if _size(folder / "own.npz") else 0
    else:
        found_frames = _frames_of_proxy(folder, facts)
    if found_frames != frames:
        return f"its pictures had {found_frames} of {frames} frames"
    measured = facts.get("measured", None if facts.get("own") else frames)  # older versions did not note it
    if measured is not None and not _rows(folder / "greys.npy") == _rows(folder / "motion.npy") == measured:
        return "its movement was not measured to its end"
    small = facts.get("small")
    names = [f"{small['name']}-{n}.jpg" for n in range(-(-small["count"] // SHEET))] if small else []
    if not all(_size(folder / name) for name in names):
        return "its small frames were not all there"
    return ""


def _frames_of_proxy(folder: Path, facts: dict[str, Any]) -> int:
    """Frames whose packets lie inside proxy.mp4 as proxy.idx says."""
    try:
        ends = int(facts["first"]) + np.cumsum(np.fromfile(folder / "proxy.idx", "<u4").astype(np.int64))
    except OSError:
        return 0
    return int(np.searchsorted(ends, _size(folder / "proxy.mp4"), "right"))


def shortcomings(folder: Path) -> str:
    """What is short of a recording that counts as whole, in words: its sound, its pictures; empty where all is
    there."""
    facts = facts_in(folder / "media.json")
    if facts is None:
        return ""
    return "; ".join(
        shortcoming for shortcoming in (short_sound(folder, facts), short_picture(folder, facts)) if shortcoming
    )


def sound_made(folder: Path) -> dict[str, int] | None:
    """Samples and channels of a recording's sound, where every sample is there that media.json or sound.json states;
    else None."""
    facts = facts_in(folder / "media.json") or facts_in(folder / "sound.json")
    if facts is None or "samples" not in facts or short_sound(folder, facts):
        return None
    return {"samples": facts["samples"], "channels": facts["channels"]}


def whole_sound(folder: Path) -> bool:
    """Whether all of a recording's sound is there."""
    return sound_made(folder) is not None


def _keep_facts(folder: Path, facts: dict[str, Any]) -> None:
    """What is known of it, as preparing keeps it step by step, for as far as it is whole."""
    of_all = ("rate", "picture", "sound", "frames", *(("own", "gop", "piece") if facts.get("own") else ()))
    keep(folder / "begun.json", {name: facts[name] for name in of_all} | {"channels": facts.get("channels", 1)})
    keep(folder / "look.json", {"small": facts["small"]} if facts.get("small") else {})
    if facts["picture"] and not short_picture(folder, facts):
        sound = ("rate", "picture", "sound", "samples", "channels")
        keep(folder / "picture.json", {name: fact for name, fact in facts.items() if name not in sound})


def take_apart(folder: Path) -> str:
    """A recording counts as whole no more: what is short of it goes, what is whole stays, and is not made again.
    What was short, in words; empty (and nothing is done) where all is there."""
    facts = facts_in(folder / "media.json")
    told_lack = shortcomings(folder)
    if facts is None or not told_lack:
        return ""
    _keep_facts(folder, facts)
    gone: tuple[str, ...] = () if (folder / "picture.json").exists() else OF_PICTURE
    if facts["sound"] and not short_sound(folder, facts):
        keep(folder / "sound.json", {fact_name: facts[fact_name] for fact_name in ("samples", "channels")})
    elif facts["sound"]:
        gone += OF_SOUND
    (folder / "media.json").unlink()
    for name in gone:
        (folder / name).unlink(missing_ok=True)
    if facts["sound"] and "sound.pcm" in gone:
        shutil.rmtree(folder / "made", ignore_errors=True)  # made of what was short
    return told_lack


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _rows(path: Path) -> int:
    """How many rows a .npy file holds, to its last byte; 0 where it holds fewer than its header says."""
    try:
        return len(np.load(path, mmap_mode="r"))
    except (OSError, ValueError):
        return 0
