"""How fast Kovel listens: an hour of sound for pauses, and transcription, each against its bare engine in the same run.

python -m bench.hear        needs Debian's asterisk-core-sounds-en-wav
"""

import tempfile
import time
from pathlib import Path

import numpy as np
from scipy.signal import resample_poly
from tests.recorded import SR, Ears, talk

from kovel.core.sound.levels import Levels
from kovel.core.sound.pauses import Settings, hills, pauses, speech
from kovel.media.listen import WINDOW, listen
from kovel.media.models import of_english, recogniser
from kovel.media.transcribe import transcribe_sound


def main() -> None:
    from faster_whisper import BatchedInferencePipeline
    from faster_whisper.vad import get_vad_model

    x = talk(300).sound["room"]
    hour = np.tile(x, -(-3600 * SR // len(x)))[: 3600 * SR]
    with tempfile.TemporaryDirectory() as name:
        pcm = (np.clip(resample_poly(hour, 3, 1), -1, 1) * 32767).astype("<i2")
        (Path(name) / "sound.pcm").write_bytes(pcm.tobytes())
        get_vad_model()
        began = time.perf_counter()
        listen(name, 1, lambda x: None)
        ours = time.perf_counter() - began
        began = time.perf_counter()
        get_vad_model()(hour[: len(hour) // WINDOW * WINDOW].copy())
        bare = time.perf_counter() - began
        print(
            f"an hour heard: {3600 / ours:.0f} times real time; the bare detector {3600 / bare:.0f}; "
            f"ratio {bare / ours:.2f}"
        )
        levels = Levels.from_array(np.load(Path(name) / "levels.npy"))
        for s in (Settings(), Settings(shortest=0.6), Settings(threshold=-45), Settings(island=0.2)):
            began = time.perf_counter()
            mask = speech(levels, s)
            found = pauses(levels, s, mask=mask)
            hills(levels, mask, s)
            print(f"  a setting changed: {1000 * (time.perf_counter() - began):.0f} ms for {len(found)} pauses")
    recogniser(str(of_english()))
    small = Levels(levels.speech[: len(x) // 160], levels.level[: len(x) // 160], levels.floor[: len(x) // 160])
    began = time.perf_counter()
    transcribe_sound(Ears(x), small)
    ours = time.perf_counter() - began
    began = time.perf_counter()
    list(BatchedInferencePipeline(recogniser(str(of_english()))).transcribe(x, batch_size=8, word_timestamps=True)[0])
    bare = time.perf_counter() - began
    seconds = len(x) / SR
    print(
        f"transcription: {seconds / ours:.1f} times real time; the recogniser alone {seconds / bare:.1f}; "
        f"ratio {bare / ours:.2f}"
    )


if __name__ == "__main__":
    main()
