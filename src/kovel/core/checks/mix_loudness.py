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
    padded = {key: np.concatenate([rows, silence]) for key, rows in measured.items() if len(rows)}
    for heard in plan.sounds:
        rows = padded.get((heard.source, heard.made))
        if rows is None and not heard.pace:
            rows = padded.get((heard.source, ""))
        if rows is None:
            continue
        i, j = max(0, heard.at // STEP), min(n, -(-heard.end // STEP))
        begin = np.arange(i, j) * STEP
        share = (np.minimum(begin + STEP, heard.end) - np.maximum(begin, heard.at)) / STEP
        at = (begin - heard.at + heard.start) / STEP  # where each block lies in the recording, between two of its own
        whole = np.floor(at).astype(np.int64)
        w = at - whole
        low, high = (np.where((q >= 0) & (q < len(rows) - 1), q, -1) for q in (whole, whole + 1))
        middle = begin + STEP // 2 - heard.at
        gain = heard.gains(middle) * heard.ramps(np.clip(middle, 0, heard.end - heard.at).astype(np.float32))
        if heard.mix != AS_IT_IS:
            gain = gain * (sum(m**2 for m in heard.mix) / 2) ** 0.5
        power[i:j] += gain**2 * share * ((1 - w) * rows[low, 0] + w * rows[high, 0])
        most[i:j] += gain * np.maximum(rows[low, 1], rows[high, 1])
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
        rows = measured.get((piece.source, "")) if piece.source is not None else None
        if rows is None or piece.take == "picture":
            continue
        start, end = (frame_rate.frame_to_sample(f) for f in piece.used)
        i = start // STEP
        clipped = np.flatnonzero(rows[i : -(-end // STEP), 2] >= FULL)
        if len(clipped) and piece.source is not None:
            f = at + max(0, floor(frames_to(piece, frame_rate.sample_to_frame((i + int(clipped[0])) * STEP))))
            name = sources[piece.source].name if piece.source in sources else "A recording"
            told = f"{name} is clipped in its recording at {clock(f, frame_rate)}, for {len(clipped) / 10:.1f} s in all"
            yield Finding("clip", f, told, 40)


def _over_full_scale(
    frame_rate: Rate, plan: Plan, most: np.ndarray, peak: Callable[[int, int], float]
) -> Iterator[Finding]:
    """Stretches where the mix goes over full scale: those close together are one."""
    over: list[list[tuple[int, float]]] = []  # blocks over full scale and their peaks; those close together are one
    for k in np.flatnonzero(most > 1).tolist()[:MOST]:
        high = peak(k * STEP, min((k + 1) * STEP, plan.samples))
        if high > 1.0001:
            if over and k - over[-1][-1][0] <= NEAR:
                over[-1].append((k, high))
            else:
                over.append([(k, high)])
    for run in over:
        worst, high = max(run, key=lambda b: b[1])
        there, first = (clock(frame_rate.sample_to_frame(k * STEP), frame_rate) for k in (worst, run[0][0]))
        text = f"The sounds together go {20 * np.log10(high):.1f} dB over full scale at {there}"
        text += f", and {len(run) - 1} times more from {first} on" if len(run) > 1 else ""
        yield Finding("over", frame_rate.sample_to_frame(worst * STEP), text, 44)


def _off_target(story: Story, loud: float | None) -> Iterator[Finding]:
    """A whole that is louder or softer than was asked for."""
    target = target_of(story)
    if loud is not None and abs(loud - target) > OFF:
        said = ", for broadcast (EBU R 128)" if target == -23 else ""
        yield Finding("loudness", None, f"The whole measures {loud:.1f} LUFS; {target:g} is asked for{said}", 15)
