"""Stems: each lane of the story as a sound file as long as the whole; together they are the mix. And fitted music as one file.

dialogue  |~~~ ~~~~~  ~~~|
music     |~~~~~~~~~~~~~~|      24-bit WAV, 48 kHz, stereo; peak dips of the whole are in every one
"""

import wave
from dataclasses import replace
from pathlib import Path

import numpy as np

from kovel.core.plan.plan import Plan, make_plan
from kovel.core.sound.music_fit import Fitted
from kovel.core.story.model import SOUNDS, Story
from kovel.core.time.rate import SAMPLE_RATE
from kovel.media.render import Sound
from kovel.store import recordings
from kovel.store.projects import Invalid
from kovel.work.checking import mix_of
from kovel.work.folder import Data
from kovel.work.intake import safe

BLOCK = 10 * SAMPLE_RATE
CROSS = int(0.08 * SAMPLE_RATE)


def lane_plans(story: Story, plan: Plan) -> dict[str, Plan]:
    """A plan for each lane that is heard."""
    lanes = (
        {p.id: "dialogue" for p in story.pieces}
        | {c.id: "natural" for c in story.covers}
        | {x.id: x.kind for x in story.sounds}
    )
    out = {}
    for lane in ("dialogue", *SOUNDS):
        rows = tuple(h for h in plan.sounds if lanes.get(h.of) == lane)
        if rows:
            out[lane] = replace(plan, sounds=rows)
    return out


def write_stems(data: Data, project: int, story: Story, out: Path) -> list[Path]:
    """Write each lane into folder `out`; the files. Nothing that is there is written over."""
    plan = make_plan(story, recordings.sources(data.db, project))
    plans = lane_plans(story, plan)
    if not plans:
        raise Invalid("Nothing is heard in the story: there are no stems to write.")
    out.mkdir(parents=True, exist_ok=True)
    paths = {lane: out / f"{safe(lane)}.wav" for lane in plans}
    for p in paths.values():
        if p.exists():
            raise Invalid(f"{p.name} is in that folder already. Choose another one.")
    for lane, path in paths.items():
        _write(path, mix_of(data, plans[lane]), plan.samples)
    return list(paths.values())


def _write(path: Path, sound: Sound, samples: int) -> None:
    part = path.with_name(f"{path.name}.part")
    with wave.open(str(part), "wb") as f:
        f.setnchannels(2)
        f.setsampwidth(3)
        f.setframerate(SAMPLE_RATE)
        for a in range(0, samples, BLOCK):
            f.writeframes(to_24(sound.block(a, min(samples, a + BLOCK))))
    part.replace(path)


def to_24(x: np.ndarray) -> bytes:
    """Floats (n, channels) as 24-bit little-endian samples."""
    whole = np.rint(np.clip(x, -1, 1 - 2**-23) * 2**23).astype("<i4")
    three: bytes = whole.reshape(-1, 1).view(np.uint8)[:, :3].tobytes()
    return three


def joined_music(samples: np.ndarray, done: Fitted) -> np.ndarray:
    """Fitted music as samples (n, channels), its joins crossed at equal power with their middle on the beat."""
    ramp = np.sin(np.linspace(0, np.pi / 2, CROSS))[:, None]
    out = np.zeros((done.length, samples.shape[1]))
    half, at = CROSS // 2, 0
    for k, (a, b) in enumerate(done.ranges):
        lead = half if k else 0
        tail = half if k < len(done.ranges) - 1 else 0
        x = np.asarray(samples[a - lead : b + tail], float)
        if lead:
            x[:CROSS] *= ramp
        if tail:
            x[-CROSS:] *= ramp[::-1]
        out[at - lead : at - lead + len(x)] += x
        at += b - a
    return np.rint(out).clip(-32768, 32767).astype(np.int16)
