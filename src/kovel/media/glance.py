"""One small picture of a file that is not brought in yet: near its beginning, by a key frame."""

import os
from pathlib import Path

from PIL import Image

from kovel.core.time.rate import Rate
from kovel.media.files import kind_of
from kovel.media.probe import probe
from kovel.media.reader import Fit, FrameReader, open_still, rgb_of

WIDE = 240


def glance(path: str, out: str) -> dict[str, str]:
    """Write a JPEG of a file to `out`; `{}` of what has no picture. `Unusable` for what cannot be read."""
    p = Path(path)
    if kind_of(p) == "still":
        with open_still(p) as im:
            im.thumbnail((WIDE, WIDE))
            return _put(im.convert("RGB"), Path(out))
    facts = probe(path)
    if not facts["picture"]:
        return {}
    reader = FrameReader(p, Rate(*facts["rate"]))
    try:
        f = reader.near((facts["frames"] or 1) // 3)
        tall = max(2, round(WIDE * facts["height"] / facts["width"] / 2) * 2)
        small = Fit(WIDE, tall, reader.filmed, quick=True)(f)
        return _put(Image.fromarray(rgb_of(small.reformat(format="yuv444p"))), Path(out))
    finally:
        reader.close()


def _put(im: Image.Image, out: Path) -> dict[str, str]:
    out.parent.mkdir(parents=True, exist_ok=True)
    part = out.with_name(f"{out.name}.{os.getpid()}.part")
    im.save(part, "JPEG", quality=80)
    os.replace(part, out)
    return {"path": str(out)}
