"""A file that was made, opened again and held against the plan it was made of; and before it is made, what it is made
of.

Before   every sound that the plan reads is there, to its last sample
after    each part of the pictures is decoded: as many frames as the plan has, and at its cuts the recording's own
         picture (against the small greys that were kept when it was prepared); the whole file's sound is decoded and
         measured (against the power that was measured of each recording then)
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from kovel.core.checks.delivered import Difference, Tile, heard_differences, seen_difference
from kovel.core.plan.captioned import SAFE
from kovel.core.plan.layers import EVERYWHERE, WHOLE, Stacked
from kovel.core.plan.plan import Plan
from kovel.core.plan.retimed import RETIMED
from kovel.core.plan.sounds import Heard
from kovel.core.sound.loudness import STEP, Powers, Rows, TruePeaks, Weigher, integrated
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.media.files import Unusable
from kovel.media.title_pictures import drawn_title
from kovel.media.whole_files import facts_in
from kovel.media.wholeness import short_sound

SPACING = 50  # frames between two that are looked at within a shot
TILE = (16, 9)
FINER = 4  # greys are measured at so many times that size
SLACK = 4 * 1152  # samples an encoder may add at the end
LOUDER = 2.0  # LU between what was sent to the encoder and what is in the file (hiss loses its highest band in AAC)
Files = dict[int, dict[str, Any]]
Moment = tuple[int, Sequence[Stacked], int]  # frame of the story, the run's layers, frame of the run


def plan_of(plan: dict[str, Any]) -> Plan:
    """The sounds of a plan's JSON."""
    dips = tuple((int(at), float(db)) for at, db in plan.get("dips", ()))
    return Plan(
        Rate(*plan["rate"]), plan["length"], (), tuple(Heard.from_json(sound_row) for sound_row in plan["sounds"]), dips
    )


def _folder(file: dict[str, Any]) -> Path:
    """Where what was made of a recording lies; nowhere for one that renders of earlier versions know less of."""
    return Path(file.get("derived") or (Path(file["pcm"]).parent if file["pcm"] else "nowhere"))


def check_inputs(plan: Plan, files: Files) -> None:
    """`Unusable`, in words, where a sound that the plan reads is not there to its end."""
    for recording_id in sorted({heard_sound.source for heard_sound in plan.sounds}):
        recording_file = files[recording_id]
        folder = _folder(recording_file)
        facts = facts_in(folder / "media.json") or facts_in(folder / "sound.json") or {}
        short = short_sound(folder, {"sound": True, **facts}) if "samples" in facts else "its sound is not all there"
        if short:
            raise Unusable(
                f"{recording_file['name']}: {short}. "
                f"It is prepared again when Kovel starts or the recording is opened; "
                "then render again."
            )
        for name, path in recording_file.get("made", {}).items():
            made_path = Path(path)
            bytes_ = made_path.stat().st_size if made_path.exists() else 0
            if not bytes_ or (not name.startswith(RETIMED) and bytes_ != facts["samples"] * facts["channels"] * 2):
                made_path.unlink(missing_ok=True)  # it is made again when it is asked for
                raise Unusable(
                    f"The sound made of {recording_file['name']} is not all there. "
                    f"It is made again when you render again."
                )


def measured(plan: Plan, files: Files) -> dict[tuple[int, str], Rows]:
    """What was measured of each sound of a plan when it was made, every 100 ms."""
    measured_power: dict[tuple[int, str], Rows] = {}
    for recording_id, made_name in {(heard_sound.source, heard_sound.made) for heard_sound in plan.sounds}:
        path = (
            Path(files[recording_id]["made"][made_name]).with_suffix(".power.npy")
            if made_name
            else _folder(files[recording_id]) / "power.npy"
        )
        measured_power[recording_id, made_name] = np.load(path)
    return measured_power


def sound_in(path: Path) -> tuple[Powers, int, float]:
    """The sound of a file: weighted powers each 100 ms, how many samples at 48 kHz, and the true peak as a factor."""
    power, peaks, samples = Weigher(), TruePeaks(STEP), 0
    held: list[np.ndarray] = []

    def feed(x: np.ndarray) -> None:
        power.feed(x)
        peaks.feed(x)

    with av.open(str(path)) as container:
        resample = av.AudioResampler("flt", "stereo", SAMPLE_RATE)
        first = True
        for frame in container.decode(container.streams.audio[0]):
            if first and frame.pts and frame.time_base:
                late = round(Fraction(frame.pts) * frame.time_base * SAMPLE_RATE)
                held += [np.zeros((max(0, late), 2), np.float32)]
            first = False
            held += [frame.to_ndarray().reshape(-1, 2) for frame in resample.resample(frame)]
            if sum(map(len, held)) >= 40 * STEP:
                all_samples = np.concatenate(held)
                n = len(all_samples) // STEP * STEP
                feed(all_samples[:n])
                held, samples = [all_samples[n:]], samples + n
        held += [frame.to_ndarray().reshape(-1, 2) for frame in resample.resample(None)]
    all_samples = np.concatenate(held) if held else np.zeros((0, 2), np.float32)
    if len(all_samples):
        feed(all_samples)
    return power.finish(), samples + len(all_samples), float(peaks.finish().max(initial=0))


def sound_differences(
    path: Path, plan: Plan, files: Files, sent: float | None
) -> tuple[list[Difference], dict[str, Any]]:
    """Where the sound of a file differs from a plan; and what it measures: `loudness` in LUFS (None: silence),
    `peak` in dBTP. `sent`: the loudness of what was sent to the encoder."""
    power, samples, top = sound_in(path)
    found_differences = heard_differences(plan, measured(plan, files), power, lambda i: str(files[i]["name"]))
    length = plan.samples / SAMPLE_RATE
    if not -STEP <= samples - plan.samples <= SLACK:
        found_differences.append(
            Difference(0, length, f"the sound lasts {samples / SAMPLE_RATE:.2f} s instead of {length:.2f}")
        )
    loud = integrated(power)
    if sent is not None and (loud is None or abs(loud - sent) > LOUDER):
        found_differences.append(
            Difference(0, length, f"the loudness is {loud or -120:.1f} LUFS instead of {sent:.1f}")
        )
    return found_differences, {
        "loudness": None if loud is None else round(loud, 2),
        "peak": round(20 * np.log10(max(top, 1e-6)), 2),
    }


class Greys:
    """The recordings' own pictures, very small and grey, as they were kept when they were prepared."""

    def __init__(self, files: Files, size: tuple[int, int]) -> None:
        self.files, self.size = files, size
        self._rows: dict[int, tuple[Tile, bool] | None] = {}

    def of(self, source: int) -> tuple[Tile, bool] | None:
        """Its greys, (frames, 9, 16), and whether it fills the picture without bars; None where none were kept."""
        if source not in self._rows:
            folder = _folder(self.files[source])
            facts = facts_in(folder / "media.json")
            try:
                grey_rows = np.load(folder / "greys.npy", mmap_mode="r")
            except (OSError, ValueError):
                grey_rows = None
            if facts is None or grey_rows is None or not facts.get("width"):
                self._rows[source] = None
            else:
                shape = facts["width"] * self.size[1] / (facts["height"] * self.size[0])
                self._rows[source] = grey_rows, 0.98 < shape < 1.02
        return self._rows[source]

    def expected(self, stack: Sequence[Stacked], k: int) -> tuple[Tile | None, str, bool]:
        """The greys of what is seen at frame k of a run (None where that is not one recording alone), its name, and
        whether nothing is done to it."""
        if not stack or stack[-1].stack or stack[-1].cut or stack[-1].layer.image.source is None:
            return None, "", False
        stacked = stack[-1]
        layer, source = stacked.layer, stacked.layer.image.source
        kept = self.of(source) if source is not None else None
        if (
            kept is None
            or source is None
            or layer.look
            or layer.opacity.at(k) < 1
            or layer.place != EVERYWHERE
            or layer.part.clear
        ):
            return None, "", False
        base, num, den = stacked.steps
        own_frame = 0 if self.files[source]["still"] else min(max(0, (base + k * num) // den), len(kept[0]) - 1)
        return kept[0][own_frame], str(self.files[source]["name"]), kept[1] and layer.part == WHOLE


def picture_differences(path: Path, moments: Iterable[Moment], greys: Greys, frame_rate: Rate) -> list[Difference]:
    """Where the pictures of a part differ from the story's `moments`, one a frame. Looked at are the first and the
    last frame of each shot, and some between."""
    asked_moments = list(moments)
    differences: list[Difference] = []
    count = 0
    small = av.video.reformatter.VideoReformatter()
    with av.open(str(path)) as container:
        for frame in container.decode(container.streams.video[0]):
            if count < len(asked_moments):
                t, stack, k = asked_moments[count]
                edge = k == 0 or count + 1 == len(asked_moments) or asked_moments[count + 1][2] == 0
                if edge or k % SPACING == 0:
                    tile, name, alike = greys.expected(stack, k)
                    if difference_told := seen_difference(tile, _tile(small, frame), name, alike):
                        at = float(t / frame_rate.fps)
                        differences.append(Difference(at, at, difference_told))
            count += 1
    if count != len(asked_moments):
        at = float(asked_moments[0][0] / frame_rate.fps) if asked_moments else 0.0
        differences.insert(0, Difference(at, at, f"{count} frames instead of {len(asked_moments)}"))
    return differences


def caption_differences(plan: dict[str, Any], size: tuple[int, int], fonts: Path | None) -> list[Difference]:
    """Captions that reach beyond the safe area of the picture, each told once, at its first frame."""
    frame_rate, seen, found_differences = Rate(*plan["rate"]), set[str](), list[Difference]()
    edge = (size[0] * SAFE / 100 - 1, size[1] * SAFE / 100 - 1)
    for at, _, layers in plan["pictures"]:
        for layer in layers:
            spec = layer[4].get("title") if len(layer) > 4 else None
            if not spec or not spec.get("caption") or spec["text"] in seen:
                continue
            seen.add(spec["text"])
            box = drawn_title(spec, *size, None, fonts).getchannel("A").getbbox()
            if box and not (
                box[0] >= edge[0] and box[1] >= edge[1] and box[2] <= size[0] - edge[0] and box[3] <= size[1] - edge[1]
            ):
                begin = float(at / frame_rate.fps)
                found_differences.append(
                    Difference(
                        begin, begin, f"the caption “{spec['text'].splitlines()[0][:40]}” reaches beyond the safe area"
                    )
                )
    return found_differences


def _tile(small: Any, frame: Any) -> Tile:
    wide, high = TILE
    grey = small.reformat(frame, wide * FINER, high * FINER, "gray8").to_ndarray()
    return np.asarray(grey.reshape(high, FINER, wide, FINER).mean((1, 3)))


def frames_in(path: Path) -> int:
    """How many pictures a file has."""
    with av.open(str(path)) as container:
        return sum(1 for packet in container.demux(container.streams.video[0]) if packet.size)
