"""Who says which sentence: two voices of one recording told apart by how they sound, as a job on its words."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.words.transcript import Word, sentences
from kovel.data_folder import DataFolder, media_facts
from kovel.jobs.kinds import JobKind, Outcome, Result
from kovel.services.log.transcription import WORD_JOBS
from kovel.store import jobs, recordings, transcripts
from kovel.store.jobs import Job

APART = 28_800  # samples (0.6 s): a pause after which somebody else may speak
BOTH = 0.2  # the share of a name in each of two voices from which on it tells neither of them


def spans_of(said_words: Sequence[Word]) -> list[tuple[int, int]]:
    """Words [first, end) that one voice says: sentences, whoever was thought to say them, broken at pauses."""
    speaker_spans, at = [], 0
    for sentence in sentences([replace(word, speaker="") for word in said_words], APART):
        speaker_spans.append((at, at + sentence.count))
        at += sentence.count
    return speaker_spans


def tell_apart(data_folder: DataFolder, recording: int) -> Job:
    """Queue telling the voices of a recording apart."""
    this_recording = recordings.get(data_folder.db, recording)
    facts = media_facts(data_folder, recording)
    said_words = transcripts.words(data_folder.db, recording)
    if not said_words:
        raise Invalid(f"{this_recording.name} has no words yet. Transcribe it, then tell its voices apart.")
    if facts is None or not facts["sounded"]:
        raise Invalid(
            f"The sound of {this_recording.name} is still being made. Tell its voices apart when it is there."
        )
    running = jobs.latest_of_recordings(data_folder.db, this_recording.project, *WORD_JOBS).get(recording)
    if running and running.is_open:
        raise Invalid(f"{this_recording.name} is being listened to already.")
    spans = [(said_words[start].start, said_words[end - 1].end) for start, end in spans_of(said_words)]
    params = {"out": str(data_folder.derived(recording)), "channels": facts["channels"], "spans": spans}
    return jobs.add(data_folder.db, this_recording.project, "voices", params, recording)


def take_voices(data_folder: DataFolder, job: Job, result: dict[str, Any]) -> str:
    """Name who speaks by what a job found, in one undoable step; what was found, for the editor."""
    assert job.recording is not None
    recording = recordings.get(data_folder.db, job.recording)
    said_words = list(transcripts.words(data_folder.db, recording.id))
    spans = spans_of(said_words)
    if [[said_words[start].start, said_words[end - 1].end] for start, end in spans] != job.params["spans"]:
        return "The words were changed meanwhile. Tell the voices apart once more."
    if not result["two"]:
        return "As far as can be heard, one voice says all of it. Nothing was named."
    voice = [v for v, (start, end) in zip(result["voices"], spans, strict=True) for _ in range(start, end)]
    named, names = with_voices(said_words, voice)
    counts = Counter(result["voices"])
    if named != said_words:
        transcripts.change_words(
            data_folder.db, recording.id, 0, said_words, named, f"voices of {recording.name} told apart"
        )
    return (
        f"Two voices: {names[0]} ({counts[0]} sentences) and {names[1]} ({counts[1]})."
        + ("" if result["plain"] else " They differ little: listen to some before you trust it.")
        + (
            " Click a name to say who it is, everywhere at once."
            if any(name.startswith("Voice ") for name in names)
            else ""
        )
    )


def with_voices(said_words: Sequence[Word], voice: Sequence[int]) -> tuple[list[Word], tuple[str, str]]:
    """Words with the name of the voice that says each. A name that mostly one voice had is its name; a name that
    both had told neither of them, and goes to the one that had more of it. Words that were named otherwise keep
    their name."""
    had = (Counter[str](), Counter[str]())
    for word, value in zip(said_words, voice, strict=True):
        if word.speaker:
            had[value][word.speaker] += 1
    count = Counter(voice)
    share = {
        name: tuple(had[voice_index][name] / max(1, count[voice_index]) for voice_index in (0, 1))
        for name in had[0] | had[1]
    }
    vague = {name for name, shares in share.items() if min(shares) > BOTH}
    names = _names_of_voices(had, share)
    new = [
        replace(word, speaker=names[value]) if not word.speaker or word.speaker in vague else word
        for word, value in zip(said_words, voice, strict=True)
    ]
    return new, names


def _names_of_voices(had: tuple[Counter[str], Counter[str]], share: Mapping[str, tuple[float, ...]]) -> tuple[str, str]:
    """To each voice the commonest of the names of which it had the larger share; a new one where none is left."""
    names = ["", ""]
    for name, _ in (had[0] + had[1]).most_common():
        voice_index = 0 if share[name][0] >= share[name][1] else 1
        names[voice_index] = names[voice_index] or name
    for voice_index in (0, 1):
        free = (f"Voice {number}" for number in range(voice_index + 1, 100))
        names[voice_index] = names[voice_index] or next(name for name in free if name not in share)
    return names[0], names[1]


def _take(data_folder: DataFolder, job: Job, result: Result) -> Outcome:
    return Outcome(take_voices(data_folder, job, result))


VOICES = JobKind("voices", "voices", 4, _take)
