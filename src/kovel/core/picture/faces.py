"""Faces in time: what a detector found now and then becomes one steady path, and a framing that sits on it.

found     x   .  x x  .   X      x x          one of another place is passed over, gaps are filled
path      ────────────────────────────        never faster than a hundredth of the width a frame
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from statistics import median

import numpy as np
import numpy.typing as npt

FASTEST = 0.01  # of the picture's width a frame: a framing that follows never jumps
STILL = 0.04  # of the width: who moves less is not followed
EYES = 0.42  # of the height from the top: where a face stands in its frame (common practice, no source)
MOVES = 0.06  # of full white: less is noise


@dataclass(frozen=True, slots=True)
class Face:
    """A face at a frame: its middle and its width, in shares of the picture's width and height."""

    frame: int
    x: float
    y: float
    size: float


def track(found: Sequence[Sequence[Face]]) -> list[Face]:
    """The one face that goes through: of each frame's the one nearest to where the others stand; none where none is
    near.

    The largest that comes most often leads; what lies farther than its own width from the middle of its neighbours is
    taken for a mistake.
    """
    largest = [max(face_row, key=lambda f: f.size) for face_row in found if face_row]
    if not largest:
        return []
    x, y = median(face.x for face in largest), median(face.y for face in largest)
    faces: list[Face] = []
    for face_row in found:
        near = [face for face in faces[-3:]] or [Face(0, x, y, largest[0].size)]
        cx, cy = median(face.x for face in near), median(face.y for face in near)
        best = min(face_row, key=lambda f: abs(f.x - cx) + abs(f.y - cy), default=None)
        if best and (
            abs(best.x - cx) + abs(best.y - cy) < 1.2 * best.size or abs(best.x - x) + abs(best.y - y) < 0.8 * best.size
        ):
            faces.append(best)
    return faces


def path(faces: Sequence[Face]) -> list[tuple[int, float, float]]:
    """(frame, x, y) of a track, smoothed over three and slowed to what does not jump; one row where it keeps still."""
    if not faces:
        return []
    xs = [median(face.x for face in faces[max(0, face_index - 1) : face_index + 2]) for face_index in range(len(faces))]
    ys = [median(face.y for face in faces[max(0, face_index - 1) : face_index + 2]) for face_index in range(len(faces))]
    if max(xs) - min(xs) < STILL:
        return [(faces[0].frame, median(xs), median(ys))]
    face_path = [(faces[0].frame, xs[0], ys[0])]
    for face, face_across, y in zip(faces[1:], xs[1:], ys[1:], strict=True):
        most = FASTEST * max(1, face.frame - face_path[-1][0])
        px, py = face_path[-1][1], face_path[-1][2]
        face_path.append((face.frame, px + min(most, max(-most, face_across - px)), py + min(most, max(-most, y - py))))
    return face_path


def moving(greys: Sequence[npt.NDArray[np.float64]], frame: int) -> list[tuple[int, float, float]]:
    """(frame, x, y) of the middle of what moves between these small pictures; empty where nothing much does."""
    if len(greys) < 2:
        return []
    change = np.mean([np.abs(grey_before - right) for grey_before, right in pairwise(greys)], 0)
    if change.max() < MOVES:
        return []
    weight = np.square(change)
    h, w = change.shape
    mean_across = float((weight.sum(0) * (np.arange(w) + 0.5)).sum() / weight.sum() / w)
    y = float((weight.sum(1) * (np.arange(h) + 0.5)).sum() / weight.sum() / h)
    return [(frame, mean_across, y)]


def across_for(x: float, window: float) -> float:
    """Percent across at which a window that is `window` of the image wide has x in its middle, as far as that goes."""
    if window >= 1:
        return 50.0
    return round(100 * min(1.0, max(0.0, (x - window / 2) / (1 - window))), 1)


def down_for(y: float, window: float) -> float:
    """Percent down at which a face at y stands at the height of eyes in a window that is `window` of the image high."""
    if window >= 1:
        return 40.0
    return round(100 * min(1.0, max(0.0, (y - window * EYES) / (1 - window))), 1)
