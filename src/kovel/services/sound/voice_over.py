"""Voice-over: what the page recorded from the microphone becomes a recording and lies where it was spoken."""

import shutil
import wave
from secrets import token_hex
from typing import BinaryIO

from kovel.core.errors import Invalid
from kovel.core.story.model import Story
from kovel.data_folder import DataFolder
from kovel.media.files import Unusable
from kovel.services.footage.intake import bring_in, put_under_free_name
from kovel.services.sound.mixing import Asked
from kovel.store import recordings
from kovel.store.recordings import Recording

MOST = 48_000 * 2 * 3600 + 1_000  # bytes: an hour


def take_in(
    data_folder: DataFolder, project: int, story: Story, sound: BinaryIO, at: int, late: int = 0
) -> tuple[Recording, Asked]:
    """Keep a take (WAV), bring it in as a voice, and the edit that lays it at story frame `at`.

    `late` is by how many samples the microphone came late: so much is left out at its beginning.
    """
    if at >= story.length:
        raise Invalid("The playhead stands at the end of the story: a voice-over begins within it.")
    count = sum(recording.kind == "voice" for recording in recordings.of_project(data_folder.db, project)) + 1
    name = f"Voice-over {count}"
    folder = data_folder.uploads(project)
    folder.mkdir(parents=True, exist_ok=True)
    part = folder / f".{token_hex(8)}.part"
    with part.open("xb") as this_wave_file:
        shutil.copyfileobj(sound, this_wave_file)
    path = put_under_free_name(part, folder, name, ".wav")
    try:
        with wave.open(str(path)) as wave_file:
            if wave_file.getnframes() < wave_file.getframerate() // 5:
                raise Invalid("Nothing was recorded. Check that the page may use the microphone.")
        recording = bring_in(data_folder, project, path, name=name, kind="voice")
    except (wave.Error, EOFError, Unusable):
        path.unlink(missing_ok=True)
        raise Invalid("What came from the microphone is no sound that can be read. Try again.") from None
    except Invalid:
        path.unlink(missing_ok=True)
        raise
    start = min(recording.length(story.rate) - 1, max(0, story.rate.sample_to_frame(max(0, late))))
    length = min(recording.length(story.rate) - start, story.length - at)
    return recording, (
        "lay_sound",
        {"source": recording.id, "at": at, "start": start, "end": start + length, "kind": "voice"},
    )
