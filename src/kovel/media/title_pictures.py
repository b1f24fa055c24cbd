"""Titles as pictures: words with a clear ground, drawn once into a file named after what it shows; player and renderer
read it.

The shaping is HarfBuzz's and FriBidi's (through Pillow's Raqm): joined scripts and those from right to left are set
rightly.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from PIL import Image, ImageColor, ImageDraw, ImageFont

from kovel.core.plan.layers import LINE
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.media.whole_files import written_whole

SERIF = Path(__file__).with_name("fonts") / "source-serif-4.ttf"
SANS = Path(__file__).parent.parent / "web" / "static" / "fonts" / "public-sans-latin-wght-normal.woff2"
OWN = {"Serif": SERIF, "Sans": SANS}  # fonts that ship with Kovel, by name
TALLEST = 16_000  # pixels of credits that roll: what a browser's canvas takes
WIDEST = 0.9  # of the picture: a line that is longer is broken, or written smaller


def font_file(folder: Path | None, name: str) -> Path:
    """The file of a font by its name; the serif where it is gone."""
    if name in OWN:
        return OWN[name]
    if folder is not None and "/" not in name and not name.startswith("."):
        for kind in (".ttf", ".otf", ".woff2"):
            if (path := folder / f"{name}{kind}").is_file():
                return path
    return SERIF


def check_font(path: Path) -> str:
    """The name of a font file; `Unusable` for what is none."""
    try:
        font = ImageFont.truetype(str(path), 40)
        family = " ".join(name_part for name_part in font.getname() if name_part)
        if font.getlength("Kovel") <= 0:
            raise OSError
    except (OSError, ValueError):
        raise Unusable("That is no font that can be read: bring a .ttf, .otf or .woff2 file.") from None
    return family


def font_of(path: Path, size: int, weight: int) -> ImageFont.FreeTypeFont:
    font = ImageFont.truetype(str(path), size)
    try:
        axes = font.get_variation_axes()
    except (OSError, NotImplementedError):
        return font  # one weight
    values: list[float] = []
    for axis in axes:
        low, at, high = (float(axis[fallback] or 0) for fallback in ("minimum", "default", "maximum"))
        values.append(min(high, max(low, weight)) if b"eight" in bytes(axis["name"] or b"") else at)
    font.set_variation_by_axes(values)
    return font


def drawn_title(
    spec: Mapping[str, Any], width: int, height: int, letters: int | None = None, fonts: Path | None = None
) -> Image.Image:
    """A title as RGBA: as large as the picture, or (one that rolls) as high as its lines. `letters`: only so many of
    them."""
    lines = str(spec["text"]).split("\n")
    rolls = bool(spec["rolls"])
    written = _written(spec, lines, width, height, fonts)
    steps, tall = written.steps, height
    if rolls:  # as high as the plan counts on
        tall = min(TALLEST, round(len(lines) * height * float(spec["size"]) / 100 * LINE))
        steps = [tall / len(written.rows)] * len(written.rows)
    picture = Image.new("RGBA", (width, max(2, tall)), (0, 0, 0, 0))
    draw = ImageDraw.Draw(picture)
    middle_across = width * float(spec["title_x"]) / 100
    y = 0.0 if rolls else height * float(spec["title_y"]) / 100 - sum(steps) / 2
    shift = {"left": 0.0, "middle": 0.5, "right": 1.0}[str(spec["aligned"])]
    if (box := int(spec["box"])) and not rolls:
        pad = written.size * 0.45
        left_edge = middle_across - written.wide * shift
        where = (left_edge - pad, y - pad * 0.5, left_edge + written.wide + pad, y + sum(steps) + pad * 0.5)
        draw.rectangle(where, fill=(16, 15, 13, round(255 * box / 100)))
    edge = round(written.size * float(spec["edge"]) / 100)
    colour = ImageColor.getrgb(str(spec["colour"]))
    dark = (16, 15, 13, 255) if sum(colour[:3]) > 300 else (244, 238, 226, 255)
    left_over = letters
    for (written_row, below), step in zip(written.rows, steps, strict=True):
        font = written.fonts[below]
        text = written_row if left_over is None else written_row[: max(0, left_over)]
        left_over = None if left_over is None else left_over - len(written_row)
        if text:  # from its left edge on, so that what is there does not move as the rest is written
            at = middle_across - font.getlength(written_row) * shift, y + step / 2
            draw.text(at, text, font=font, fill=(*colour[:3], 255), anchor="lm", stroke_width=edge, stroke_fill=dark)
        y += step
    return picture


class _Written(NamedTuple):
    """A title's lines as they are broken: (text, whether it stands below the first line), and how large they are."""

    rows: list[tuple[str, bool]]
    fonts: tuple[ImageFont.FreeTypeFont, ImageFont.FreeTypeFont]  # of the first line, of those below
    size: int
    wide: float
    steps: list[float]  # from line to line, in pixels


def _written(spec: Mapping[str, Any], lines: list[str], width: int, height: int, fonts: Path | None) -> _Written:
    """The lines of a title as large as it asks, or smaller until they fit."""
    rolls, room = bool(spec["rolls"]), _room(spec, width)
    file = font_file(fonts, str(spec["font"]))
    weight, less = int(spec["weight"]), int(spec["under"]) / 100
    lighter = weight if less == 1 else max(200, weight - 200)
    size = max(4, round(height * float(spec["size"]) / 100))
    while True:
        pair = font_of(file, size, weight), font_of(file, max(4, round(size * less)), lighter)
        written_lines = _rows(lines, pair, None if rolls else room)
        wide = max(pair[below].getlength(written_row) for written_row, below in written_lines)
        steps = [LINE * size * (less if below else 1) for _, below in written_lines]
        # captions are written smaller before they are broken once more
        unbroken = not spec.get("caption") or len(written_lines) <= len(lines)
        fits = unbroken and wide <= room and (rolls or sum(steps) <= height * WIDEST)
        if fits or size <= 4:
            return _Written(written_lines, pair, size, wide, steps)
        size = size * 19 // 20


def _rows(lines: list[str], pair: tuple[Any, Any], room: float | None) -> list[tuple[str, bool]]:
    """(what stands on it, whether it is below the first line) for each row; broken where it is wider than `room`."""
    written_lines: list[tuple[str, bool]] = []
    for index, title_line in enumerate(lines):
        below = index > 0
        written_lines += [
            (written_row, below)
            for written_row in ([title_line] if room is None else _broken(title_line, pair[below], room))
        ]
    return written_lines


def _room(spec: Mapping[str, Any], width: int) -> float:
    """Pixels that a line may be wide: from where it is aligned to the edge of the picture."""
    aligned, share = str(spec["aligned"]), float(spec["title_x"]) / 100
    if aligned == "middle" or spec["rolls"]:
        return width * WIDEST
    return width * min(WIDEST, max(0.2, (1 - share if aligned == "left" else share) - 0.04))


def _broken(line: str, font: ImageFont.FreeTypeFont, room: float) -> list[str]:
    broken_lines = [""]
    for word in line.split():
        longer = f"{broken_lines[-1]} {word}".strip()
        if font.getlength(longer) <= room or not broken_lines[-1]:
            broken_lines[-1] = longer
        else:
            broken_lines.append(word)
    return broken_lines


def title_file(
    folder: Path, spec: Mapping[str, Any], width: int, height: int, letters: int | None, fonts: Path | None
) -> Path:
    """The title drawn once, in a file named after what it shows."""
    title_place = _place(folder, spec, width, height, letters)
    if not title_place.is_file():
        folder.mkdir(parents=True, exist_ok=True)
        with written_whole(title_place) as part_file:
            drawn_title(spec, width, height, letters, fonts).save(part_file, "PNG")
    return title_place


def _place(folder: Path, spec: Mapping[str, Any], width: int, height: int, letters: int | None) -> Path:
    spec_text = json.dumps([dict(sorted(spec.items())), width, height, letters], ensure_ascii=False)
    return folder / f"title-{hashlib.sha256(spec_text.encode()).hexdigest()[:32]}.png"


def draw_title(
    folder: str,
    spec: dict[str, Any],
    width: int,
    height: int,
    letters: int | None,
    fonts: str,
    progress: Callable[[float], None],
) -> dict[str, Any]:
    """`title_file` as a call to a child."""
    return {"path": str(title_file(Path(folder), spec, width, height, letters, Path(fonts)))}


def title_shown(
    folder: Path, spec: Mapping[str, Any], width: int, height: int, letters: int | None, fonts: Path
) -> Path:
    """As `title_file`, for a process that others wait for: a font that somebody sent is drawn with in a child."""
    title_place = _place(folder, spec, width, height, letters)
    if spec["font"] in OWN:
        return title_file(folder, spec, width, height, letters, fonts)
    if not title_place.is_file():
        asked_title = {
            "folder": str(folder),
            "spec": dict(spec),
            "width": width,
            "height": height,
            "letters": letters,
            "fonts": str(fonts),
        }
        call("draw_title", asked_title)
    return title_place
