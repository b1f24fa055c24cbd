"""Loudness and peaks of a whole story, from what is measured of each recording every 100 ms.

recording A   [p p p p p p p]   music [p p p p p p]     p: power through the ear's weighting, peak, samples at full scale
story         [ A .... ][ A ... ] + music at -6 dB  ->  blocks of 400 ms that overlap by three quarters, gated: LUFS

Weighting, blocks and gates: ITU-R BS.1770-4; the target of -23 LUFS: EBU R 128. Sounds that are heard together are added
by their power, as sounds of different origin do.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from kovel.core.checks.findings import Finding
from kovel.core.plan.plan import Plan
from kovel.core.story.model import Sources, Story
from kovel.core.time.timecode import stamp as clock

STEP = 4_800  # samples: 100 ms
TARGET = -23.0  # LUFS (EBU R 128)
OFF = 1.0  # LU by which it may miss the target (R 128 for live programmes)
FULL = 3  # samples at full scale within 100 ms that make it clipping (common practice, no source)
NEAR = 50  # blocks within which places over full scale are told as one
MOST = 3_000  # places that are measured exactly

# BS.1770-4, annex 1, tables 1 and 2: the shelf of the head and the high-pass, as second-order sections at 48 kHz
WEIGHTING = (
    (1.53512485958697, -2.69169618940638, 1.19839281085285, 1.0, -1.69065929318241, 0.73248077421585),
    (1.0, -2.0, 1.0, 1.0, -1.99004745483398, 0.99007225036621),
)

Rows = npt.NDArray[np.float32]


class PowerMaker:
    """Takes 16-bit samples (n, 1) or (n, 2) block by block; gives a row for each 100 ms: weighted power of the stereo sound
    it is heard as, peak (1.0: full scale), how many samples lie at full scale."""

    def __init__(self) -> None:
        self._left: list[npt.NDArray[np.int16]] = []
        self._held = 0
        self._state: npt.NDArray[np.float64] | None = None
        self._rows: list[Rows] = []

    def feed(self, x: npt.NDArray[np.int16]) -> None:
        self._left.append(x)
        self._held += len(x)
        if self._held >= 20 * STEP:
            self._take(self._held // STEP * STEP)

    def _take(self, n: int) -> None:
        from scipy.signal import sosfilt  # slow to load: only where sound is measured

        x = np.concatenate(self._left)
        self._left, self._held = [x[n:]], len(x) - n
        y = x[:n].astype(np.float64) / 32768
        if self._state is None:
            self._state = np.zeros((2, 2, y.shape[1]))
        z, self._state = sosfilt(np.array(WEIGHTING), y, axis=0, zi=self._state)
        power = (z**2).sum(1) * (2 if y.shape[1] == 1 else 1)  # one channel is heard from both sides
        loud = np.abs(x[:n].astype(np.int32)).max(1)
        rows = (
            power.reshape(-1, STEP).mean(1),
            loud.reshape(-1, STEP).max(1) / 32768,
            (loud >= 32767).reshape(-1, STEP).sum(1),
        )
        self._rows.append(np.stack(rows, 1).astype(np.float32))

    def finish(self) -> Rows:
        """(n, 3); a last part of less than 100 ms is filled up with silence."""
        if self._held:
            wide = self._left[0].shape[1]
            self.feed(np.zeros((-self._held % STEP, wide), np.int16))
            if self._held:
                self._take(self._held)
        return np.concatenate(self._rows) if self._rows else np.zeros((0, 3), np.float32)


def integrated(power: npt.NDArray[np.float64] | Rows) -> float | None:
    """Loudness in LUFS of powers each 100 ms; None if nothing is loud enough to count (BS.1770-4, equations 2 to 7)."""
    if len(power) < 4:
        return None
    total = np.concatenate([[0.0], np.cumsum(power, dtype=np.float64)])
    blocks = np.maximum((total[4:] - total[:-4]) / 4, 1e-15)
    heard = blocks[-0.691 + 10 * np.log10(blocks) > -70]
    if not len(heard):
        return None
    kept = heard[10 * np.log10(heard) > 10 * np.log10(heard.mean()) - 10]
    return float(-0.691 + 10 * np.log10(kept.mean()))


@dataclass(frozen=True)
class Mixed:
    """A story's sound every 100 ms: power, and what its peaks add up to at most."""

    power: npt.NDArray[np.float64]
    most: npt.NDArray[np.float64]


def mixed(plan: Plan, measured: Mapping[int, Rows]) -> Mixed:
    """What a plan's sounds add up to. Fades are left out: they are short against what is measured here."""
    n = -(-plan.samples // STEP)
    power, most = np.zeros(n), np.zeros(n)
    silence = np.zeros((1, 3), np.float32)  # stands last, for what lies outside a recording
    padded = {i: np.concatenate([rows, silence]) for i, rows in measured.items() if len(rows)}
    for h in plan.sounds:
        rows = padded.get(h.source)
        if rows is None:
            continue
        i, j = h.at // STEP, -(-h.end // STEP)
        begin = np.arange(i, j) * STEP
        share = (np.minimum(begin + STEP, h.end) - np.maximum(begin, h.at)) / STEP
        at = (begin - h.at + h.start) / STEP  # where each block lies in the recording, between two of its own
        k = np.floor(at).astype(np.int64)
        w = at - k
        low, high = (np.where((q >= 0) & (q < len(rows) - 1), q, -1) for q in (k, k + 1))
        gain = h.gains(begin + STEP // 2 - h.at)
        power[i:j] += gain**2 * share * ((1 - w) * rows[low, 0] + w * rows[high, 0])
        most[i:j] += gain * np.maximum(rows[low, 1], rows[high, 1])
    return Mixed(power, most)


def sound_findings(
    story: Story, sources: Sources, plan: Plan, measured: Mapping[int, Rows], peak: Callable[[int, int], float]
) -> list[Finding]:
    """Clipped recordings, a mix over full scale, loudness off the target. `peak(a, b)` is the exact peak of the mix."""
    rate = story.rate
    out: list[Finding] = []
    for at, p in zip(story.starts, story.pieces, strict=False):
        rows = measured.get(p.source) if p.source is not None else None
        if rows is None or p.take == "picture":
            continue
        i = rate.frame_to_sample(p.start) // STEP
        clipped = np.flatnonzero(rows[i : -(-rate.frame_to_sample(p.end) // STEP), 2] >= FULL)
        if len(clipped) and p.source is not None:
            f = at + max(0, rate.sample_to_frame((i + int(clipped[0])) * STEP) - p.start)
            name = sources[p.source].name if p.source in sources else "A recording"
            out.append(
                Finding(
                    "clip",
                    f,
                    f"{name} is clipped in its recording at {clock(f, rate)}, for {len(clipped) / 10:.1f} s in all",
                    40,
                )
            )
    mix = mixed(plan, measured)
    over: list[list[tuple[int, float]]] = []  # blocks over full scale and their peaks; those close together are one
    for k in np.flatnonzero(mix.most > 1).tolist()[:MOST]:
        high = peak(k * STEP, min((k + 1) * STEP, plan.samples))
        if high > 1.0001:
            if over and k - over[-1][-1][0] <= NEAR:
                over[-1].append((k, high))
            else:
                over.append([(k, high)])
    for run in over:
        worst, high = max(run, key=lambda b: b[1])
        there, first = (clock(rate.sample_to_frame(k * STEP), rate) for k in (worst, run[0][0]))
        text = f"The sounds together go {20 * np.log10(high):.1f} dB over full scale at {there}"
        text += f", and {len(run) - 1} times more from {first} on" if len(run) > 1 else ""
        out.append(Finding("over", rate.sample_to_frame(worst * STEP), text, 44))
    loud = integrated(mix.power)
    if loud is not None and abs(loud - TARGET) > OFF:
        out.append(
            Finding(
                "loudness", None, f"The whole measures {loud:.1f} LUFS; {TARGET:.0f} is asked for broadcast (EBU R 128)", 15
            )
        )
    return out
