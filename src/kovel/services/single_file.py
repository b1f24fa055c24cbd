"""One file on its own, outside any project: its sound made ready in a folder that goes afterwards."""

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from kovel.core.sound.levels import Levels
from kovel.core.time.rate import Rate
from kovel.media.child import call
from kovel.media.files import Unusable


@dataclass(frozen=True)
class Ready:
    """What was made of a file; `levels` when they were asked for."""

    folder: Path
    facts: dict[str, Any]
    channels: int
    samples: int
    levels: Levels | None

    @property
    def rate(self) -> Rate:
        """The recording's frame rate."""
        return Rate(*self.facts["rate"])


@contextmanager
def ready(path: Path, *, levels: bool = True) -> Iterator[Ready]:
    """Sound and levels of a file; `Unusable` if it has no sound."""
    facts = call("probe", {"path": str(path)})
    if not facts["sound"]:
        raise Unusable(f"{path.name} has no sound in it.")
    with tempfile.TemporaryDirectory(prefix="kovel-") as name:
        folder = Path(name)
        asked_params = {
            "path": str(path),
            "out": name,
            "rate": facts["rate"],
            "picture": False,
            "sound": True,
            "frames": facts["frames"],
        }
        call("derive", asked_params)
        channels = 1 if facts["channels"] == 1 else 2
        heard_params = None
        if levels:
            call("listen", {"out": name, "channels": channels})
            heard_params = Levels.from_array(np.load(folder / "levels.npy"))
        samples = (folder / "sound.pcm").stat().st_size // (2 * channels)
        yield Ready(folder, facts, channels, samples, heard_params)
