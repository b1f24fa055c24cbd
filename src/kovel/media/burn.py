"""Times and names burnt into the pictures of a draft, so that a reviewer can say which frame is meant.

+------------------------------+
|                              |
| 01:00:12:07   Maren, camera A|  14:22:09:10        the story's timecode; what is seen, and its own timecode
+------------------------------+
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import av
import numpy as np
from PIL import Image, ImageDraw, ImageFont

from kovel.core.plan.layers import Stacked
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import format_timecode
from kovel.media.drawing import planes_of
from kovel.media.title_pictures import SANS, font_of

DARK, LIGHT = 22, 220  # of the luma, in limited range


class Burnt:
    """Writes into frames of one size. `begin`: the timecode of the story's first frame, in frames."""

    def __init__(
        self, size: tuple[int, int], files: dict[int, dict[str, Any]], clock: Rate, begin: int, drop: bool
    ) -> None:
        self.size, self.files, self.clock, self.begin, self.drop = size, files, clock, begin, drop
        self.tall = max(20, round(min(size) / 13 / 2) * 2)
        self.font = font_of(SANS, round(self.tall * 0.72), 600)

    def over(self, f: Any, t: int, stack: Sequence[Stacked], k: int) -> Any:
        """A new frame: story frame t, frame k of its run, with its times and names along the lower edge."""
        says = [format_timecode(self.begin + t, self.clock, self.drop)]
        for stacked in reversed([stacked for stratum in stack for stacked in stratum.flat()]):
            layer, (base, num, den) = stacked.layer, stacked.steps
            recording_file = self.files.get(layer.image.source) if layer.image.source is not None else None
            if recording_file is not None and layer.opacity.at(k) > 0:
                own_timecode = (
                    ""
                    if recording_file["still"]
                    else format_timecode(
                        recording_file.get("first", 0) + (base + k * num) // den,
                        Rate(*recording_file["rate"]),
                        recording_file.get("drop", False),
                    )
                )
                says += [recording_file["name"], own_timecode]
                break
        strip = _strip("    ".join(said_text for said_text in says if said_text), self.font, self.size[0], self.tall)
        burnt_frame = av.VideoFrame(f.width, f.height, "yuv420p")
        for index, (plane, plane_pixels) in enumerate(zip(burnt_frame.planes, planes_of(f), strict=True)):
            plane_rows = np.zeros((plane.height, plane.line_size), np.uint8)
            plane_rows[:, : plane.width] = plane_pixels
            if index == 0:
                plane_rows[plane.height - self.tall : plane.height, : strip.shape[1]] = strip
            else:
                plane_rows[plane.height - self.tall // 2 : plane.height, : strip.shape[1] // 2] = 128
            plane.update(plane_rows)  # type: ignore[arg-type]  # anything with a buffer will do
        return burnt_frame


@lru_cache(64)
def _strip(text: str, font: ImageFont.FreeTypeFont, most: int, tall: int) -> np.ndarray:
    """Light letters on dark as luma, as wide as they are."""
    left_edge, _, right, _ = font.getbbox(text)
    wide = min(most, (int(right - left_edge) + tall) // 2 * 2)
    im = Image.new("L", (wide, tall), DARK)
    ImageDraw.Draw(im).text((tall // 2, tall // 2), text, LIGHT, font=font, anchor="lm")
    return np.asarray(im)
