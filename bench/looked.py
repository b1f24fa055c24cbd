"""A look, a push and a title against ffmpeg's own command line doing the same: `python -m bench.looked` (needs ffmpeg).

1080p25 in and out, same encoder settings, same length, in turn in one run. ffmpeg's has the same table (lut3d), one
crop and scale (it does not move), and the same title laid over (overlay). 1.0 is equally fast.
"""

import statistics
import subprocess
import tempfile
import time
from pathlib import Path

from kovel.core.picture.colour import cube_text
from kovel.core.picture.look import made
from kovel.core.plan.outputs import OUTPUT_KINDS, Output, bit_rate
from kovel.core.plan.plan import make_plan
from kovel.core.story.catalogue import run
from kovel.core.story.model import Source, Story
from kovel.core.time.rate import Rate
from kovel.media.render import render
from kovel.media.soundtrack import _sound
from kovel.media.title_pictures import drawn_title

SECONDS = 12


def main() -> None:
    with tempfile.TemporaryDirectory() as d:
        folder = Path(d)
        p = folder / "1.mp4"
        make = ["ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc2=s=1920x1080:r=25:d=20,noise=alls=6:allf=t"]
        make += [
            "-f",
            "lavfi",
            "-i",
            "sine=200:r=48000:d=20",
            "-c:v",
            "libx264",
            "-preset",
            "veryfast",
            "-b:v",
            "8M",
            "-g",
            "50",
        ]
        subprocess.run([*make, "-c:a", "aac", "-y", str(p)], check=True)
        (folder / "1").mkdir()
        _sound(p, folder / "1", 0, 20, lambda x: None)
        files = {
            "1": {
                "name": p.name,
                "path": str(p),
                "rate": [25, 1],
                "still": False,
                "pcm": str(folder / "1" / "sound.pcm"),
                "channels": 1,
            }
        }
        sources = {1: Source(1, p.name, Rate(25), 500)}
        story = Story(Rate(25))
        look = {"brightness": 0.3, "contrast": 20, "warmth": 15}
        for name, params in (
            ("add_at_end", {"source": 1, "start": 0, "length": SECONDS * 25}),
            ("push", {"items": [1], "last": 112}),
            *(("set_value", {"to": 1, "setting": n, "value": v}) for n, v in look.items()),
            ("lay_title", {"at": 0, "text": "Maren / ferrywoman", "how": "lower third", "length": SECONDS * 25}),
        ):
            story, _ = run(story, sources, name, params)
        plan = make_plan(story, sources)
        spec = dict(next(x.image.title.rows for r in plan.pictures for x in r.layers if x.image.title))
        (folder / "x.cube").write_text(cube_text(made([look])))
        drawn_title(spec, 1920, 1080).save(folder / "t.png")
        rate = bit_rate(Output(), (1920, 1080), Rate(25))
        chain = f"[0:v]lut3d=file={folder}/x.cube:interp=tetrahedral,crop=1714:964,scale=1920:1080:flags=bilinear,format=yuv420p[a];[a][1:v]overlay"
        encode = [
            "-c:v",
            "libx264",
            "-preset",
            "veryfast",
            "-b:v",
            str(rate),
            "-maxrate",
            str(2 * rate),
            "-bufsize",
            str(2 * rate),
        ]
        theirs = [
            "ffmpeg",
            "-v",
            "error",
            "-t",
            str(SECONDS),
            "-i",
            str(p),
            "-i",
            str(folder / "t.png"),
            "-filter_complex",
            chain,
        ]
        theirs += [*encode, "-c:a", "aac", "-b:a", str(OUTPUT_KINDS["mp4"].sound), "-y", str(folder / "f.mp4")]
        rows = []
        for _ in range(3):
            t = time.perf_counter()
            subprocess.run(theirs, check=True)
            a = time.perf_counter() - t
            t = time.perf_counter()
            render(plan.to_json(sources), files, str(folder / "k.mp4"), 1920, 1080, {}, lambda x: None)
            b = time.perf_counter() - t
            rows.append(a / b)
            print(f"ffmpeg {a:.1f} s, ours {b:.1f} s: speed {a / b:.2f}")
        print(f"median speed {statistics.median(rows):.2f} of ffmpeg's with look, push and title")


if __name__ == "__main__":
    main()
