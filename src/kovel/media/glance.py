"""Single pictures of a file, by key frames: one of what is not brought in yet, or some of where somebody looks."""

from collections.abc import Callable
from pathlib import Path

from PIL import Image

from kovel.core.time.rate import Rate
from kovel.media.files import kind_of
from kovel.media.probe import probe
from kovel.media.proxy import proxy_size
from kovel.media.reader import Fit, FrameReader, open_still, rgb_of
from kovel.media.whole_files import written_whole

WIDE = 240
Progress = Callable[[float], None]


def glance(path: str, out: str) -> dict[str, str]:
    """Write a JPEG of a file to `out`; `{}` of what has no picture. `Unusable` for what cannot be read."""
    this_path = Path(path)
    if kind_of(this_path) == "still":
        with open_still(this_path) as im:
            im.thumbnail((WIDE, WIDE))
            return _put(im.convert("RGB"), Path(out))
    facts = probe(path)
    if not facts["picture"]:
        return {}
    reader = FrameReader(this_path, Rate(*facts["rate"]))
    try:
        frame = reader.near((facts["frames"] or 1) // 3)
        tall = max(2, round(WIDE * facts["height"] / facts["width"] / 2) * 2)
        small = Fit(WIDE, tall, reader.filmed, quick=True)(frame)
        return _put(Image.fromarray(rgb_of(small.reformat(format="yuv444p"))), Path(out))
    finally:
        reader.close()


def views(path: str, out: str, rate: list[int], frames: list[int], progress: Progress) -> dict[str, list[str]]:
    """Write JPEGs to folder `out` of the key frames at or before these frames of a moving picture."""
    reader = FrameReader(Path(path), Rate(*rate))
    try:
        views_made = []
        for this_frame in frames:
            frame = reader.near(this_frame)
            shown = Fit(*proxy_size(frame, reader.filmed.pixel), reader.filmed, pad=False, quick=True)(frame)
            views_made.append(
                _put(Image.fromarray(rgb_of(shown.reformat(format="yuv444p"))), Path(out) / f"{this_frame}.jpg")["path"]
            )
        return {"paths": views_made}
    finally:
        reader.close()


def _put(im: Image.Image, out: Path) -> dict[str, str]:
    out.parent.mkdir(parents=True, exist_ok=True)
    with written_whole(out) as part_file:
        im.save(part_file, "JPEG", quality=80)
    return {"path": str(out)}
