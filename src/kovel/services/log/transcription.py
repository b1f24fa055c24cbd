"""Words of recordings: recognised, put to the sound, taken from files, given out; and the jobs that listen."""

import json
import re
import unicodedata
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.words.languages import ENGLISH, guessed
from kovel.core.words.small_words import TALK
from kovel.core.words.transcript import Word, sentences, with_speakers
from kovel.core.words.writing import named
from kovel.data_folder import DataFolder, media_facts
from kovel.exchange.caption_files import write_srt, write_vtt
from kovel.jobs.kinds import JobKind, NeededSound, Outcome, Result
from kovel.services.received_files import taken_apart
from kovel.store import jobs, kept_settings, recordings, subclips, transcripts
from kovel.store.jobs import Job
from kovel.store.recordings import Recording

WORD_JOBS = ("transcribe", "align", "voices")  # what brings the words of a recording, or who says them: one at a time


def listen(data: DataFolder, recording: int) -> Job | None:
    """Queue finding where somebody speaks; None for a recording without sound."""
    this_recording = recordings.get(data.db, recording)
    facts = media_facts(data, recording)
    if not this_recording.sound or facts is None or not facts["sounded"]:
        return None
    asked_params = {
        "out": str(data.derived(recording)),
        "channels": facts["channels"],
        "music": this_recording.kind == "sound",
    }
    return jobs.add(data.db, this_recording.project, "listen", asked_params, recording)


def take_listened(data_folder: DataFolder, recording: int, result: dict[str, Any]) -> str:
    """What was found while listening: a sound with a beat and tones that stand is music, unless it was called
    something else."""
    this_recording = recordings.get(data_folder.db, recording)
    if not result.get("music") or this_recording.kind != "sound":
        return ""
    recordings.update_all(
        data_folder.db, [(recording, {"kind": "music"})], f"{this_recording.name} sounds like music: its kind"
    )
    return "It sounds like music, so that is its kind now."


def names_of(data_folder: DataFolder, project: int) -> list[str]:
    """People, places and tags of a project: so that the recogniser writes them as the editor does."""
    speaker_names: dict[str, None] = {}
    for recording in recordings.of_project(data_folder.db, project):
        for this_text in _names_in(recording.name):
            speaker_names[this_text] = None
    for subclip in subclips.of_project(data_folder.db, project):
        for tag in subclip.tags:
            speaker_names[tag] = None
        for this_text in _names_in(subclip.name.partition(" ")[2]):
            speaker_names[this_text] = None
    for text in transcripts.corrected(data_folder.db, project):  # what was corrected once is known from then on
        this_text = re.sub(r"^\W+|\W+$|['’]s$", "", text)
        if (
            _names_in(this_text) == [this_text]
            and this_text.lower() not in TALK
            and this_text.lower() not in ENGLISH.small
        ):
            speaker_names[this_text] = None
    return list(speaker_names)[:60]


def _names_in(text: str) -> list[str]:
    """Words of three letters and more that begin with a capital, of any script that has such."""
    return [w for w in re.findall(r"\w[\w'’-]{2,}", unicodedata.normalize("NFC", text)) if w[0].isupper()]


def transcribe(data: DataFolder, recording: int) -> Job:
    """Queue recognising the words of a recording."""
    this_recording = recordings.get(data.db, recording)
    if not this_recording.sound:
        raise Invalid(f"{this_recording.name} has no sound, so there is nothing to transcribe.")
    facts = media_facts(data, recording)
    if facts is None:
        raise Invalid(f"{this_recording.name} is not prepared. Try again under Footage.")
    running = jobs.latest_of_recordings(data.db, this_recording.project, *WORD_JOBS).get(recording)
    if running and running.is_open:
        raise Invalid(f"{this_recording.name} is being transcribed already.")
    params = {
        "out": str(data.derived(recording)),
        "channels": facts["channels"],
        "model": kept_settings.get(data.db, "model"),
        "names": names_of(data, this_recording.project),
        "language": this_recording.language,
        "models": str(data.models),
    }
    return jobs.add(data.db, this_recording.project, "transcribe", params, recording)


def align(data_folder: DataFolder, recording: int, text: str) -> Job:
    """Queue placing a text without times in the sound. A name before a colon at the start of a line is who speaks."""
    this_recording = recordings.get(data_folder.db, recording)
    facts = media_facts(data_folder, recording)
    if not this_recording.sound or facts is None or not facts["sounded"]:
        raise Invalid(f"{this_recording.name} has no sound that is ready to put a text to.")
    speakers, said_words = _script(text)
    if not said_words:
        raise Invalid(f"There are no words in that text. The words of {this_recording.name} are as they were.")
    params = {
        "out": str(data_folder.derived(recording)),
        "channels": facts["channels"],
        "said": said_words,
        "speakers": speakers,
        "model": kept_settings.get(data_folder.db, "model"),
        "language": this_recording.language,
        "models": str(data_folder.models),
    }
    return jobs.add(data_folder.db, this_recording.project, "align", params, recording)


def _script(text: str) -> tuple[list[str], list[str]]:
    """The speaker of each word of a text, and the words; `Maren: we haul` names who speaks from there on."""
    speakers: list[str] = []
    said_words: list[str] = []
    now = ""
    for line in text.splitlines():
        who, line = named(line)
        now = who or now
        words = line.split()
        said_words += words
        speakers += [now] * len(words)
    return speakers, said_words


class SoFar:
    """The words of a transcription under way, kept as they come where the recording had none."""

    def __init__(self, data_folder: DataFolder, job: Job) -> None:
        self.data, self.recording = data_folder, job.recording or 0
        self._path = data_folder.derived(self.recording) / "heard.json"
        self._path.unlink(missing_ok=True)
        self._stamp = 0
        self._fresh = not transcripts.words_at(data_folder.db, self.recording, 0, 1)
        self._kept: list[Word] = []

    def take(self) -> None:
        """What has come since."""
        try:
            stamp = self._path.stat().st_mtime_ns
            if stamp == self._stamp or not self._fresh:
                return
            word_rows = json.loads(self._path.read_text())["words"]
        except (OSError, ValueError):
            return
        self._stamp = stamp
        last = self._kept[-1].end if self._kept else 0
        new = [
            word
            for word in (Word(str(t), int(a), int(b), "", float(confidence)) for t, a, b, confidence in word_rows)
            if word.start >= last
        ]
        self._kept += new
        transcripts.add_heard(self.data.db, self.recording, new)

    def end(self, result: Result) -> None:
        """It is done: what comes now is all of it."""
        if not result["words"]:
            return
        transcripts.forget_heard(self.data.db, self.recording, self._kept)


def take_heard(data_folder: DataFolder, recording: int, result: dict[str, Any]) -> str:
    """Keep the words a job found; the remark for the editor. Words that were there stay if none were found."""
    heard_words = [Word(str(t), int(a), int(b), "".join(who), float(sure)) for t, a, b, sure, *who in result["words"]]
    if heard_words:
        this_recording = recordings.get(data_folder.db, recording)
        if not any(word.speaker for word in heard_words):
            heard_words = with_speakers(heard_words, transcripts.words(data_folder.db, recording))
        transcripts.set_words(data_folder.db, recording, heard_words, f"{this_recording.name} transcribed")
        recordings.set_spoken(data_folder.db, recording, str(result.get("language", "")))
    return str(result.get("remark", ""))


def set_model(data_folder: DataFolder, folder: str) -> None:
    """Use another recogniser model of the same format (a folder with model.bin); empty for the bundled one."""
    if folder.strip() and not (Path(folder.strip()).expanduser() / "model.bin").is_file():
        raise Invalid(
            f"There is no model.bin in {folder.strip()[:200]}. "
            "A model is a folder with model.bin, config.json and its vocabulary."
        )
    kept_settings.put(data_folder.db, "model", str(Path(folder.strip()).expanduser()) if folder.strip() else "")


def _words_of_json(name: str, text: str) -> list[Word]:
    try:
        said_words = [
            Word(
                " ".join(str(word_row["text"]).split()),
                round(word_row["start"] * 48000),
                round(word_row["end"] * 48000),
                str(word_row.get("speaker") or ""),
                float(word_row.get("sure", 1.0)),
            )
            for word_row in json.loads(text)["words"]
        ]
    except (ValueError, KeyError, TypeError, AttributeError):
        raise Invalid(f"{name} holds no words with times.") from None
    return sorted((word for word in said_words if word.text and 0 <= word.start < word.end), key=lambda w: w.start)


def take_words(data_folder: DataFolder, recording: Recording, name: str, text: str) -> tuple[int, list[str]]:
    """Words with times from WebVTT, SubRip, or JSON ({"words": [{"text", "start", "end", "speaker", "sure"}]},
    seconds).

    Returns how many were taken, and each thing left out with its line and reason. `Invalid` if there is nothing to
    take; the words there were stay then.
    """
    words_left: list[str] = []
    if name.lower().endswith(".json"):
        said_words = _words_of_json(name, text)
    elif "-->" in text:
        told_words = taken_apart(data_folder, "read_words", name, text)
        said_words = [Word(*word_row) for word_row in told_words["words"]]
        words_left = [f"Line {n}: {why}. Left out." for n, why in told_words["refused"]]
    else:
        raise Invalid(f"{name} is not a transcript with times. Kovel takes WebVTT, SRT, JSON and plain text.")
    if recording.frames is not None:
        total = recording.rate.frame_to_sample(recording.frames)
        late = [word for word in said_words if word.start >= total]
        words_left += [f"{len(late)} words lie after the end of {recording.name}. Left out."] if late else []
        said_words = [
            Word(word.text, word.start, min(word.end, total), word.speaker) for word in said_words if word.start < total
        ]
    if not said_words:
        raise Invalid(
            f"There are no words in {name}. The words of {recording.name} are as they were."
            + "".join(f" {left_word}" for left_word in words_left[:3])
        )
    transcripts.set_words(data_folder.db, recording.id, said_words)
    if code := guessed(word.text for word in said_words[:5000]):
        recordings.set_spoken(data_folder.db, recording.id, code)
    return len(said_words), words_left


def transcript(said_words: Sequence[Word], kind: str) -> str:
    """Words as `vtt`, `srt`, `json` or plain `txt`."""
    if kind == "vtt":
        return write_vtt(said_words)
    if kind == "srt":
        return write_srt(said_words)
    if kind == "txt":
        return (
            "\n\n".join(
                f"{sentence.speaker + ': ' if sentence.speaker else ''}{sentence.text}"
                for sentence in sentences(said_words)
            )
            + "\n"
        )
    word_rows = [
        {
            "text": word.text,
            "start": word.start / 48000,
            "end": word.end / 48000,
            "speaker": word.speaker,
            "sure": round(word.sure, 3),
        }
        for word in said_words
    ]
    return json.dumps({"words": word_rows}, ensure_ascii=False, indent=1) + "\n"


def _take_listened(data_folder: DataFolder, job: Job, result: Result) -> Outcome:
    return Outcome(take_listened(data_folder, job.recording, result) if job.recording else "", result)


def _take_words(data_folder: DataFolder, job: Job, result: Result) -> Outcome:
    return Outcome(take_heard(data_folder, job.recording, result) if job.recording else "")


# somebody waits for pauses and for cameras in step: before short recordings are made whole, of whatever project
LISTEN = JobKind("listen", "listen", 0.8, _take_listened)
TRANSCRIBE = JobKind(
    "transcribe",
    "transcribe",
    5,
    _take_words,
    needs_sound=NeededSound.SOME,
    is_long=True,
    fills_machine=True,
    follow=SoFar,
)
ALIGN = JobKind("align", "align_text", 4, _take_words, needs_sound=NeededSound.ALL)
