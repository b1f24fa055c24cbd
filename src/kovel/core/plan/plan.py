"""The plan: the story flattened to what is seen and heard. Player, renderer and exports read this and nothing else.

dialogue  [ A ....... ][ B ...... ]          picture  [ A .][ boat ...][ B .. ]
cover          [ boat ... ]            ->    sound    [ A ....... ][ B ...... ]
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from kovel.core.plan.covered import covered
from kovel.core.plan.layers import BLACK, Image, Layer, Run, flat, joined, own_frame, ratios
from kovel.core.plan.pictures import dialogue_runs
from kovel.core.plan.retimed import Retimed
from kovel.core.plan.sounds import RAMP, GainLine, Heard, heard, made_of
from kovel.core.story.model import Source, Sources, Story
from kovel.core.story.settings import NONE, SHAPES
from kovel.core.time.rate import Rate

FORM = "layers 4"  # of `Plan.to_json`: what reads it refuses another one


@dataclass(frozen=True)
class Plan:
    """`pictures` fill [0, length) without gap or overlap; `sounds` are in order of their beginnings and may overlap."""

    rate: Rate
    length: int
    pictures: tuple[Run, ...]
    sounds: tuple[Heard, ...]
    dips: GainLine = ()  # of the whole mix: story samples with dB

    @property
    def samples(self) -> int:
        """Length in samples."""
        return self.rate.frame_to_sample(self.length)

    @property
    def seen(self) -> set[int]:
        """The recordings that are seen."""
        return {
            layer.image.source for run in self.pictures for layer in flat(run.layers) if layer.image.source is not None
        }

    @property
    def sources(self) -> set[int]:
        """The recordings that are seen or heard."""
        return self.seen | {sound.source for sound in self.sounds}

    @property
    def made(self) -> dict[int, set[str]]:
        """The made sounds that are heard, by recording."""
        made_by_recording: dict[int, set[str]] = {}
        for sound in self.sounds:
            if sound.made:
                made_by_recording.setdefault(sound.source, set()).add(sound.made)
        return made_by_recording

    @property
    def retimed(self) -> dict[int, dict[str, Retimed]]:
        """How the retimed sounds that are heard are made, by recording and name."""
        retimed_by_recording: dict[int, dict[str, Retimed]] = {}
        for sound in self.sounds:
            if sound.pace:
                retimed_by_recording.setdefault(sound.source, {})[sound.made] = sound.pace
        return retimed_by_recording

    def picture_at(self, frame: int) -> Run:
        """What is seen at a story frame (0 <= frame < length)."""
        lowest, highest = 0, len(self.pictures) - 1
        while lowest < highest:
            mid = (lowest + highest) // 2
            if self.pictures[mid].end > frame:
                highest = mid
            else:
                lowest = mid + 1
        return self.pictures[lowest]

    def recording_frame(self, frame: int, sources: Sources) -> tuple[int, int] | None:
        """(source, its own frame) on screen at a story frame; None for black or a card. Of a blend, the lower layer."""
        run = self.picture_at(frame)
        if run.source is None:
            return None
        return run.source, own_frame(run.image, frame - run.at, self.rate, sources[run.source].rate)

    def to_json(self, sources: Sources) -> dict[str, Any]:
        """For player and renderer: runs [at, end, layers] (`Layer.to_json`), sounds (`Heard.to_json`), dips of the
        whole [sample, dB]."""
        ratio = ratios(sources, self.rate)
        return {
            "form": FORM,
            "rate": [self.rate.num, self.rate.den],
            "length": self.length,
            "samples": self.samples,
            "ramp": RAMP,
            "pictures": [[run.at, run.end, [layer.to_json(ratio) for layer in run.layers]] for run in self.pictures],
            "sounds": [sound.to_json() for sound in self.sounds],
            "dips": [list(dip) for dip in self.dips],
        }


def make_plan(story: Story, sources: Sources) -> Plan:
    """Flatten a story."""
    runs = covered(story, sources, dialogue_runs(story, sources))
    dips = tuple(
        (story.rate.frame_to_sample(moment), db) for moment, db in dict(story.settings).get("story", NONE)["dips"]
    )
    return Plan(story.rate, story.length, joined(runs), heard(story, sources), dips)


def size_of(story: Story, width: int, height: int) -> tuple[int, int]:
    """Width and height of a story's picture in a project of that size: its shape, with the project's shorter side."""
    whole = dict(story.settings).get("story", NONE)
    ratio = whole["ratio"] if whole["shape"] == "own" else SHAPES[whole["shape"]]
    if not ratio:
        return width, height
    short = min(width, height)
    w, h = (short * ratio, short) if ratio >= 1 else (short, short / ratio)
    return round(w / 2) * 2, round(h / 2) * 2


def window_plan(frame_rate: Rate, source: Source) -> Plan:
    """One whole recording as a plan, so that it plays through the same player. A still lasts five seconds."""
    n = source.length(frame_rate) or frame_rate.nominal * 5
    layer = Layer(Image(source.id)) if source.picture else BLACK
    return Plan(
        frame_rate,
        n,
        (Run(0, n, (layer,)),),
        (Heard(0, frame_rate.frame_to_sample(n), source.id, 0, made=made_of(source)),) if source.sound else (),
    )
