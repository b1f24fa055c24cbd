"""The closest pose: against every pair tried, and within the pauses only."""

import numpy as np
import pytest

from kovel.core.checks.jump_strength import jump_strength
from kovel.core.checks.poses import BETTER, CONTEXT, REACH, Room, closest, room_in


def walk(rng: np.random.Generator, n: int, step: float) -> np.ndarray:
    """A shot that moves a little: small grey pictures, each near the last."""
    frames = rng.uniform(60, 190, (1, 12, 20)) + np.cumsum(rng.normal(0, step, (n, 12, 20)), 0)
    return frames.clip(0, 255).astype(np.uint8)


@pytest.mark.parametrize("seed", range(12))
def test_no_pair_within_reach_is_closer(seed: int) -> None:
    rng = np.random.default_rng(seed)
    out, into = (Room(-int(rng.integers(0, REACH)), int(rng.integers(0, REACH))) for _ in range(2))
    n, m = out.high - out.low + 1, into.high - into.low + 1
    left, right = walk(rng, CONTEXT + n, 1.0), walk(rng, m + CONTEXT, 1.0)
    i, j = int(rng.integers(n)), int(rng.integers(m))
    right[j] = left[CONTEXT + i] + rng.integers(0, 2, left[0].shape).astype(np.uint8)  # one pair that fits well
    found = closest(left, out, right, into)

    def strength(a: int, b: int) -> int:
        k = CONTEXT + (a - out.low) + 1
        return jump_strength(left[k - CONTEXT : k], right[b - into.low :][:CONTEXT])

    every = {(a, b): strength(a, b) for a in range(out.low, out.high + 1) for b in range(into.low, into.high + 1)}
    if found is None:
        assert min(every.values()) > every[0, 0] - BETTER or (i + out.low, j + into.low) == (0, 0)
    else:
        assert found.after <= min(every.values()) + 1
        assert found.after == every[found.out, found.into] <= every[0, 0] - BETTER and found.before == every[0, 0]


def test_edges_stay_within_the_pause_with_their_air() -> None:
    """speech ends at 100, goes on at 130: an edge at 110 may lie from 103 to 128, were it not for REACH."""
    assert room_in((100, 130), 110, 3, 2) == Room(-7, 12)
    assert room_in((100, 130), 101, 3, 2) == Room(0, 12)  # nearer than the air already: no nearer
    assert room_in((100, 130), 129, 3, 2) == Room(-12, 0)
    assert room_in((100, 112), 106, 3, 2) == Room(-3, 4)
    assert room_in((100, 104), 102, 3, 2) == Room(0, 0) == room_in(None, 5, 3, 2) == room_in((100, 130), 140, 3, 2)
    still = np.full((40, 4, 4), 90, np.uint8)
    assert closest(still, Room(-5, 5), still[:20], Room(0, 4)) is None  # nothing to gain
    assert closest(still[:3], Room(-5, 5), still, Room(0, 4)) is None  # nothing known
