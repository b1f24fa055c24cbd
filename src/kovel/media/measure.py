"""The mix of a plan measured as it is heard, and room tone out of a recording's pauses: for children that do the
work."""

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import Any

from kovel.core.sound.loudness import TruePeaks, Weigher
from kovel.core.sound.room_tone import quiet_pauses, room_tone
from kovel.core.time.rate import Rate
from kovel.media.clean import reader, talking, to_pcm
from kovel.media.files import Unusable
from kovel.media.render import sound_of
from kovel.media.soundtrack import samples_of, write_wav

BLOCK = 48_000 * 4
FINE = 48  # samples: 1 ms


def measure(plan: dict[str, Any], files: dict[str, Any], progress: Callable[[float], None]) -> dict[str, Any]:
    """Weighted power each 100 ms and the true peak of each frame of a plan (`Plan.to_json`), as factors."""
    sound = sound_of(plan, {int(name): file for name, file in files.items()})
    frame_rate, total = Rate(*plan["rate"]), plan["samples"]
    power, peaks = Weigher(), TruePeaks(FINE)
    for a in range(0, total, BLOCK):
        block = sound.block(a, min(total, a + BLOCK))
        power.feed(block)
        peaks.feed(block)
        progress(a / total)
    fine = peaks.finish()
    edges = [frame_rate.frame_to_sample(t) for t in range(plan["length"] + 1)]
    loudest_levels = [float(fine[start // FINE : -(-end // FINE)].max(initial=0)) for start, end in pairwise(edges)]
    return {"power": [float(block_power) for block_power in power.finish()], "peaks": loudest_levels}


def tone(out: str, channels: int, to: str, progress: Callable[[float], None]) -> dict[str, Any]:
    """30 s of room tone of a recording, as the WAV file `to`."""
    folder = Path(out)
    samples = samples_of(folder / "sound.pcm", channels)
    read = reader(samples)
    made_tone = room_tone(read, quiet_pauses(read, talking(folder, len(samples))))
    if made_tone is None:
        raise Unusable("It has no two seconds of quiet pauses, so there is no room tone to make of it.")
    write_wav(Path(to), to_pcm(made_tone))
    return {"path": to}
