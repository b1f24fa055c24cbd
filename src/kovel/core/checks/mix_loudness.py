"""Loudness and peaks of a whole story, from what is measured of each recording every 100 ms.

recording A   [p p p p p p p]   music [p p p p p p]     p: power by the ear's weighting, peak, samples at full scale
story         [ A .... ][ A ... ] + music at -6 dB  ->  blocks of 400 ms that overlap by three quarters, gated: LUFS

Weighting, blocks and gates: ITU-R BS.1770-4; the target of -23 LUFS: EBU R 128. Sounds that are heard together are
added by their power, as sounds of different origin do.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from math import floor

import numpy as np
import numpy.typing as npt

from kovel.core.checks.findings import Finding
from kovel.core.plan.plan import Plan
from kovel.core.plan.sounds import AS_IT_IS, along
from kovel.core.sound.loudness import STEP, Rows, integrated
from kovel.core.story.model import Sources, Story, frames_to
from kovel.core.story.settings import NONE
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp as clock

OFF = 1.0  # LU by which it may miss the target (R 128 for live programmes)
FULL = 3  # samples at full scale within 100 ms that make it clipping (common practice, no source)
NEAR = 50  # blocks within which places over full scale are told as one
MOST = 3_000  # places that are measured exactly


@dataclass(frozen=True)
class Mixed:
    """A story's sound every 100 ms: power, and what its peaks add up to at most."""

    power: npt.NDArray[np.float64]
    most: npt.NDArray[np.float64]


def mixed(plan: Plan, measured: Mapping[tuple[int, str], Rows]) -> Mixed:
    """What a plan's sounds add up to; `measured` by recording and the name of what was made of it."""
    n = -(-plan.samples // STEP)
    power, most = np.zeros(n), np.zeros(n)
    silence = np.zeros((1, 3), np.float32)  # stands last, for what lies outside a recording
    padded = {key: np.concatenate([powers, silence]) for key, powers in measured.items() if len(powers)}
    for heard_sound in plan.sounds:
        padded_powers = padded.get((heard_sound.source, heard_sound.made))
        if padded_powers is None and not heard_sound.pace:
            padded_powers = padded.get((heard_sound.source, ""))
        if padded_powers is None:
            continue
        first_block, end_block = max(0, heard_sound.at // STEP), min(n, -(-heard_sound.end // STEP))
        begin = np.arange(first_block, end_block) * STEP
        share = (np.minimum(begin + STEP, heard_sound.end) - np.maximum(begin, heard_sound.at)) / STEP
        at = (
            begin - heard_sound.at + heard_sound.start
        ) / STEP  # where each block lies in the recording, between two of its own
        whole = np.floor(at).astype(np.int64)
        w = at - whole
        low, high = (
            np.where((block_index >= 0) & (block_index < len(padded_powers) - 1), block_index, -1)
            for block_index in (whole, whole + 1)
        )
        middle = begin + STEP // 2 - heard_sound.at
        gain = heard_sound.gains(middle) * heard_sound.ramps(
            np.clip(middle, 0, heard_sound.end - heard_sound.at).astype(np.float32)
        )
        if heard_sound.mix != AS_IT_IS:
            gain = gain * (sum(mix_share**2 for mix_share in heard_sound.mix) / 2) ** 0.5
        power[first_block:end_block] += gain**2 * share * ((1 - w) * padded_powers[low, 0] + w * padded_powers[high, 0])
        most[first_block:end_block] += gain * np.maximum(padded_powers[low, 1], padded_powers[high, 1])
    if plan.dips:
        gain = 10 ** (along(plan.dips, np.arange(n) * STEP + STEP // 2) / 20)
        power, most = power * gain**2, most * gain
    return Mixed(power, most)


def target_of(story: Story) -> float:
    """The loudness that is aimed at, in LUFS."""
    return float(dict(story.settings).get("story", NONE)["target"])


def sound_findings(
    story: Story,
    sources: Sources,
    plan: Plan,
    measured: Mapping[tuple[int, str], Rows],
    peak: Callable[[int, int], float],
) -> list[Finding]:
    """Clipped recordings, a mix over full scale, loudness off the target. `peak(a, b)` is the exact peak of the mix."""
    mix = mixed(plan, measured)
    return [
        *_clipped(story, sources, measured),
        *_over_full_scale(story.rate, plan, mix.most, peak),
        *_off_target(story, integrated(mix.power)),
    ]


def _clipped(story: Story, sources: Sources, measured: Mapping[tuple[int, str], Rows]) -> Iterator[Finding]:
    """Pieces whose recordings are clipped where they are used."""
    frame_rate = story.rate
    for at, piece in zip(story.starts, story.pieces, strict=False):
        source_power = measured.get((piece.source, "")) if piece.source is not None else None
        if source_power is None or piece.take == "picture":
            continue
        start, end = (frame_rate.frame_to_sample(edge_frame) for edge_frame in piece.used)
        first_block = start // STEP
        clipped = np.flatnonzero(source_power[first_block : -(-end // STEP), 2] >= FULL)
        if len(clipped) and piece.source is not None:
            clipped_frame = at + max(
                0, floor(frames_to(piece, frame_rate.sample_to_frame((first_block + int(clipped[0])) * STEP)))
            )
            name = sources[piece.source].name if piece.source in sources else "A recording"
            where = clock(clipped_frame, frame_rate)
            told_clipping = f"{name} is clipped in its recording at {where}, for {len(clipped) / 10:.1f} s in all"
            yield Finding("clip", clipped_frame, told_clipping, 40)


def _over_full_scale(
    frame_rate: Rate, plan: Plan, most: np.ndarray, peak: Callable[[int, int], float]
) -> Iterator[Finding]:
    """Stretches where the mix goes over full scale: those close together are one."""
    over: list[list[tuple[int, float]]] = []  # blocks over full scale and their peaks; those close together are one
    for block_index in np.flatnonzero(most > 1).tolist()[:MOST]:
        high = peak(block_index * STEP, min((block_index + 1) * STEP, plan.samples))
        if high > 1.0001:
            if over and block_index - over[-1][-1][0] <= NEAR:
                over[-1].append((block_index, high))
            else:
                over.append([(block_index, high)])
    for run in over:
        worst, high = max(run, key=lambda b: b[1])
        there, first = (
            clock(frame_rate.sample_to_frame(block_index * STEP), frame_rate) for block_index in (worst, run[0][0])
        )
        text = f"The sounds together go {20 * np.log10(high):.1f} dB over full scale at {there}"
        text += f", and {len(run) - 1} times more from {first} on" if len(run) > 1 else ""
        yield Finding("over", frame_rate.sample_to_frame(worst * STEP), text, 44)


def _off_target(story: Story, loud: float | None) -> Iterator[Finding]:
    """A whole that is louder or softer than was asked for."""
    target = target_of(story)
    if loud is not None and abs(loud - target) > OFF:
        said_aim = ", for broadcast (EBU R 128)" if target == -23 else ""
        yield Finding("loudness", None, f"The whole measures {loud:.1f} LUFS; {target:g} is asked for{said_aim}", 15)
