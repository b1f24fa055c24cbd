"""Faces in pictures, by OpenCV's cascade of Haar features (Viola and Jones 2001, as trained by Lienhart)."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from kovel.core.picture.faces import Face

CASCADES = (
    "haarcascade_frontalface_alt.xml",
    "haarcascade_frontalface_default.xml",
)  # beards and caps: the first alone
WIDE = 480  # pixels at which a picture is looked at


@lru_cache(2)
def _cascade(name: str) -> cv2.CascadeClassifier:
    return cv2.CascadeClassifier(str(Path(cv2.__file__).parent / "data" / name))


def faces_in(rgb: npt.NDArray[np.float64], frame: int) -> list[Face]:
    """The faces of a picture (height, width, 3), 0..1."""
    grey = cv2.cvtColor((rgb * 255).astype(np.uint8), cv2.COLOR_RGB2GRAY)
    high = round(grey.shape[0] * WIDE / grey.shape[1])
    grey = cv2.equalizeHist(cv2.resize(grey, (WIDE, high), interpolation=cv2.INTER_CUBIC))
    for name in CASCADES:
        found_faces = _cascade(name).detectMultiScale(grey, 1.08, 3, minSize=(WIDE // 16, WIDE // 16))
        if len(found_faces):
            return [
                Face(frame, float(face_left + w / 2) / WIDE, float(y + h / 2) / high, float(w) / WIDE)
                for face_left, y, w, h in np.asarray(found_faces).tolist()
            ]
    return []
