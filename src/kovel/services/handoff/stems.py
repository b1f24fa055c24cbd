"""Stems: each lane of the story as a sound file as long as the whole; together they are the mix. And fitted music as
one file.

dialogue  |~~~ ~~~~~  ~~~|
music     |~~~~~~~~~~~~~~|      24-bit WAV, 48 kHz, stereo; peak dips of the whole are in every one
"""

from dataclasses import replace
from pathlib import Path

import numpy as np

from kovel.core.errors import Invalid
from kovel.core.plan.plan import Plan, make_plan
from kovel.core.sound.music_fit import Fitted
from kovel.core.story.model import SOUNDS, Story
from kovel.core.time.rate import SAMPLE_RATE
from kovel.data_folder import DataFolder
from kovel.media.soundfiles import stems
from kovel.services.footage.mending import whole_sound_of
from kovel.services.story.story_checks import mix_of
from kovel.store import recordings

CROSS = int(0.08 * SAMPLE_RATE)


def lanes_of(story: Story) -> dict[int, str]:
    """The lane of each thing that may be heard, by its id."""
    named = {piece.id: "dialogue" for piece in story.pieces} | {cover.id: "natural" for cover in story.covers}
    return named | {sound.id: sound.kind for sound in story.sounds}


def lane_plans(story: Story, plan: Plan) -> dict[str, Plan]:
    """A plan for each lane that is heard."""
    lanes = lanes_of(story)
    plans_by_lane = {}
    for lane in ("dialogue", *SOUNDS):
        lane_sounds = tuple(heard_sound for heard_sound in plan.sounds if lanes.get(heard_sound.of) == lane)
        if lane_sounds:
            plans_by_lane[lane] = replace(plan, sounds=lane_sounds)
    return plans_by_lane


def write_stems(data_folder: DataFolder, project: int, story: Story, out: Path) -> list[Path]:
    """Write each lane into folder `out`; the files. Nothing that is there is written over."""
    plan = make_plan(story, recordings.sources(data_folder.db, project))
    plans = lane_plans(story, plan)
    if not plans:
        raise Invalid("Nothing is heard in the story: there are no stems to write.")
    for lane in plans:
        if (path := out / f"{lane}.wav").exists():
            raise Invalid(f"{path.name} is in that folder already. Choose another one.")
    for source in sorted({heard_sound.source for heard_sound in plan.sounds}):
        whole_sound_of(data_folder, source, "Write stems")
    lanes = {lane: mix_of(data_folder, one).block for lane, one in plans.items()}
    return stems(out, lanes, mix_of(data_folder, plan).block, plan.samples, lambda x: None)


def joined_music(samples: np.ndarray, done: Fitted) -> np.ndarray:
    """Fitted music as samples (n, channels), its seams crossed at equal power with their middle on the beat."""
    ramp = np.sin(np.linspace(0, np.pi / 2, CROSS))[:, None]
    joined_samples = np.zeros((done.length, samples.shape[1]))
    half, at = CROSS // 2, 0
    for index, (start, end) in enumerate(done.ranges):
        lead = half if index else 0
        tail = half if index < len(done.ranges) - 1 else 0
        music_samples = np.asarray(samples[start - lead : end + tail], float)
        if lead:
            music_samples[:CROSS] *= ramp
        if tail:
            music_samples[-CROSS:] *= ramp[::-1]
        joined_samples[at - lead : at - lead + len(music_samples)] += music_samples
        at += end - start
    return np.rint(joined_samples).clip(-32768, 32767).astype(np.int16)
