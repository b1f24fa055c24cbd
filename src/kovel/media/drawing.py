"""Draws the layers of a plan at the size of a file: everything stays in the planes of yuv420p, BT.709 in limited range.

image --fitted--> its look --> its part, warped into its place --> over what is under it
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from fractions import Fraction
from math import ceil
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
from PIL import Image

from kovel.core.picture import look as looks
from kovel.core.picture.colour import cube_text
from kovel.core.plan.geometry import Standing, fills, quad, standing
from kovel.core.plan.layers import EVERYWHERE, OPAQUE, WHOLE, Layer, Look, Stacked
from kovel.core.time.rate import Rate
from kovel.media.card_pictures import drawn_card
from kovel.media.reader import STILL, Fit, FrameReader, linked, still_frame
from kovel.media.title_pictures import drawn_title, title_file

Planes = tuple[np.ndarray, np.ndarray, np.ndarray]
Stratum = tuple[int, ...]  # where a layer stands in the stack, and in the stacks within
BLACK = (16, 128, 128)
SMALL = 16  # a ground out of focus is drawn at a sixteenth of the picture
SOFT = 2.0  # and softened there: sigma in its pixels


class Pictures:
    """The plan's layers, drawn. A lone plain layer is handed on as it is."""

    def __init__(
        self,
        files: dict[int, dict[str, Any]],
        width: int,
        height: int,
        drawn: Path | None = None,
        tables: Path | None = None,
        fonts: Path | None = None,
    ) -> None:
        self.files, self.size, self.drawn, self.tables, self.fonts = files, (width, height), drawn, tables, fonts
        self.fits: dict[Any, Fit] = {}
        self.readers: dict[tuple[int, Stratum], FrameReader] = {}
        self.stills: dict[Any, Any] = {}
        self.graphs: dict[tuple[Look, int, int], Any] = {}
        self.black = still_black(width, height)
        self._last: dict[Stratum, tuple[Any, Any]] = {}
        self._looked: dict[Stratum, tuple[Any, Any]] = {}

    def frame(self, layers: Sequence[Stacked], k: int, within: Stratum = ()) -> Any:
        """Frame k of a run. The frame may be one that is used again: nothing is drawn into it."""
        base: Any = None
        for index, stacked in enumerate(layers):
            layer, stratum = stacked.layer, (*within, index)
            share = layer.opacity.at(k)
            if share == 0:
                continue
            if layer.image.title:
                base = self._titled(base or self.black, layer, k, share)
            elif stacked.cut:
                base = self._titled(base or self.black, stacked.cut, k, share, self.frame(stacked.stack, k, stratum))
            elif layer.part == WHOLE and layer.place == EVERYWHERE:
                image = self._looks(self._image(stacked, k, stratum), layer.look, stratum)
                base = image if share == 1 else over(base or self.black, image, share)
            else:
                base = self._warped(base or self.black, stacked, k, stratum, share)
        return base or self.black

    def _titled(self, base: Any, layer: Layer, k: int, share: float, filling: Any = None) -> Any:
        """A title over what is there, moved by whole pixels, as many letters of it as are written; of a `filling`,
        what its letters cover."""
        assert layer.image.title
        text = dict(layer.image.title.rows)["text"]
        n = letters_at(text, layer.letters.at(k)) if layer.letters != OPAQUE else None
        title_key = (layer.image.title, n)
        if title_key not in self.stills:
            spec = dict(layer.image.title.rows)
            im = (
                Image.open(title_file(self.drawn, spec, *self.size, n, self.fonts))
                if self.drawn
                else drawn_title(spec, *self.size, n, self.fonts)
            )
            self.stills[title_key] = Lettering(np.asarray(im.convert("RGBA")))
        x, y = layer.part.drifted(k)
        return written(base, self.stills[title_key], round(x * self.size[0]), round(y * self.size[1]), share, filling)

    def _warped(self, base: Any, stacked: Stacked, k: int, stratum: Stratum, share: float) -> Any:
        layer = stacked.layer
        frame = self._looks(self._image(stacked, k, stratum, free=layer), layer.look, stratum)
        placed = standing((frame.width, frame.height), self.size, layer.part, layer.place, k)
        planes, mask = warped(planes_of(frame), placed, self.size, layer)
        corner = even(layer.place.x * self.size[0]), even(layer.place.y * self.size[1])
        return over(base, planes, share, corner, mask)

    def _image(self, stacked: Stacked, k: int, stratum: Stratum, free: Layer | None = None) -> Any:
        """The image of a layer, fitted to the picture, or (`free`) to what it is shown at, without bars; each height
        in the stack has a reader of its own."""
        if stacked.stack:
            return self.frame(stacked.stack, k, stratum)
        image = stacked.layer.image
        if image.card:
            if image.card not in self.stills:
                im = drawn_card(self.drawn, image.card.colour, image.card.text, *self.size)
                self.stills[image.card] = Fit(*self.size)(av.VideoFrame.from_ndarray(np.asarray(im), format="rgb24"))
            return self.stills[image.card]
        if image.source is None:
            return self.black
        recording_file = self.files[image.source]
        if recording_file["still"]:
            image_key: Any = (image.source, free and (free.part.fit, _least(free), free.place))
            if image_key not in self.stills:
                raw = still_frame(Path(recording_file["path"]))
                self.stills[image_key] = self._fit(raw, image.source, stratum, free)(raw)
            return self.stills[image_key]
        base, num, den = stacked.steps
        n = (base + k * num) // den
        image_key = (image.source, n, free and (free.part.fit, _least(free), free.place))
        if self._last.get(stratum, (None, None))[0] != image_key:
            own_key = (image.source, stratum)
            if own_key not in self.readers:
                self.readers[own_key] = FrameReader(Path(recording_file["path"]), Rate(*recording_file["rate"]))
            raw = self.readers[own_key].get(n)
            self._last[stratum] = (image_key, self._fit(raw, image.source, stratum, free)(raw))
        return self._last[stratum][1]

    def _fit(self, raw: Any, source: int, stratum: Stratum, free: Layer | None) -> Fit:
        reader = self.readers.get((source, stratum))
        of = reader.filmed if reader else STILL
        fit_key = (source, stratum, free and (free.part.fit, _least(free), free.place))
        if fit_key not in self.fits:
            if free is None:
                self.fits[fit_key] = Fit(*self.size, of)
            else:
                self.fits[fit_key] = Fit(*_size_for(raw, of.pixel, self.size, free), of, pad=False)
        return self.fits[fit_key]

    def _looks(self, frame: Any, look: Look, stratum: Stratum) -> Any:
        """The frame with its look; one that was drawn a moment ago is not drawn again."""
        if not look:
            return frame
        look_key, done = self._looked.get(stratum, (None, None))
        if look_key is not None and look_key[0] is frame and look_key[1] == look:
            return done
        size = (look, frame.width, frame.height)
        if size not in self.graphs:
            with tempfile.TemporaryDirectory(prefix="kovel-") as folder:  # libav reads the table once, from a file
                file = Path(folder) / "look.cube"
                file.write_text(cube_text(looks.made([dict(look_rows) for look_rows in look], kept_in(self.tables))))
                steps = [
                    ("scale", "flags=bicubic+accurate_rnd+full_chroma_int:in_color_matrix=bt709:in_range=tv"),
                    ("format", "gbrpf32le"),
                    ("lut3d", f"file={file}:interp=tetrahedral"),
                    ("scale", "flags=bicubic+accurate_rnd+full_chroma_int:out_color_matrix=bt709:out_range=tv"),
                    ("format", "yuv420p"),
                    ("setsar", "1"),
                ]
                self.graphs[size] = linked(frame, Fraction(1, 1000), steps, ":colorspace=bt709:range=tv", "yuv420p")
        frame.pts = None
        self.graphs[size].push(frame)
        done = self.graphs[size].pull()
        self._looked[stratum] = ((frame, look), done)
        return done

    def close(self) -> None:
        """Closes the files that are open."""
        for frame_reader in self.readers.values():
            frame_reader.close()


def kept_in(folder: Path | None) -> looks.Kept:
    """The tables of a project by name: files of its folder. One that is gone changes nothing."""

    def kept(name: str) -> looks.Table | None:
        if folder is None or "/" in name or name.startswith("."):
            return None
        try:
            return looks.read_cube((folder / f"{name}.cube").read_text())
        except (OSError, UnicodeDecodeError, looks.BadTable):
            return None

    return kept


def _least(layer: Layer) -> float:
    """The smallest zoom of a layer, percent."""
    part = layer.part
    return min([move[1] for move in part.moves], default=part.zoom)


def _size_for(raw: Any, pixel: Fraction, picture: tuple[int, int], layer: Layer) -> tuple[int, int]:
    """Even width and height at which an image is fitted before it is warped: as it is shown at its least zoom where
    that is much smaller than it is, else as it is."""
    width, height = raw.width * float(pixel), float(raw.height)
    if int(getattr(raw, "rotation", 0) or 0) % 180:
        width, height = height, width
    a = standing((width, height), picture, layer.part, layer.place).matrix
    shown = (a[0] ** 2 + a[1] ** 2) ** 0.5 * _least(layer) / layer.part.at(0)[0]
    scale = shown if shown < 0.75 else 1.0  # nearer to its own size the warp alone is as good
    return max(2, even(width * scale)), max(2, even(height * scale))


def planes_of(frame: Any) -> Planes:
    """Its planes as arrays, without the bytes behind each line."""
    y, u, v = (
        np.frombuffer(plane, np.uint8).reshape(plane.height, plane.line_size)[:, : plane.width]
        for plane in frame.planes
    )
    return y, u, v


def warped(planes: Planes, s: Standing, picture: tuple[int, int], layer: Layer) -> tuple[Planes, np.ndarray | None]:
    """What a layer shows in its place, on black; and where it is not black but nothing (0) or in between, if anywhere.

    Chroma lies left in its pair of columns and between its two lines (as H.264 and MPEG-2 have it).
    """
    left_edge, top = even(layer.place.x * picture[0]), even(layer.place.y * picture[1])
    right, bottom = (
        even((layer.place.x + layer.place.w) * picture[0]),
        even((layer.place.y + layer.place.h) * picture[1]),
    )
    w, h = max(2, right - left_edge), max(2, bottom - top)
    start, end, c, d, e, f = s.matrix
    whole = np.array([[start, c, e - left_edge], [end, d, f - top], [0, 0, 1.0]])
    warped_planes = []
    for index, plane in enumerate(planes):
        # where sample (i, j) of the plane lies in the picture: luma in the middle of its pixel
        at = np.array(
            [[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1.0]] if index == 0 else [[2, 0, 0.5], [0, 2, 1.0], [0, 0, 1.0]]
        )
        size = (w, h) if index == 0 else (w // 2, h // 2)
        if layer.part.blur:
            plane = cv2.resize(plane, None, fx=1 / SMALL, fy=1 / SMALL, interpolation=cv2.INTER_AREA)
            plane = cv2.GaussianBlur(plane, (0, 0), SOFT / (1 if index == 0 else 2))
            m = np.linalg.inv(at) @ whole @ np.diag([SMALL, SMALL, 1.0]) @ at
        else:
            m = np.linalg.inv(at) @ whole @ at
        warped_planes.append(
            cv2.warpAffine(plane, m[:2], size, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        )
    mask = None
    if layer.part.blur or fills(s):
        inner = s.clip
        if layer.part.border:
            mask = np.zeros((h, w), np.uint8)
            x, y = round(inner[0] - left_edge), round(inner[1] - top)
            mask[max(0, y) : y + round(inner[3]), max(0, x) : x + round(inner[2])] = 255
    else:
        mask = np.zeros((h, w), np.uint8)
        corners = np.array([[(x - left_edge - 0.5) * 16, (y - top - 0.5) * 16] for x, y in quad(s)])
        cv2.fillConvexPoly(mask, np.round(corners).astype(np.int32), 255, cv2.LINE_AA, 4)
        x, y = round(s.clip[0] - left_edge), round(s.clip[1] - top)
        edge = np.zeros_like(mask)
        edge[max(0, y) : y + round(s.clip[3]), max(0, x) : x + round(s.clip[2])] = 255
        mask &= edge
    y0, u0, v0 = warped_planes
    if mask is not None and not layer.part.clear:
        warped_rows = []
        for index, (plane, black) in enumerate(zip(warped_planes, BLACK, strict=True)):
            m = (mask if index == 0 else mask[::2, ::2]).astype(np.uint16)
            warped_rows.append(((plane * m + black * (255 - m) + 127) // 255).astype(np.uint8))
        return (warped_rows[0], warped_rows[1], warped_rows[2]), None
    return (y0, u0, v0), mask


def letters_at(text: str, share: float) -> int:
    """How many letters of a title are written at a share of its time."""
    return int(len(text.replace("\n", "")) * share + 1e-9)


class Lettering:
    """A picture with a clear ground in planes, cut to what there is of it: made once, laid over many frames."""

    def __init__(self, rgba: np.ndarray) -> None:
        inked_rows, columns = np.flatnonzero(rgba[..., 3].any(1)), np.flatnonzero(rgba[..., 3].any(0))
        self.top, self.left = (int(inked_rows[0]), int(columns[0])) if len(inked_rows) else (0, 0)
        self.rgba = (
            rgba[inked_rows[0] : inked_rows[-1] + 1, columns[0] : columns[-1] + 1] if len(inked_rows) else rgba[:0]
        )
        self._planes: dict[tuple[int, int], tuple[Planes, Planes]] = {}

    def planes(self, across: int, y: int) -> tuple[Planes, Planes]:
        """Colours and how much of them there is, for each plane, where its corner stands `x` and `y` pixels into a
        pair."""
        if (across, y) not in self._planes:
            h, w = self.rgba.shape[:2]
            z = np.zeros((h + y + (h + y) % 2, w + across + (w + across) % 2, 4), np.float32)
            z[y : y + h, across : across + w] = self.rgba
            r, g, b, alpha = z[..., 0] / 255, z[..., 1] / 255, z[..., 2] / 255, z[..., 3]
            luma = 0.2126 * r + 0.7152 * g + 0.0722 * b
            weight = _by_four(alpha)  # chroma of two by two pixels, each as much as it is there
            chroma = (128 + 224 * (b - luma) / 1.8556), (128 + 224 * (r - luma) / 1.5748)
            u, v = (_by_four(c * alpha) / np.maximum(weight, 1e-6) for c in chroma)
            quarter = _eight(weight / 4)
            self._planes[across, y] = (_eight(16 + 219 * luma), _eight(u), _eight(v)), (_eight(alpha), quarter, quarter)
        return self._planes[across, y]


def _eight(z: np.ndarray) -> np.ndarray:
    """Rounded to bytes."""
    eight_bit: np.ndarray = (z + 0.5).astype(np.uint8)
    return eight_bit


def _by_four(z: np.ndarray) -> np.ndarray:
    """The sum of each two by two pixels."""
    h, w = z.shape
    total: np.ndarray = z.reshape(h // 2, 2, w // 2, 2).sum((1, 3))
    return total


def written(base: Any, letters: Lettering, x: int, y: int, share: float, filling: Any = None) -> Any:
    """A new frame: letters over `base`, the corner of their picture at (x, y), in their colours or showing the
    `filling`."""
    x, y, k = x + letters.left, y + letters.top, round(share * 256)
    if not k or not letters.rgba.size:
        return base
    colours, there = letters.planes(x % 2, y % 2)
    written_frame = av.VideoFrame(base.width, base.height, "yuv420p")
    fill = planes_of(filling) if filling else None
    for index, (plane, u) in enumerate(zip(written_frame.planes, planes_of(base), strict=True)):
        half = 1 if index == 0 else 2
        top, left_edge = (y - y % 2) // half, (x - x % 2) // half
        colour, alpha = colours[index], there[index]
        start, end = max(0, -top), max(0, -left_edge)
        bottom, d = min(colour.shape[0], plane.height - top), min(colour.shape[1], plane.width - left_edge)
        plane_line = np.zeros((plane.height, plane.line_size), np.uint8)
        plane_line[:, : plane.width] = u
        if bottom > start and d > end:
            plane_part = plane_line[top + start : top + bottom, left_edge + end : left_edge + d]
            coverage = alpha[start:bottom, end:d].astype(np.uint32) * k
            upper = (
                fill[index][top + start : top + bottom, left_edge + end : left_edge + d]
                if fill
                else colour[start:bottom, end:d]
            )
            plane_part[...] = (plane_part * (255 * 256 - coverage) + upper * coverage + 255 * 128) // (255 * 256)
        plane.update(plane_line)  # type: ignore[arg-type]  # anything with a buffer will do
    return written_frame


def even(x: float) -> int:
    """The even number nearest to it, the lower of two: the planes of a picture need even ones."""
    return ceil(x / 2 - 0.5) * 2


def over(base: Any, upper: Any, share: float, corner: tuple[int, int] = (0, 0), mask: np.ndarray | None = None) -> Any:
    """A new yuv420p frame: `upper` (a frame or its planes) over `base` with its corner there, in shares of 1/256,
    where its mask (of the size of its luma) is not 0."""
    laid_frame = av.VideoFrame(base.width, base.height, "yuv420p")
    weight = round(share * 256)
    above = upper if isinstance(upper, tuple) else planes_of(upper)
    for index, (plane, u, v) in enumerate(zip(laid_frame.planes, planes_of(base), above, strict=True)):
        plane_rows = np.zeros((plane.height, plane.line_size), np.uint8)
        left_edge, top = corner if index == 0 else (corner[0] // 2, corner[1] // 2)
        at = (
            slice(top, min(top + v.shape[0], plane.height)),
            slice(left_edge, min(left_edge + v.shape[1], plane.width)),
        )
        v = v[: at[0].stop - top, : at[1].stop - left_edge]
        if weight < 256 or mask is not None or v.shape != u.shape:
            plane_rows[:, : plane.width] = u
        if mask is not None:
            mask_part = (mask if index == 0 else mask[::2, ::2])[: v.shape[0], : v.shape[1]].astype(np.uint32) * weight
            plane_rows[at] = (u[at] * (255 * 256 - mask_part) + v * mask_part + 255 * 128) // (255 * 256)
        elif weight == 256:
            plane_rows[at] = v
        else:
            plane_rows[at] = (u[at].astype(np.uint16) * (256 - weight) + v.astype(np.uint16) * weight + 128) >> 8
        plane.update(plane_rows)  # type: ignore[arg-type]  # anything with a buffer will do
    return laid_frame


def still_black(width: int, height: int) -> Any:
    frame = av.VideoFrame(width, height, "yuv420p")
    for plane, value in zip(frame.planes, BLACK, strict=True):
        plane.update(bytes([value]) * plane.buffer_size)
    return frame
