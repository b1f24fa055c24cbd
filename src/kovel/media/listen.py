"""Listening: how loud a recording is and where somebody speaks, from its raw sound. Kept as levels.npy."""

import json
import os
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from scipy.signal import firwin, resample_poly, upfirdn

from kovel.core.sound.band_level import LevelMaker
from kovel.core.sound.beats import find_beats
from kovel.core.sound.hits import candidates, novelty, ring_out
from kovel.core.sound.levels import RATE, STEP, Floats, Levels, local_floor, stretch_to_ticks
from kovel.core.sound.music_found import ENOUGH, sounds_like_music
from kovel.core.sound.sound_match import Unrelated, low, match
from kovel.core.sound.voices import cepstra, told_apart
from kovel.media.soundtrack import Patience, make_sound, samples_of, sound_file
from kovel.media.whole_files import keep, written_whole
from kovel.media.wholeness import whole_sound

WINDOW = 512  # samples the detector takes at a time
PART = 5 * 60 * RATE // WINDOW * WINDOW  # samples that it takes together
WARM = 4 * RATE // WINDOW * WINDOW  # and before them: it has a memory, let it warm up
BLOCK = 48_000 * 60
LONGEST = 16_000 * 30  # samples of a sentence that are enough to tell whose voice it is
_FIR = firwin(31, 0.32).astype(np.float32)
Progress = Callable[[float], None]


class Sound16:
    """The mono 16 kHz sound of a recording, read piece by piece from its sound.pcm."""

    def __init__(self, pcm: Path, channels: int) -> None:
        self.samples = samples_of(pcm, channels)

    def __len__(self) -> int:
        return len(self.samples) // 3

    def read(self, start: int, end: int) -> Floats:
        """16 kHz samples [start, end), silence outside the recording."""
        margin = 30
        begin, until = start * 3 - margin, end * 3 + margin
        x = self.samples[max(0, begin) : max(0, until)]
        y = x[:, 0].astype(np.float32) if x.shape[1] == 1 else np.add(x[:, 0], x[:, 1], dtype=np.float32)
        before, after = max(0, -begin), max(0, (until - begin) - len(y) - max(0, -begin))
        if before or after:
            y = np.pad(y, (before, after))
        y = upfirdn(_FIR / np.float32(32768 * x.shape[1]), y, 1, 3)  # as resample_poly does it, without its copies
        first = (len(_FIR) - 1) // 6 + margin // 3
        return np.asarray(y[first : first + end - start], np.float32)


def speech_probability(x: Floats) -> Floats:
    """The bundled detector's probability of speech for each WINDOW of 16 kHz samples; a last part window is padded."""
    from faster_whisper.vad import get_vad_model

    x = np.pad(x, (0, -len(x) % WINDOW))
    return np.asarray(get_vad_model()(x), np.float32).ravel() if len(x) else np.zeros(0, np.float32)


def make_heard_sound(
    path: str,
    out: str,
    rate: list[int],
    picture: bool,
    frames: int | None,
    progress: Progress,
    heard: Sequence[int] = (),
) -> dict[str, int]:
    """As `make_sound`; what has come of it is listened to meanwhile, giving way to the making."""
    ended = threading.Event()
    follower = threading.Thread(target=_follow, args=(Path(out), ended))
    follower.start()
    try:
        return make_sound(path, out, rate, picture, frames, progress, heard)
    finally:
        ended.set()
        follower.join()


def _follow(folder: Path, ended: threading.Event) -> None:
    """levels.npy of what there is of a growing sound, PART by PART; its last tick says that there is more to come."""
    os.nice(5)  # this thread alone, on Linux
    maker, speech, floor, at = LevelMaker(), np.zeros(0, np.float32), np.zeros(0, np.float32), 0
    while not ended.wait(0.3):
        try:
            channels = json.loads((folder / "begun.json").read_text())["channels"]
            if whole_sound(folder):  # another try has made it
                return
            sound = Sound16(sound_file(folder), channels)
        except (OSError, ValueError, KeyError):
            continue
        if len(sound) < at + PART + RATE:  # the last bit may be half written
            continue
        for a in range(at, at + PART, BLOCK):
            maker.feed(sound.read(a, min(at + PART, a + BLOCK)))
        speech = np.concatenate([speech, _speech_in(sound, at, at + PART)])
        at += PART
        level = maker.finish()
        floor = _longer(floor, level)
        save(folder, Levels(np.append(speech[:-1], np.float32(-1)), level, floor))


def _longer(floor: Floats, level: Floats) -> Floats:
    """The local floor of a level that has grown, of which that of its beginning is known but for its end."""
    kept = max(0, len(floor) - 2000) // 100 * 100
    before = max(0, kept - 2000)
    return np.concatenate([floor[:kept], local_floor(level[before:])[kept - before :]])


def _speech_in(sound: Sound16, start: int, end: int) -> Floats:
    """The probability of speech in each tick of samples [a, b) of a sound; `a` in whole ticks and windows."""
    lead = min(start, WARM)
    return stretch_to_ticks(
        speech_probability(sound.read(start - lead, end))[lead // WINDOW :], -(-(end - start) // STEP)
    )


def listen(out: str, channels: int, progress: Progress, music: bool = False) -> dict[str, Any]:
    """Make levels.npy in folder `out` from its sound.pcm; and say, if asked, whether it is `music`.

    A first version by level alone, and by what was heard while the sound was made, is there after a few seconds, so
    that work can begin; parts that the detector has heard replace it minute by minute. One that is whole stays.
    """
    folder = Path(out)
    sound = Sound16(folder / "sound.pcm", channels)
    count = len(sound)
    if (ticks := _heard_whole(folder, count)) is not None:
        return {"seconds": ticks / 100, **({"music": _is_music(folder, channels)} if music else {})}
    before = _heard_before(folder)
    maker = LevelMaker()
    for a in range(0, count, BLOCK):
        maker.feed(sound.read(a, min(count, a + BLOCK)))
        progress(0.2 * a / max(1, count))
    level = maker.finish()
    floor = local_floor(level)
    speech = np.full(len(level), -1, np.float32)
    speech[: len(before)] = before
    save(folder, Levels(speech, level, floor))
    parts = range(len(before) * STEP, count, PART)
    with ThreadPoolExecutor(max(1, min(4, (os.cpu_count() or 2)))) as pool:
        for index, (a, part_speech) in enumerate(
            zip(parts, pool.map(lambda a: _speech_in(sound, a, min(count, a + PART)), parts), strict=True)
        ):
            end = len(level) if a + PART >= count else (a + PART) // STEP
            speech[a // STEP : end] = part_speech[: end - a // STEP]
            if index % 4 == 3 or a + PART >= count:
                save(folder, Levels(speech, level, floor))
            progress(0.2 + 0.8 * min(1.0, (a + PART) / max(1, count)))
    return {"seconds": len(level) / 100, **({"music": _is_music(folder, channels)} if music else {})}


def _is_music(folder: Path, channels: int) -> bool:
    """Whether a recording that was heard is music."""
    speech = Levels.from_array(np.load(folder / "levels.npy")).speech
    return sounds_like_music(
        sound24(folder, channels, ENOUGH * 2), float((speech > 0.5).mean()) if len(speech) else 0.0
    )


def _heard_whole(folder: Path, samples: int) -> int | None:
    """Ticks of levels.npy, where all of a sound of so many samples at 16 kHz was heard; None where there is more to
    hear."""
    try:
        levels = Levels.from_array(np.load(folder / "levels.npy"))
    except (OSError, ValueError):
        return None
    ticks = samples // STEP + (samples % STEP >= STEP // 2)
    return ticks if levels.heard and len(levels) == ticks else None


def _heard_before(folder: Path) -> Floats:
    """The speech of as many whole parts as were heard while the sound was made."""
    try:
        speech = Levels.from_array(np.load(folder / "levels.npy")).speech
    except (OSError, ValueError):
        return np.zeros(0, np.float32)
    unheard = np.flatnonzero(speech < 0)
    if len(unheard) != 1 or unheard[0] != len(speech) - 1:
        return np.zeros(0, np.float32)
    speech[-1] = speech[-2]  # it was heard as well: it only said that there is more
    return speech[: len(speech) // (PART // STEP) * (PART // STEP)]


def _growing(folder: Path, channels: int, step: int, progress: Progress) -> Iterator[Sound16]:
    """The sound of a recording each time so many samples more of it are there, until it is there to its end."""
    due = step
    patience = Patience(folder)
    while not whole_sound(folder):
        sound = sound_so_far(folder, channels)
        if sound is None or len(sound) < due + RATE:  # the last bit may be half written
            patience.wait()
            progress(0.001)
            continue
        yield sound
        due += step


def sound_so_far(folder: Path, channels: int) -> Sound16 | None:
    """What there is of a recording's sound; None while there is nothing."""
    try:
        return Sound16(sound_file(folder), channels)
    except OSError:
        return None


def levels_between(sound: Sound16, start: int, end: int) -> Levels:
    """The levels of 16 kHz samples [start, end) of a sound, which may still be growing behind them."""
    maker = LevelMaker()
    for a in range(start, end, BLOCK):
        maker.feed(sound.read(a, min(end, a + BLOCK)))
    level = maker.finish()
    lead = min(start, WARM)
    heard_speech = speech_probability(sound.read(start - lead, end))[lead // WINDOW :]
    return Levels(stretch_to_ticks(heard_speech, len(level)), level, local_floor(level))


def save(folder: Path, levels: Levels) -> None:
    """Replace levels.npy in one step: a reader sees the old one or the new one."""
    with written_whole(folder / "levels.npy") as part_file, part_file.open("wb") as file:
        np.save(file, levels.to_array())


def sound24(folder: Path, channels: int, until: int | None = None) -> Floats:
    """The sound of a recording, mono at 24 kHz: all of it, or so many samples at 48 kHz."""
    samples = samples_of(folder / "sound.pcm", channels)[:until]
    sound_blocks = [np.zeros(0, np.float32)]
    for a in range(0, len(samples), BLOCK):
        low, high = max(0, a - 60), min(len(samples), a + BLOCK + 60)
        y = samples[low:high].astype(np.float32).mean(1) / 32768
        sound_blocks.append(
            resample_poly(y, 1, 2).astype(np.float32)[(a - low) // 2 :][: (min(BLOCK, len(samples) - a) + 1) // 2]
        )
    return np.concatenate(sound_blocks)


def pulse(out: str, channels: int, progress: Progress) -> dict[str, Any]:
    """Hits and beats of a recording: pulse.json with what may be a hit [sample, strength, needs, ring in seconds],
    and the beats. While its sound is still being made: of what has come, after two minutes of it, four, eight and so
    on."""
    folder = Path(out)
    due = 2 * 60 * RATE
    for sound in _growing(folder, channels, due, progress):
        if len(sound) >= due:
            _pulse(folder, sound24(folder, channels, due * 3))
            due *= 2
    return _pulse(folder, sound24(folder, channels), progress)


def _pulse(folder: Path, x: Floats, progress: Progress = lambda x: None) -> dict[str, Any]:
    progress(0.2)
    new = novelty(x) if len(x) else x
    progress(0.6)
    hit_candidates = candidates(x, new)
    rings = ring_out(x, hit_candidates)
    beats = find_beats(x, new)
    value = {
        "hits": [
            [hit.sample, hit.strength, hit.needs, round(ring, 3)]
            for hit, ring in zip(hit_candidates, rings, strict=True)
        ],
        "beats": list(beats.beats),
        "tempo": beats.tempo,
        "first": beats.first,
        "bar": beats.bar,
    }
    keep(folder / "pulse.json", value)
    return {"hits": len(hit_candidates), "tempo": beats.tempo}


def voices(out: str, channels: int, spans: list[list[int]], progress: Progress) -> dict[str, Any]:
    """Which of two voices says each of the spans (samples at 48 kHz), and whether there are two."""
    sound = Sound16(Path(out) / "sound.pcm", channels)
    frames = []
    for index, (start, end) in enumerate(spans):
        frames.append(cepstra(sound.read(start // 3, min(end // 3, start // 3 + LONGEST))))
        progress(0.95 * (index + 1) / len(spans))
    voices_told = told_apart(frames)
    return {
        "voices": list(voices_told.voices),
        "sure": [round(sureness, 3) for sureness in voices_told.sure],
        "gain": round(voices_told.gain, 3),
        "two": voices_told.two,
        "plain": voices_told.plain,
    }


def _mono(raw: np.ndarray, start: int, end: int) -> Floats:
    """Samples [a, b) of 16-bit sound as one channel, -1 to 1."""
    return np.asarray(raw[start:end].astype(np.float32).mean(1) / 32768, np.float32)


def _share(progress: Progress, begin: float, share: float, x: float) -> None:
    progress(begin + share * x)


def sync_by_sound(members: list[dict[str, Any]], progress: Progress) -> dict[str, Any]:
    """Where each recording of one moment begins on the first one's clock.

    `members` are {"out": folder with sound.pcm, "channels": n, "name": ...}. The first that matches stands for the
    others: one that cannot be matched is told by name, with why.
    """
    tracks = []
    for index, member in enumerate(members):
        raw = samples_of(Path(member["out"]) / "sound.pcm", member["channels"])
        tracks.append(low(partial(_mono, raw), len(raw)))
        progress(0.4 * (index + 1) / len(members))
    found_offsets: list[dict[str, Any]] = [{"offset": 0.0, "ppm": 0.0, "sure": 1.0, "curve": [], "windows": []}]
    for index, track in enumerate(tracks[1:]):
        share = 0.6 / max(1, len(tracks) - 1)
        try:
            got = match(tracks[0], track, partial(_share, progress, 0.4 + share * index, share))
            curve = [
                [round(curve_time, 3), round(y, 2)] for curve_time, y in got.curve[:: max(1, len(got.curve) // 300)]
            ]
            windows = [list(window) for window in got.windows]
            found_offsets.append(
                {"offset": got.offset, "ppm": got.ppm, "sure": got.sure, "curve": curve, "windows": windows}
            )
        except Unrelated as error:
            found_offsets.append({"unrelated": f"{members[index + 1]['name']}: {error}"})
    return {"members": found_offsets}
