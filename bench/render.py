"""Rendering against ffmpeg's own command line on the same pictures: `python -m bench.render` (needs ffmpeg).

1080p25 in, 1080p25 out, same encoder settings, same length, in turn in one run. The reference decodes one recording
straight through and encodes it; ours does the cut list (jumps inside recordings, covers). 1.0 is equally fast.
"""

import statistics
import subprocess
import tempfile
import time
from pathlib import Path

import numpy as np

from kovel.core.plan.outputs import OUTPUT_KINDS, Output, bit_rate
from kovel.core.plan.plan import make_plan
from kovel.core.story.covers import lay_cover
from kovel.core.story.dialogue import add_at_end
from kovel.core.story.model import Source, Story
from kovel.core.time.rate import Rate
from kovel.media.render import render
from kovel.media.soundtrack import _sound

SECONDS = 20


def main() -> None:
    with tempfile.TemporaryDirectory() as d:
        folder = Path(d)
        files, sources = {}, {}
        for i in (1, 2, 3):
            p = folder / f"{i}.mp4"
            look = f"testsrc2=s=1920x1080:r=25:d=40,noise=alls=6:allf=t,hue=h={i * 40}"
            make = [
                "ffmpeg",
                "-v",
                "error",
                "-f",
                "lavfi",
                "-i",
                look,
                "-f",
                "lavfi",
                "-i",
                f"sine={200 * i}:r=48000:d=40",
            ]
            subprocess.run(
                [
                    *make,
                    "-c:v",
                    "libx264",
                    "-preset",
                    "veryfast",
                    "-b:v",
                    "8M",
                    "-g",
                    "50",
                    "-c:a",
                    "aac",
                    "-y",
                    str(p),
                ],
                check=True,
            )
            (folder / str(i)).mkdir()
            _sound(p, folder / str(i), 0, 40, lambda x: None)
            files[str(i)] = {
                "name": p.name,
                "path": str(p),
                "rate": [25, 1],
                "still": False,
                "pcm": str(folder / str(i) / "sound.pcm"),
                "channels": 1,
            }
            sources[i] = Source(i, p.name, Rate(25), 1000)
        rng = np.random.default_rng(1)
        story = Story(Rate(25))
        at = {1: 0, 2: 0}
        while story.length < SECONDS * 25:  # mostly in order, pauses taken out
            s, n = int(rng.choice([1, 1, 1, 2])), int(rng.integers(25, 90))
            n = min(n, SECONDS * 25 - story.length)
            story, _ = add_at_end(story, sources, s, at[s], n)
            at[s] += n + int(rng.integers(5, 20))
        for t in range(60, story.length - 80, 150):
            story, _ = lay_cover(story, sources, 3, at=t, until=t + 60, start=t)
        plan = make_plan(story, sources).to_json(sources)
        rate = bit_rate(Output(), (1920, 1080), Rate(25))
        cli = [
            "ffmpeg",
            "-v",
            "error",
            "-y",
            "-i",
            str(folder / "1.mp4"),
            "-t",
            str(SECONDS),
            "-c:v",
            "libx264",
            "-preset",
            "veryfast",
            "-b:v",
            str(rate),
            "-maxrate",
            str(rate * 2),
            "-bufsize",
            str(rate * 2),
            "-c:a",
            "aac",
            "-b:a",
            str(OUTPUT_KINDS["mp4"].sound),
            "-ac",
            "2",
            "-movflags",
            "+faststart",
            str(folder / "ref.mp4"),
        ]
        ratios = []
        for turn in range(4):
            t = time.perf_counter()
            subprocess.run(cli, check=True)
            ref = time.perf_counter() - t
            t = time.perf_counter()
            render(plan, files, str(folder / "ours.mp4"), 1920, 1080, {}, lambda x: None)
            ours = time.perf_counter() - t
            ratios.append(ref / ours)
            print(
                f"turn {turn}: ffmpeg {ref:.1f} s, ours {ours:.1f} s, speed {ref / ours:.2f} of it "
                f"({SECONDS / ours:.1f} times real time)"
            )
        print(f"median speed {statistics.median(ratios):.2f} of ffmpeg's (asked: 0.95)")


if __name__ == "__main__":
    main()
