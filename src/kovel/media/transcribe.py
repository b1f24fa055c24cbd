"""Words from sound, on this machine and without a network: recognised, then put where they sound.

The recogniser (faster-whisper with a small model of English, one of many languages, or any model folder of the same
format: media/models.py) gives the words; its times come late, so English is aligned to the sound once more
(pocketsphinx), and the edges are kept out of proven silence. Voiced sounds it left out stay as marked words.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from kovel.core.sound.levels import RATE, TICK, Floats, Levels, Mask, hysteresis, runs
from kovel.core.sound.pauses import VOICE, speech
from kovel.core.words.align import EARLY, LATE, NEAR, NEARER, Clip, clips, snap, sounds, spoken
from kovel.core.words.fillers import voiced_between
from kovel.core.words.languages import ENGLISH, Language, guessed
from kovel.core.words.languages import language as of_code
from kovel.core.words.transcript import Word
from kovel.core.words.transcript_match import anchors, windows
from kovel.media.listen import Sound16, levels_between, listen, sound_so_far
from kovel.media.models import of_english, of_many, recogniser
from kovel.media.soundtrack import Patience
from kovel.media.whole_files import keep
from kovel.media.wholeness import whole_sound

GROUP = 12  # stretches recognised at a time
AT_ONCE = 60_000  # ticks heard at once while the sound is being made: ten minutes
AIR = 100  # ticks
SOON = 3  # and the first time, so that there is something to read soon
LIKELY = 0.4  # how sure a language has to be that is found in the sound
GLUED = "'’-‐"  # what the recogniser begins the second half of a word with
Progress = Callable[[float], None]


class Readable(Protocol):
    """16 kHz samples [start, end) of a sound."""

    def read(self, start: int, end: int) -> Floats:
        """Samples [start, end), mono."""


@dataclass(frozen=True, slots=True)
class Ear:
    """What hears a recording: a model, and the language it is told that it hears."""

    model: str
    language: Language = ENGLISH

    def aligner(self) -> Aligner | None:
        """What puts words to the sound once more; there is one for English."""
        return Aligner() if self.language.code == "en" else None


def ear_for(sound: Readable, parts: Sequence[Clip], *, model: str = "", language: str = "", models: Path) -> Ear:
    """English is heard by the model of English, all else by that of many languages (or all by the editor's own
    `model`). A language that was not said is found in the sound; where it is not sure, English is tried."""
    if model and not recogniser(model).model.is_multilingual:
        return Ear(model)
    if not language and parts:
        language = spoken_in(sound, parts, model or str(of_many(models)))
    if model:
        return Ear(model, of_code(language or "en"))
    return Ear(str(of_english())) if language in ("", "en") else Ear(str(of_many(models)), of_code(language))


def spoken_in(sound: Readable, parts: Sequence[Clip], model: str) -> str:
    """The code of the language that most of a recording is in, by clips from its front, its middle and its end;
    empty where none is likely."""
    sure: Counter[str] = Counter()
    picks = {0, len(parts) // 2, len(parts) - 1}
    for pick in picks:
        _, _, found_languages = recogniser(model).detect_language(audio=_read(sound, parts[pick]))
        sure.update({code: share / len(picks) for code, share in found_languages})
    code, share = sure.most_common(1)[0]
    return code if share >= LIKELY else ""


def recognise(sounds_of: Sequence[Floats], ear: Ear, names: Sequence[str] = ()) -> list[list[Word]]:
    """The words of each clip of 16 kHz sound, with the recogniser's own times in 48 kHz samples from the clip's
    start."""
    import faster_whisper

    pipeline = faster_whisper.BatchedInferencePipeline(recogniser(ear.model))
    prompt = " ".join([*([f"{', '.join(names[:40])}."] if names else []), ear.language.hesitating]).strip() or None
    edges = np.concatenate([[0], np.cumsum([len(sound_samples) for sound_samples in sounds_of])])
    segments, _ = pipeline.transcribe(
        np.concatenate(sounds_of),
        batch_size=8,
        beam_size=5,
        word_timestamps=True,
        initial_prompt=prompt,
        vad_filter=False,
        language=ear.language.code,
        clip_timestamps=[{"start": start / RATE, "end": end / RATE} for start, end in pairwise(edges.tolist())],
    )
    words_of_sounds: list[list[Word]] = [[] for _ in sounds_of]
    for segment in segments:
        for w in segment.words or ():
            text, middle = " ".join(w.word.split()), (w.start + w.end) / 2 * RATE
            sound_index = int(np.searchsorted(edges, middle, "right")) - 1
            if text and 0 <= sound_index < len(words_of_sounds):
                a, b = round(w.start * 48_000), round(w.end * 48_000)
                zero = int(edges[sound_index]) * 3
                if (
                    words_of_sounds[sound_index] and text[0] in GLUED and not w.word[0].isspace()
                ):  # the rest of a word: l'extension, hang-up
                    before = words_of_sounds[sound_index][-1]
                    sure = min(before.sure, float(w.probability))
                    words_of_sounds[sound_index][-1] = replace(
                        before, text=before.text + text, end=max(before.end, b - zero), sure=sure
                    )
                    continue
                words_of_sounds[sound_index].append(
                    Word(text, max(0, a - zero), max(b, a + TICK) - zero, "", float(w.probability))
                )
    return [_without_loops(words) for words in words_of_sounds]


def recognise_clips(
    sound: Readable, group: Sequence[Clip], ear: Ear, names: Sequence[str] = (), again: int = 3
) -> list[tuple[Clip, Floats, list[Word]]]:
    """Clips with their sound and words. One in which no word begins for three seconds is heard again in halves.

    The recogniser sometimes skips some or most of half a minute, and is as sure of the rest as ever; the pauses are
    taken out of clips, so words there follow each other within a second and a half.
    """
    heard_clips = [_read(sound, clip) for clip in group]
    this_heard_clips: list[tuple[Clip, Floats, list[Word]]] = []
    for clip, clip_samples, said_words in zip(group, heard_clips, recognise(heard_clips, ear, names), strict=True):
        begun = [0, *(word.start for word in said_words), clip.length * TICK]
        if again and max(end - start for start, end in pairwise(begun)) > 3 * 48_000:
            halves = recognise_clips(sound, clip.halves(), ear, names, again - 1)
            if sum(_letters(words) for _, _, words in halves) > _letters(said_words):
                this_heard_clips += halves
                continue
        this_heard_clips.append((clip, clip_samples, said_words))
    return this_heard_clips


def _letters(words: Sequence[Word]) -> int:
    return sum(len(word.text) + 1 for word in words)


def _without_loops(words: list[Word]) -> list[Word]:
    """A recogniser that is stuck says one thing over and over; more than four times in a row is not speech."""
    all_words: list[Word] = []
    for word in words:
        if len(all_words) >= 4 and all(word.text == other.text for other in all_words[-4:]):
            continue
        all_words.append(word)
    return all_words


class Aligner:
    """Puts known words where they sound in a stretch of 16 kHz sound (pocketsphinx's forced alignment)."""

    def __init__(self) -> None:
        import pocketsphinx

        self.decoder = pocketsphinx.Decoder(samprate=RATE, bestpath=False, loglevel="FATAL", lm=None)

    def __call__(self, x: Floats, words: Sequence[str]) -> list[tuple[int, int] | None]:
        """(start, end) in ticks from the beginning of `x` for each written word; None where it could not be placed."""
        said_tokens: list[str] = []
        owner: list[int] = []
        for index, word in enumerate(words):
            for text in spoken(word):
                if self.decoder.lookup_word(text) is None:
                    phones = sounds(text)
                    if not phones:
                        continue
                    self.decoder.add_word(text, phones, True)
                said_tokens.append(text)
                owner.append(index)
        placed_words: list[tuple[int, int] | None] = [None] * len(words)
        if not said_tokens:
            return placed_words
        try:
            self.decoder.set_align_text(" ".join(said_tokens))
            self.decoder.start_utt()
            self.decoder.process_raw((np.clip(x, -1, 1) * 32767).astype("<i2").tobytes(), full_utt=True)
            self.decoder.end_utt()
            decoded_words = [
                (segment.start_frame, segment.end_frame + 1, re.sub(r"\(\d+\)$", "", segment.word))
                for segment in self.decoder.seg() or ()
            ]
        except RuntimeError:
            return placed_words
        decoded_words = [
            decoded_row
            for decoded_row in decoded_words
            if decoded_row[2] not in ("<s>", "</s>", "<sil>", "(NULL)") and decoded_row[2][0] not in "[<"
        ]
        if [decoded_row[2] for decoded_row in decoded_words] != said_tokens:
            return placed_words
        for (decoded_row, b, _), index in zip(decoded_words, owner, strict=True):
            before = placed_words[index]
            placed_words[index] = (decoded_row, b) if before is None else (before[0], b)
        return placed_words


def place(aligner: Aligner | None, x: Floats, clip: Clip, words: Sequence[Word]) -> list[Word]:
    """Words of a clip at their times in the recording: the aligner's where there is one and it found them, else the
    recogniser's, moved by what it is late or early."""
    if aligner is None:
        return place_found(clip, words, [((word.start + EARLY) // TICK, (word.end + EARLY) // TICK) for word in words])
    found_places = aligner(x, [word.text for word in words])
    late = [(max(0, word.start - LATE) // TICK, max(word.end - LATE // 2, word.start) // TICK) for word in words]
    return place_found(
        clip, words, [found_place or old_place for found_place, old_place in zip(found_places, late, strict=True)]
    )


def place_found(clip: Clip, words: Sequence[Word], found: Sequence[tuple[int, int]]) -> list[Word]:
    """Words with their ticks in a clip, as words of the recording that do not overlap."""
    all_words: list[Word] = []
    for word, (word_start, word_end) in zip(words, found, strict=True):
        a = clip.on_recording(word_start) * TICK
        all_words.append(replace(word, start=a, end=max(clip.on_recording(word_end, end=True) * TICK, a + TICK)))
    for word_index in range(1, len(all_words)):
        if all_words[word_index].start < all_words[word_index - 1].end:
            at = max(all_words[word_index].start, all_words[word_index - 1].start + TICK)
            all_words[word_index - 1] = replace(all_words[word_index - 1], end=at)
            all_words[word_index] = replace(
                all_words[word_index], start=at, end=max(all_words[word_index].end, at + TICK)
            )
    return all_words


def _read(sound: Readable, clip: Clip) -> Floats:
    return np.concatenate([sound.read(start * 160, end * 160) for start, end in clip.parts])


@dataclass(frozen=True, slots=True)
class Heard:
    """The words of a recording, and a remark for the editor where they are to be taken with care."""

    words: tuple[Word, ...]
    remark: str = ""
    seconds: float = 0.0  # of speech


def transcribe_sound(
    sound: Readable,
    levels: Levels,
    ear: Ear | None = None,
    names: Sequence[str] = (),
    progress: Progress = lambda x: None,
    so_far: Callable[[Sequence[Word]], None] = lambda words: None,
) -> Heard:
    """All words of a recording, from the front; `so_far` is given those up to where it is.

    `names`: people, places and tags of the project, so that they are heard as written.
    """
    talking = speech(levels)
    parts = clips(talking)
    if not parts:
        return Heard((), "No speech was found in it.")
    ear = ear or Ear(str(of_english()))
    recogniser(ear.model)
    aligner = ear.aligner()
    near = NEARER if aligner else NEAR
    words: list[Word] = []

    def settled(heard_clips: Sequence[tuple[Clip, Floats, list[Word]]]) -> list[Word]:
        return [
            word
            for clip, clip_samples, said_words in heard_clips
            if said_words
            for word in place(aligner, clip_samples, clip, said_words)
        ]

    with ThreadPoolExecutor(1) as pool:  # one group is aligned while the next is recognised
        waiting = None
        done = 0
        while done < len(parts):
            group = parts[done : done + (GROUP if done else SOON)]
            heard_clips = recognise_clips(sound, group, ear, names)
            if waiting is not None:
                words += waiting.result()
                so_far(snap(words, talking, near=near))
            waiting = pool.submit(settled, heard_clips)
            done += len(group)
            progress(min(0.99, done / len(parts)))
        if waiting is not None:
            words += waiting.result()
    words = snap(words, talking, near=near)
    full = sorted([*words, *voiced_between(levels, words, mask=_voiced(levels, talking))], key=lambda w: w.start)
    spoken = float(talking.sum()) / 100
    return Heard(tuple(full), _doubt(words, spoken, ear.language), spoken)


def _voiced(levels: Levels, talking: Mask) -> Mask:
    """Where a voice is sure enough to be marked though no word was recognised."""
    return talking & hysteresis(levels.speech, 0.8, 0.4, 5)


def _doubt(words: Sequence[Word], seconds: float, of: Language = ENGLISH) -> str:
    """What is to be said of words that stand for so many seconds of speech."""
    words = [word for word in words if word.text != VOICE]
    other = f"another language than {of.name} (say which one under Transcript)"
    if not seconds:
        return "No speech was found in it."
    if not words:
        return f"No words could be made out. It may be music, noise, or {other}."
    sure = sum(word.sure for word in words) / len(words)
    if len(words) >= 8 and sure < 0.55:
        return f"Most of these words are guesses (on average {sure:.0%} sure). It may be {other}, or music."
    if seconds > 20 and len(words) / seconds < 0.8:
        return f"Few words could be made out for the time somebody speaks. It may be {other}, or music."
    return ""


class Stretch:
    """A stretch of a sound, from a tick on, as a sound of its own."""

    def __init__(self, sound: Sound16, first: int) -> None:
        self.sound, self.first = sound, first * 160

    def read(self, start: int, end: int) -> Floats:
        """Samples [start, end) of the stretch."""
        return self.sound.read(self.first + start, self.first + end)


def transcribe(
    out: str,
    channels: int,
    progress: Progress,
    model: str = "",
    names: Sequence[str] = (),
    language: str = "",
    models: str = "",
) -> dict[str, Any]:
    """The words of a recording in folder `out`, as [text, start, end, sure] rows, their language and a remark.

    `language` is found where it is not said; the model of many languages is put together in the folder `models`.

    While its sound is still being made, it is heard ten minutes at a time as it comes; heard.json has the words so far.
    """
    folder = Path(out)
    words: list[Word] = []
    done, seconds = 0, 0.0  # ticks heard, and how much of that was speech
    ear: Ear | None = None

    def hear(sound: Readable, levels: Levels) -> Ear | None:
        """What hears it from the first speech on."""
        parts = [] if ear else clips(speech(levels))
        return ear_for(sound, parts, model=model, language=language, models=Path(models or out)) if parts else ear

    def so_far(new_words: Sequence[Word]) -> None:
        word_rows = [[word.text, word.start, word.end, round(word.sure, 3)] for word in (*words, *new_words)]
        keep(folder / "heard.json", {"words": word_rows})

    patience = Patience(folder)
    while not whole_sound(folder):
        here = sound_so_far(folder, channels)
        ticks = len(here) // 160 - AIR if here else 0  # the last bit may be half written
        if here is None or ticks - done < AT_ONCE:
            patience.wait()
            progress(0.001)
            continue
        levels = levels_between(here, done * 160, (done + AT_ONCE) * 160)
        end = _pause_before(speech(levels))
        part_levels = levels.between(0, end * TICK)
        ear = hear(Stretch(here, done), part_levels)
        heard_words = transcribe_sound(
            Stretch(here, done), part_levels, ear, names, lambda x: progress(0.001), _later(so_far, done)
        )
        words += _moved(heard_words.words, done)
        seconds += heard_words.seconds
        done += end
        so_far(())
    sound = Sound16(folder / "sound.pcm", channels)
    levels = load_levels(out, channels)
    total = len(levels)
    if done < total:
        share = done / total
        rest = levels.between(done * TICK, total * TICK)
        ear = hear(Stretch(sound, done), rest)
        heard_words = transcribe_sound(
            Stretch(sound, done), rest, ear, names, lambda x: progress(share + (1 - share) * x), _later(so_far, done)
        )
        words += _moved(heard_words.words, done)
        seconds += heard_words.seconds
    (folder / "heard.json").unlink(missing_ok=True)
    of = ear.language if ear else ENGLISH
    word_rows = [[word.text, word.start, word.end, round(word.sure, 3)] for word in words]
    return {"words": word_rows, "remark": _doubt(words, seconds, of), "language": of.code if words else ""}


def _moved(words: Sequence[Word], ticks: int) -> list[Word]:
    return [replace(word, start=word.start + ticks * TICK, end=word.end + ticks * TICK) for word in words]


def _later(tell: Callable[[Sequence[Word]], None], ticks: int) -> Callable[[Sequence[Word]], None]:
    return lambda words: tell(_moved(words, ticks))


def _pause_before(talking: Mask) -> int:
    """The last tick in the middle of half a second without speech, within the last minute; the end where there is
    none."""
    count = len(talking)
    for a, b in reversed(list(zip(*(run.tolist() for run in runs(~talking)), strict=True))):
        if b - a >= 50 and a > count - 6000:
            return int((a + b) // 2)
    return count


def align_text(
    out: str,
    channels: int,
    said: Sequence[str],
    speakers: Sequence[str],
    progress: Progress,
    model: str = "",
    language: str = "",
    models: str = "",
) -> dict[str, Any]:
    """Words of a text without times, and who says each, placed in a prepared recording in their order.

    What the recogniser hears gives the anchors; the words between two anchors are aligned to the sound between them, or
    shared out over it by their length where they cannot be found.
    """
    sound, levels = Sound16(Path(out) / "sound.pcm", channels), load_levels(out, channels)
    names = list(dict.fromkeys(word.strip(".,;:?!") for word in said if word[:1].isupper() and len(word) > 3))[:40]
    parts = clips(speech(levels))
    ear = ear_for(sound, parts, model=model, language=language or guessed(said), models=Path(models or out))
    heard_words = [
        word
        for word in transcribe_sound(sound, levels, ear, names, lambda x: progress(0.9 * x)).words
        if word.text != VOICE
    ]
    if not heard_words or not said:
        return {"words": [], "remark": "There is no speech in this recording to put the text to." if said else ""}
    talking = speech(levels)
    words = snap(place_between(ear.aligner(), sound, said, heard_words, talking), talking, whole=True)
    share = sum(1 for _ in anchors(said, heard_words, nearly=False)) / len(said)
    remark = (
        ""
        if share > 0.3
        else "Few words of the text were heard in the recording. Check that it is the transcript of this one."
    )
    word_rows = [[word.text, word.start, word.end, word.sure, who] for word, who in zip(words, speakers, strict=True)]
    return {"words": word_rows, "remark": remark, "language": ear.language.code}


def place_between(
    aligner: Aligner | None, sound: Sound16, said: Sequence[str], heard: Sequence[Word], talking: Mask
) -> list[Word]:
    """Words at their anchors, and those between at the places the aligner finds between the anchors."""
    words: list[Word] = []
    word_index, at = 0, None
    for a, start, stop in [*anchors(said, heard), (len(said), None, 0)]:
        for between, first, last in (
            windows(said[word_index:a], at, start and start // TICK, talking) if a > word_index else ()
        ):
            last = max(last, first + 2 * len(between))
            sound_samples = sound.read(first * 160, last * 160)
            found_places = (
                aligner(sound_samples, between) if aligner and 10 < last - first < 6000 else [None] * len(between)
            )
            size = [len(word) + 1 for word in between]
            edges = [
                first + (last - first) * sum(size[:word_count]) // sum(size) for word_count in range(len(size) + 1)
            ]
            for index, (word, found_place) in enumerate(zip(between, found_places, strict=True)):
                word_start, word_end = (
                    (first + found_place[0], first + found_place[1])
                    if found_place
                    else (edges[index], edges[index + 1])
                )
                words.append(
                    Word(word, word_start * TICK, max(word_end, word_start + 1) * TICK, "", 1.0 if found_place else 0.3)
                )
        if start is not None:
            words.append(Word(said[a], start, stop))
            word_index, at = a + 1, stop // TICK
    return words


def load_levels(out: str, channels: int) -> Levels:
    """The kept levels of a recording, made first if they are not there or not heard to the end."""
    path = Path(out) / "levels.npy"
    levels = Levels.from_array(np.load(path)) if path.is_file() else None
    if levels is None or not levels.heard:
        listen(out, channels, lambda x: None)
        levels = Levels.from_array(np.load(path))
    return levels
