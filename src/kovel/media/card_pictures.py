"""Cards as pictures: one colour with words on it. Player and renderer show the same one."""

import hashlib
from functools import lru_cache
from pathlib import Path

from PIL import Image, ImageColor, ImageDraw, ImageFont

from kovel.media.whole_files import written_whole

FONT = Path(__file__).with_name("fonts") / "source-serif-4.ttf"


@lru_cache(32)
def card_image(colour: str, text: str, width: int, height: int) -> Image.Image:
    """RGB image of that size; the words stand in the middle, dark on a light colour and light on a dark one."""
    rgb = ImageColor.getrgb(colour)
    im = Image.new("RGB", (width, height), rgb)
    if not text:
        return im
    draw = ImageDraw.Draw(im)
    size = height // 11
    while size > 8:
        font = ImageFont.truetype(str(FONT), size)
        wrapped_lines = [
            wrapped_line for text_line in text.splitlines() for wrapped_line in _wrapped(text_line, font, width * 0.8)
        ]
        if len(wrapped_lines) * size * 1.35 <= height * 0.86 and all(
            font.getlength(wrapped_line) <= width * 0.86 for wrapped_line in wrapped_lines
        ):
            break
        size = size * 9 // 10
    light = (0.2126 * rgb[0] + 0.7152 * rgb[1] + 0.0722 * rgb[2]) > 140
    y = height / 2 - (len(wrapped_lines) - 1) * size * 1.35 / 2
    for wrapped_line in wrapped_lines:
        draw.text((width / 2, y), wrapped_line, font=font, fill="#1b1a18" if light else "#f4eee2", anchor="mm")
        y += size * 1.35
    return im


def _wrapped(line: str, font: ImageFont.FreeTypeFont, width: float) -> list[str]:
    wrapped_lines = [""]
    for word in line.split():
        longer = f"{wrapped_lines[-1]} {word}".strip()
        if font.getlength(longer) <= width or not wrapped_lines[-1]:
            wrapped_lines[-1] = longer
        else:
            wrapped_lines.append(word)
    return wrapped_lines


def card_file(folder: Path, colour: str, text: str, width: int, height: int) -> Path:
    """The card drawn once, in a file named after what it shows; player and renderer read the same one."""
    name = hashlib.sha256(f"{colour}\0{text}\0{width}x{height}".encode()).hexdigest()[:32]
    card_place = folder / f"card-{name}.png"
    if not card_place.is_file():
        folder.mkdir(parents=True, exist_ok=True)
        with written_whole(card_place) as part_file:
            card_image(colour, text, width, height).save(part_file, "PNG")
    return card_place


def drawn_card(folder: Path | None, colour: str, text: str, width: int, height: int) -> Image.Image:
    """The card as it lies in the folder of what is drawn; without one, drawn here."""
    if folder is None:
        return card_image(colour, text, width, height)
    return Image.open(card_file(folder, colour, text, width, height)).convert("RGB")
