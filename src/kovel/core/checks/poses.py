"""The closest pose at a jump: of the frames a cut could lie at on either side, the two that differ least.

left    ... talk|. . . . . . .|talk      the last frame shown may lie anywhere in the pause, air kept
right        talk|. . . . .|talk ...     and so may the first one
jump        |........|          strength 56
closest  |.....|                strength 41: out 3 frames earlier, in 2 later
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kovel.core.checks.jump_strength import Grey, jump_strength

REACH = 12  # frames an edge is moved at most
CONTEXT = 12  # frames beside an edge by which a shot's own movement is judged
BETTER = 3  # of a strength: what is less is not worth another cut
TRIED = 6  # pairs of which the strength is worked out: those that differ least


@dataclass(frozen=True, slots=True)
class Room:
    """The frames [low, high] that an edge may be moved by, 0 among them."""

    low: int
    high: int


@dataclass(frozen=True, slots=True)
class Pose:
    """By how many frames the piece before ends later and the one after begins later, and how hard the jump is before
    and after."""

    out: int
    into: int
    before: int
    after: int


def room_in(
    pause: tuple[int, int] | None, edge: int, after: int, before: int, low: int = -REACH, high: int = REACH
) -> Room:
    """How far an edge at frame `edge` can be moved inside a pause [start, end) of its recording: `after` frames of
    air stay behind what was said, `before` before what follows; an edge that lies nearer already comes no nearer.
    None: no pause, it stays."""
    if pause is None or not pause[0] <= edge <= pause[1]:
        return Room(0, 0)
    a = min(edge, pause[0] + after)
    b = max(edge, pause[1] - before)
    return Room(max(low, a - edge), min(high, b - edge))


def closest(left: Grey, room_out: Room, right: Grey, into: Room) -> Pose | None:
    """The pair of frames that differ least, as small grey pictures: `left` are those before the edge from CONTEXT +
    1 + `out.low` back up to `out.high` on, so that its last one is the last shown with the edge moved by `out.high`;
    `right` those from `into.low` on, up to `into.high` + CONTEXT. None where no other cut is better by BETTER."""
    n, poses_into = room_out.high - room_out.low + 1, into.high - into.low + 1
    first = len(left) - n  # the last frame shown with the edge moved by out.low
    if first < 0 or len(right) < poses_into:
        return None
    left_greys = left[first:].astype(np.float32).reshape(n, -1)
    y = right[:poses_into].astype(np.float32).reshape(poses_into, -1)
    apart = np.array([np.abs(y - pose_row).mean(1) for pose_row in left_greys])

    def strength(i: int, j: int) -> int:
        row_index = first + i + 1
        return jump_strength(left[max(0, row_index - CONTEXT) : row_index], right[j : j + CONTEXT])

    best_now = strength(-room_out.low, -into.low)
    best: tuple[int, int, int, int] | None = None
    for flat in np.argsort(apart, axis=None, kind="stable")[:TRIED].tolist():
        row_index, column_index = divmod(flat, poses_into)
        d = (row_index + room_out.low, column_index + into.low)
        best_found = (strength(row_index, column_index), abs(d[0]) + abs(d[1]), *d)
        if best is None or best_found < best:
            best = best_found
    if best is None or best[0] > best_now - BETTER:
        return None
    return Pose(best[2], best[3], best_now, best[0])
