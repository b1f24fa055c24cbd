"""Looks: how settings become one table of colours, which player and renderer only apply.

colour in BT.709, 0..1  --each look in turn, from wide to near-->  colour out      table of 33 x 33 x 33, blue slowest

Within a look: white balance and brightness in light, then contrast, blacks and whites, saturation, night, and its
own table. Grey stays grey in all but warmth, tint and a table that was loaded.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from kovel.core.errors import Told

Array = npt.NDArray[np.float64]
Table = npt.NDArray[np.float32]  # (size ** 3, 3), red fastest
SIZE = 33
GAMMA = 2.4  # of a display (BT.1886)
LUMA = np.array([0.2126, 0.7152, 0.0722])  # BT.709
RODS = np.array([0.06, 0.42, 0.52])  # what the eye's rods see of the three, roughly (from memory; they see no red)
PIVOT = 0.18 ** (1 / GAMMA)  # middle grey, as it is coded
LARGEST = 129  # of a table that is read


class BadTable(Told, ValueError):
    """A table that cannot be read; the message says why."""


Kept = Callable[[str], Table | None]  # a table of the project by its name


def looked(rgb: Array, look: Mapping[str, Any], kept_story: Kept = lambda _: None) -> Array:
    """Coded RGB (..., 3), 0..1, with one look."""
    looked_at: Array = rgb
    brightness, warmth, tint = look.get("brightness", 0.0), look.get("warmth", 0), look.get("tint", 0)
    if brightness or warmth or tint:
        looked_at = np.power(
            np.clip(np.power(looked_at, GAMMA) * (balance(warmth, tint) * 2.0**brightness), 0, 1), 1 / GAMMA
        )
    if contrast := look.get("contrast", 0):
        power = 2.0 ** (contrast / 50)
        low = PIVOT * np.power(looked_at / PIVOT, power)
        high = 1 - (1 - PIVOT) * np.power((1 - looked_at) / (1 - PIVOT), power)
        looked_at = np.where(looked_at < PIVOT, low, high)
    if (blacks := look.get("blacks", 0)) or look.get("whites", 0):
        whites = look.get("whites", 0)
        looked_at = np.clip(looked_at * (1 + whites / 100) + blacks / 100 * (1 - looked_at) ** 2, 0, 1)
    if saturation := look.get("saturation", 0):
        grey = (looked_at @ LUMA)[..., None]
        looked_at = np.clip(grey + (looked_at - grey) * (1 + saturation / 100), 0, 1)
    if night := look.get("night", 0):
        light = np.power(looked_at, GAMMA)
        rods = (light @ RODS)[..., None]
        seen = (0.35 * light + 0.65 * rods) * 2.0**-2.2
        looked_at = np.power(light + (seen - light) * night / 100, 1 / GAMMA)
    if (name := look.get("table", "")) and (t := kept_story(name)) is not None:
        looked_at = applied(t, looked_at)
    return looked_at


def balance(warmth: float, tint: float) -> Array:
    """Factors of light for red, green and blue: a warmth of 100 % lifts red against blue by a stop, a tint of 100 %
    takes half a stop of green; a grey keeps its luminance."""
    gains = np.array([2.0 ** (warmth / 200), 2.0 ** (-tint / 200), 2.0 ** (-warmth / 200)])
    return np.asarray(gains / (gains @ LUMA))


def neutral(rgb: Sequence[float]) -> tuple[int, int]:
    """(warmth, tint) that make this coded colour grey, as far as they reach: what is picked was grey in truth."""
    r, g, b = (max(1e-4, channel) ** GAMMA for channel in rgb)
    warmth = 100 * np.log2(b / r)
    tint = 200 * np.log2(g / np.sqrt(r * b))
    return int(np.clip(round(warmth), -100, 100)), int(np.clip(round(tint), -100, 100))


def made(looks: Sequence[Mapping[str, Any]], kept_story: Kept = lambda _: None, size: int = SIZE) -> Table:
    """The table of looks that follow each other."""
    colours = grid(size)
    for look in looks:
        colours = looked(colours, look, kept_story)
    return np.clip(colours, 0, 1).astype(np.float32)


@lru_cache(4)
def grid(size: int = SIZE) -> Array:
    levels = np.linspace(0, 1, size)
    b, g, r = np.meshgrid(levels, levels, levels, indexing="ij")
    return np.stack([r, g, b], -1).reshape(-1, 3)


def applied(table: Table, rgb: Array) -> Array:
    """Colours (..., 3) through a table, straight between its eight neighbours."""
    n = round(len(table) ** (1 / 3))
    t = table.reshape(n, n, n, 3)
    scaled = np.clip(np.asarray(rgb, float), 0, 1).reshape(-1, 3) * (n - 1)
    corner_low = np.minimum(scaled.astype(int), n - 2)
    fraction = scaled - corner_low
    applied_colours = np.zeros_like(scaled)
    for corner in range(8):
        corner_offset = np.array([corner & 1, corner >> 1 & 1, corner >> 2])
        w = np.prod(np.where(corner_offset, fraction, 1 - fraction), -1)
        corner_index = corner_low + corner_offset
        applied_colours += w[:, None] * t[corner_index[:, 2], corner_index[:, 1], corner_index[:, 0]]
    return np.asarray(applied_colours.reshape(np.shape(rgb)))


def read_cube(text: str) -> Table:
    """A table in the text form of the Cube LUT Specification 1.0, of three dimensions or one.

    Raises `BadTable` for what is none, saying where.
    """
    size, flat, low, high, values = _cube_lines(text)
    at = (grid(SIZE) - low) / (high - low)
    if flat:
        levels = np.linspace(0, 1, size)
        return (
            np.stack([np.interp(at[:, channel], levels, values[:, channel]) for channel in range(3)], -1)
            .clip(0, 1)
            .astype(np.float32)
        )
    if size == SIZE and not low.any() and (high == 1).all():
        return values.clip(0, 1).astype(np.float32)
    return applied(values.astype(np.float32), at).clip(0, 1).astype(np.float32)


def _cube_lines(text: str) -> tuple[int, bool, Array, Array, Array]:
    """What the lines of a .cube say: (points a side, whether of one dimension, lower bounds, upper bounds, colours)."""
    size, flat, colour_rows = 0, False, []
    bounds = {"DOMAIN_MIN": np.zeros(3), "DOMAIN_MAX": np.ones(3)}
    lines = ((number, raw.strip()) for number, raw in enumerate(text.splitlines(), 1))
    for number, cube_line in (
        (n, cube_line) for n, cube_line in lines if cube_line and not cube_line.startswith(("#", "TITLE"))
    ):
        words = cube_line.split()
        try:
            if words[0] in ("LUT_3D_SIZE", "LUT_1D_SIZE"):
                size, flat = int(words[1]), words[0] == "LUT_1D_SIZE"
                _refuse_size(size, flat)
            elif words[0] in bounds:
                bounds[words[0]] = np.array([float(word) for word in words[1:4]])
            else:
                colour_rows.append(_colour(words))
        except BadTable:
            raise
        except (ValueError, IndexError):
            raise BadTable(f"Line {number} of the table is no line of a .cube table: {cube_line[:40]}") from None
        if size and len(colour_rows) > _colours_in(size, flat):
            break
    low, high = bounds["DOMAIN_MIN"], bounds["DOMAIN_MAX"]
    _refuse_cube(size, len(colour_rows), _colours_in(size, flat), low, high)
    return size, flat, low, high, np.array(colour_rows)


def _colours_in(size: int, flat: bool) -> int:
    return size if flat else size**3


def _refuse_cube(size: int, count: int, want: int, low: Array, high: Array) -> None:
    """What makes a table of `count` colours none: no size, another number of colours, bounds that do not go up."""
    if not size:
        raise BadTable("It does not say how large it is.")
    if count != want:
        raise BadTable(f"The table has {count} colours where {want} were told.")
    if low.shape != (3,) or high.shape != (3,) or not (high > low).all():
        raise BadTable("The bounds of the table (DOMAIN_MIN, DOMAIN_MAX) do not go upwards.")


def _refuse_size(size: int, flat: bool) -> None:
    """Raises `BadTable` for a size that is not read."""
    largest = 65_536 if flat else LARGEST
    if not 2 <= size <= largest:
        raise BadTable(f"The table is {size} points wide: 2 to {largest} can be read.")


def _colour(words: list[str]) -> list[float]:
    """A line's three numbers; raises `ValueError` for anything else."""
    colour = [float(word) for word in words]
    if len(colour) != 3 or not np.isfinite(colour).all():
        raise ValueError
    return colour


# Reinhard et al., Color transfer between images (2001): LMS of RGB, then the decorrelated log space.
_LMS = np.array([[0.3811, 0.5783, 0.0402], [0.1967, 0.7244, 0.0782], [0.0241, 0.1288, 0.8444]])
_LAB = np.diag([1 / 3**0.5, 1 / 6**0.5, 1 / 2**0.5]) @ np.array([[1, 1, 1], [1, 1, -2], [1, -1, 0]])
FLOOR = 1 / 255


def decorrelated(rgb: Array) -> Array:
    """Coded RGB (..., 3) in the space of Reinhard et al.: lightness, yellow to blue, red to green."""
    lms = np.clip(rgb, FLOOR, 1) @ _LMS.T
    return np.asarray(np.log10(lms) @ _LAB.T)


def coloured(lab: Array) -> Array:
    """The way back from `decorrelated`."""
    return np.asarray(np.power(10, lab @ np.linalg.inv(_LAB).T) @ np.linalg.inv(_LMS).T)


def matching(mine: Array, theirs: Array, size: int = SIZE) -> Table:
    """A table that gives pixels like `mine` (n, 3) the colours of `theirs` (m, 3): mean and spread of each axis of
    Reinhard et al. are theirs then; twice over, for what is cut off at the ends shifts them."""
    grid_colours, pixels = grid(size), np.asarray(mine, float)
    want = decorrelated(np.asarray(theirs, float))
    for _ in range(2):
        have = decorrelated(pixels)
        gain = np.clip(want.std(0) / np.maximum(have.std(0), 1e-4), 0.25, 4)
        have_mean, want_mean = have.mean(0), want.mean(0)

        def moved(x: Array, gain: Array = gain, a: Array = have_mean, b: Array = want_mean) -> Array:
            return np.clip(coloured((decorrelated(x) - a) * gain + b), 0, 1)

        grid_colours, pixels = moved(grid_colours), moved(pixels)
    return grid_colours.astype(np.float32)
