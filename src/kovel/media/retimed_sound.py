"""The sound of something retimed, made of a recording's raw or cleaned one.

made/NAME.pcm         as sound.pcm, sample for sample; NAME says how it was made (core.plan.retimed)
made/NAME.power.npy   as power.npy
"""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from kovel.core.plan.retimed import Retimed
from kovel.core.sound.loudness import PowerMaker
from kovel.core.sound.retime import retimed
from kovel.media.clean import reader, save_power, to_pcm
from kovel.media.files import spare
from kovel.media.soundtrack import samples_of
from kovel.media.whole_files import written_whole


def retime(
    out: str, channels: int, name: str, pace: dict[str, Any], progress: Callable[[float], None]
) -> dict[str, Any]:
    """Make made/NAME of a recording."""
    folder, how = Path(out), Retimed.from_json(pace)
    (folder / "made").mkdir(exist_ok=True)
    samples = samples_of(folder / (f"made/{how.of}.pcm" if how.of else "sound.pcm"), channels)
    frames = how.frames()
    spare(folder, float(frames[-1]) * channels * 2)
    power, done, final = PowerMaker(), 0, folder / "made" / f"{name}.pcm"
    if final.exists():  # whole: it took this name in one step
        return {"name": name}
    with written_whole(final) as part_file:
        with part_file.open("wb") as file:
            for retimed_block in retimed(reader(samples), how.course(), frames, how.pitch):
                y = to_pcm(retimed_block)
                file.write(y.tobytes())
                power.feed(y)
                done += len(y)
                progress(0.99 * done / int(frames[-1]))
        save_power(folder / "made" / f"{name}.power.npy", power)
    return {"name": name}
