"""What the Sound room does with a whole story: who speaks when, how loud it is, and the edits worked out of that.

Each function gives the parameters of one edit of the core (name, parameters), so that it is undone in one step.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from math import floor
from typing import Any

import numpy as np

from kovel.core.checks.mix_loudness import target_of
from kovel.core.errors import Invalid
from kovel.core.plan.plan import Plan, make_plan
from kovel.core.plan.sounds import made_of, sounds_on
from kovel.core.sound.ducking import Ducking, Span, ducked, spans_joined
from kovel.core.sound.levels import TICK
from kovel.core.sound.loudness import STEP, decibels, integrated, loudness_range, sliding
from kovel.core.sound.mastering import mastered, speech_loudness
from kovel.core.sound.pauses import VOICE, Settings
from kovel.core.story.beds import parts_of
from kovel.core.story.level_lines import held
from kovel.core.story.model import Item, Piece, Refused, Sound, Sources, Story, frames_to, moment_of
from kovel.core.story.settings import NONE, SETTINGS, Value, added, on_line
from kovel.core.time.rate import SAMPLE_RATE
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder, media_facts
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.services.footage.intake import bring_in, free_name, safe
from kovel.services.footage.mending import whole_sound_of
from kovel.services.log.speech_levels import levels, speaking
from kovel.services.sound.derived_sounds import all_retimed, made_file, want_retimed
from kovel.services.story.story_checks import powers
from kovel.services.tighten.quick_cuts import beats, find
from kovel.store import recordings, transcripts

Asked = tuple[str, dict[str, Any]]
REACH = 3  # frames by which room tone reaches under its neighbours, to come and go
WORD_GAP = 0.12  # seconds between words that are one stretch of speech


def speech_of(data_folder: DataFolder, recording: int, start: int, end: int) -> list[Span]:
    """Samples [a, b) of a recording in which somebody speaks: its words; where it has none, what the detector found."""
    said_words: list[Word] = transcripts.words_between(data_folder.db, recording, start, end)
    if said_words:
        return spans_joined(
            ((max(start, word.start), min(end, word.end)) for word in said_words if word.text != VOICE),
            int(WORD_GAP * SAMPLE_RATE),
        )
    if levels(data_folder, recording) is None:
        return [(start, end)]
    mask = speaking(data_folder, recording, Settings())[start // TICK : -(-end // TICK)]
    edges = np.flatnonzero(np.diff(np.concatenate([[0], mask.astype(np.int8), [0]])))
    return [
        (start // TICK * TICK + int(begin) * TICK, start // TICK * TICK + int(end) * TICK)
        for begin, end in zip(edges[::2], edges[1::2], strict=True)
    ]


def _speaking(story: Story, sources: Sources) -> Iterator[tuple[Piece | Sound, int, int]]:
    """What somebody may speak in, with its story frame and its recording: pieces and voice-overs that are heard."""
    read = story.reading(sources)
    heard_clips: list[tuple[Piece | Sound, int]] = list(zip(story.pieces, story.starts, strict=False))
    heard_clips += [(sound, story.at(sound)) for sound in story.sounds if sound.kind == "voice"]
    for clip, at in heard_clips:
        if clip.source is None or clip.source not in sources or not sources[clip.source].sound or read(clip, "mute"):
            continue
        if not isinstance(clip, Piece) or (clip.take != "picture" and sounds_on(clip)):
            yield clip, at, clip.source


def speech_in(data_folder: DataFolder, story: Story, sources: Sources) -> list[Span]:
    """Story frames in which somebody is heard speaking: in the dialogue, or as a voice-over."""
    to_sample = story.rate.frame_to_sample
    spans: list[Span] = []
    for clip, at, source in _speaking(story, sources):
        first, end = clip.used if isinstance(clip, Piece) else (clip.start, clip.end)
        for start, until in speech_of(data_folder, source, to_sample(first), to_sample(end)):
            word_frame = sorted(
                at + floor(frames_to(clip, story.rate.sample_to_frame(max(0, edge_sample))))
                for edge_sample in (start, until - 1)
            )
            spans.append((max(at, word_frame[0]), min(at + clip.length, word_frame[1] + 1)))
    return spans_joined(spans)


def duck(data_folder: DataFolder, project: int, story: Story, items: Sequence[int], how: Ducking) -> Asked:
    """Ducking of sounds and covers under all that is said."""
    sources = recordings.sources(data_folder.db, project)
    chosen = [story.item(item) for item in items] or [sound for sound in story.sounds if sound.kind == "music"]
    setting_rows: list[list[Any]] = []
    talk = speech_in(data_folder, story, sources)
    for clip in chosen:
        if isinstance(clip, Piece):
            raise Invalid("Music, natural sound and effects go down under speech. Choose one of them.")
        at = story.at(clip)
        line = ducked(talk, (at, min(at + clip.length, story.length)), how)
        if line:
            points = {moment_of(clip, line_frame - at): db for line_frame, db in line}
            setting_rows.append([clip.id, "duck", [[point, points[point]] for point in sorted(points)]])
        elif "duck" in clip.settings:
            setting_rows.append([clip.id, "duck", None])
    if not setting_rows:
        raise Invalid(
            "There is no music in the story, or nobody speaks over it." if not items else "Nobody speaks over that."
        )
    count = len(setting_rows)
    what = f"{count} sounds go" if count != 1 else f"{_name(sources, chosen[0])} goes"
    return "set_several", {"rows": setting_rows, "did": f"{what} down by {abs(how.depth):g} dB where somebody speaks"}


def _name(sources: Sources, item: Item) -> str:
    return sources[item.source].name if item.source is not None and item.source in sources else "It"


@dataclass(frozen=True, slots=True)
class Voice:
    """One voice of the story: who it is, the pieces and voice-overs in which it is heard, and how loud its speech is
    now (LUFS)."""

    name: str
    pieces: tuple[int, ...]
    loudness: float


def _levels_at(level: Value, frames: np.ndarray) -> np.ndarray:
    """dB at each of these frames, of a level or of a line of levels."""
    if isinstance(level, tuple):
        return np.array([on_line(level, frame) for frame in frames])
    return np.full(len(frames), float(level))


def voices(data: DataFolder, project: int, story: Story, apart: str = "speaker") -> list[Voice]:
    """The voices of a story: by speaker (and recording), or each piece for itself. Their loudness is that of speech
    alone, with all that is set on them."""
    sources = recordings.sources(data.db, project)
    measured = powers(data, make_plan(story, sources))
    read = story.reading(sources)
    groups: dict[tuple[str, int], list[tuple[int, np.ndarray]]] = {}
    to_sample = story.rate.frame_to_sample
    for clip, _, source in _speaking(story, sources):
        measured_power = next(
            (measured[key] for key in ((source, made_of(sources[source])), (source, "")) if key in measured), None
        )
        if measured_power is None:
            continue
        start, end = (
            to_sample(used_frame) for used_frame in (clip.used if isinstance(clip, Piece) else (clip.start, clip.end))
        )
        first, last = start // STEP, min(len(measured_power), -(-end // STEP))
        talk = np.zeros(max(0, last - first), bool)
        for begin, until in speech_of(data, source, start, end):
            talk[max(0, -(-begin // STEP) - first) : max(0, until // STEP - first)] = True
        frames = np.arange(first, last) * STEP / SAMPLE_RATE * float(story.rate.fps)
        said_power = measured_power[first:last, 0][talk] * 10 ** (_levels_at(read(clip, "level"), frames)[talk] / 10)
        who = _speaker(data, source, start, end) if apart == "speaker" else ""
        name = sources[source].name
        key = (who or name, 0 if who else source) if apart == "speaker" else (name, clip.id)
        groups.setdefault(key, []).append((clip.id, said_power))
    voice_levels = []
    for (name, _), rows_ in groups.items():
        power = np.concatenate([spoken_share for _, spoken_share in rows_])
        loud = speech_loudness(power, np.ones(len(power), bool))
        if loud is not None:
            voice_levels.append(Voice(name, tuple(item_id for item_id, _ in rows_), loud))
    return voice_levels


def _speaker(data_folder: DataFolder, recording: int, start: int, end: int) -> str:
    """Who speaks the most in samples [a, b) of a recording, as its words have it."""
    count: dict[str, int] = {}
    for word in transcripts.words_between(data_folder.db, recording, start, end):
        count[word.speaker] = count.get(word.speaker, 0) + word.end - word.start
    return max(count, key=lambda k: count[k]) if count else ""


def even_voices(
    data_folder: DataFolder, project: int, story: Story, apart: str = "speaker"
) -> tuple[Asked, list[Voice]]:
    """One edit that brings every voice to the loudness the story aims at, and the voices as they were."""
    if apart not in ("speaker", "piece"):
        raise Invalid("Voices are evened out by speaker or by piece.")
    voices_found = voices(data_folder, project, story, apart)
    if not voices_found:
        raise Invalid("Nobody speaks in the story, or its sound is not there yet.")
    target = target_of(story)
    by = [round(target - voice.loudness, 1) for voice in voices_found]
    setting_rows: list[list[Any]] = []
    for index, voice in enumerate(voices_found):
        for piece in voice.pieces:
            own_level = story.item(piece).settings["level"]
            now = added([own_level, by[index]])
            if isinstance(now, tuple):
                setting_rows.append([piece, "level", [[moment, held(db)] for moment, db in now]])
            else:
                setting_rows.append([piece, "level", held(now)])
    summary = f"Voices brought to {target:g} LUFS: " + ", ".join(
        f"{voice.name} {by[index]:+.1f} dB" for index, voice in enumerate(voices_found[:6])
    )
    return (
        "set_several",
        {"rows": setting_rows, "did": summary + (" and more" if len(voices_found) > 6 else "")},
    ), voices_found


def _files(data_folder: DataFolder, plan: Plan, sources: Sources) -> tuple[dict[str, Any], dict[str, Any]]:
    """A plan and the files it is read from, as a child takes them."""
    files = {}
    for recording_id in {heard_sound.source for heard_sound in plan.sounds}:
        facts = whole_sound_of(data_folder, recording_id, "Try again")
        made_files = {
            name: str(path)
            for name in plan.made.get(recording_id, ())
            if (path := made_file(data_folder, recording_id, name)).exists()
        }
        files[str(recording_id)] = {
            "pcm": str(data_folder.derived(recording_id) / "sound.pcm"),
            "channels": facts["channels"],
            "made": made_files,
        }
    return plan.to_json(sources), files


@dataclass(frozen=True)
class Measured:
    """A story's sound as it is heard: powers each 100 ms, true peaks each frame, both as factors."""

    power: np.ndarray
    peaks: np.ndarray

    @property
    def loudness(self) -> float | None:
        """Integrated loudness in LUFS (ITU-R BS.1770); None where it is silent."""
        return integrated(self.power)

    @property
    def range(self) -> float | None:
        """Loudness range in LU (EBU Tech 3342)."""
        return loudness_range(self.power)

    @property
    def peak(self) -> float:
        """The true peak in dBTP."""
        return float(decibels(self.peaks.max(initial=0)))

    @property
    def momentary(self) -> np.ndarray:
        """LUFS over 400 ms, every 100 ms."""
        return sliding(self.power, 4)

    @property
    def short(self) -> np.ndarray:
        """LUFS over 3 s, every 100 ms."""
        return sliding(self.power, 30)


def measure(data: DataFolder, project: int, story: Story, dips: bool = True) -> Measured:
    """The whole mix (without its dips, if told so), measured sample by sample in a child."""
    sources = recordings.sources(data.db, project)
    whole = make_plan(story, sources)
    want_retimed(data, project, whole)
    if not all_retimed(data, whole):
        raise Invalid("The sound of something retimed is still being made, while Kovel runs. Try again in a moment.")
    plan, files = _files(data, whole if dips else replace(whole, dips=()), sources)
    try:
        got = call("measure", {"plan": plan, "files": files})
    except Unusable as error:
        raise Invalid(f"The mix could not be measured: {error}") from None
    return Measured(np.array(got["power"]), np.array(got["peaks"]))


def to_target(
    data_folder: DataFolder, project: int, story: Story, target: float | None = None
) -> tuple[Asked, dict[str, float]]:
    """One edit that brings the story to its target, peaks tamed; and what it measured before and will after."""
    own_values = dict(story.settings).get("story", NONE)
    aim = target_of(story) if target is None else target
    if SETTINGS["target"].as_kept(aim) is None:
        raise Invalid(f"Loudness is aimed at {SETTINGS['target'].between}.")
    now = measure(data_folder, project, story, dips=False)
    samples = SAMPLE_RATE / float(story.rate.fps)
    done = mastered(now.power, now.peaks, samples, aim)
    if done is None:
        raise Invalid("The story is silent: there is nothing to bring to a loudness.")
    if (done.gain, done.dips, aim) == (0.0, own_values["dips"], target_of(story)):
        raise Invalid(f"The story measures {done.loudness:.1f} LUFS already, and no peak goes over -1 dBTP.")
    level = round(float(own_values["level"]) + done.gain, 1)
    bounds = SETTINGS["level"]
    if not bounds.low <= level <= bounds.high:
        raise Invalid(
            f"The story would have to be made {done.gain:+.1f} dB louder, more than a level can be set. "
            "Even out its voices first."
        )
    setting_rows: list[list[Any]] = [["story", "target", aim], ["story", "level", level]]
    setting_rows.append(["story", "dips", [list(dip) for dip in done.dips] if done.dips else None])
    dips = f", peaks held under -1 dBTP at {len(done.dips) // 2 or 1} places" if done.dips else ""
    summary = f"The story is at {done.loudness:.1f} LUFS: {done.gain:+.1f} dB{dips}"
    if not done.reached:
        summary += f". Louder would take dips deeper than 12 dB: even out its voices first, or aim lower than {aim:g}"
    before = now.loudness
    return ("set_several", {"rows": setting_rows, "did": summary}), {
        "before": round(before if before is not None else -120.0, 1),
        "after": round(done.loudness, 1),
        "gain": done.gain,
    }


def fit_music(
    data_folder: DataFolder, project: int, story: Story, sound: int, until: int | None = None
) -> tuple[Asked, list[dict[str, Any]]]:
    """One edit that fits music so that it ends with the pictures (or at frame `until`); and its seams: where, how
    alike."""
    from kovel.core.sound.music_fit import CannotFit, beat_pictures, fit, likeness
    from kovel.media.listen import sound24

    this_sound = story.sound(sound)
    sources = recordings.sources(data_folder.db, project)
    name = _name(sources, this_sound)
    if this_sound in story.loose_sounds:
        raise Refused("That sound is loose. Lay it under a word first.")
    first = parts_of(story, this_sound)[0]
    at = story.at(first)
    end = story.length if until is None else until
    if end <= at:
        raise Invalid("The music begins behind that moment.")
    this_beats = beats(data_folder, this_sound.source)
    if not this_beats.beats:
        find(data_folder, this_sound.source)
        raise Invalid(f"{name}: its beats are being found. Fit it again in a moment.")
    facts = media_facts(data_folder, this_sound.source) or {"channels": 1, "samples": 0}
    sound_ = sound24(data_folder.derived(this_sound.source), facts["channels"])
    alike = likeness(beat_pictures(sound_, this_beats.beats), this_beats.first, this_beats.bar)
    to_sample = story.rate.frame_to_sample
    try:
        done = fit(
            this_beats,
            facts["samples"],
            to_sample(end) - to_sample(at),
            alike,
            to_sample(first.start),
            early=to_sample(at),
        )
    except CannotFit as error:
        raise Invalid(f"{name}: {error}") from None
    begin = to_sample(end) - done.length
    found_seams = [
        {
            "at": story.rate.sample_to_frame(begin + seam.at),
            "alike": seam.alike,
            "from": seam.end / SAMPLE_RATE,
            "to": seam.start / SAMPLE_RATE,
        }
        for seam in done.seams
    ]
    params = {"sound": sound, "ranges": [list(span) for span in done.ranges], "at": at, "until": end}
    return ("fit_music", params), found_seams


def spread(data_folder: DataFolder, story: Story, sound: int, bars: int = 1) -> Asked:
    """One edit that spreads the bites along music: each begins on a bar of it, so many bars apart."""
    this_sound = story.sound(sound)
    if this_sound.tether.piece:
        raise Invalid("Music that bites are spread along keeps to the story's clock. Set that first (All edits).")
    frame_rate = story.rate
    marks = [
        story.at(sound) + frame_rate.sample_to_frame(downbeat) - sound.start
        for sound in parts_of(story, this_sound)
        for downbeat in beats(data_folder, sound.source).downbeats
        if sound.start <= frame_rate.sample_to_frame(downbeat) < sound.end
    ]
    if not marks:
        find(data_folder, this_sound.source)
        raise Invalid("Its beats are being found. Try again in a moment.")
    bar = (marks[-1] - marks[0]) / max(1, len(marks) - 1)
    on = [
        round(marks[-1] + bar * (bar_count + 1)) for bar_count in range(400)
    ]  # the music may be fitted longer afterwards
    return "spread_along", {"marks": [*marks, *on], "bars": bars}


TONE = "Room tone, "


def lay_room_tone(data_folder: DataFolder, project: int, story: Story) -> Asked:
    """One edit that lays room tone under every space of the story, of the recording that is heard beside it and as
    loud."""
    sources = recordings.sources(data_folder.db, project)
    read = story.reading(sources)
    of_story = float(dict(story.settings).get("story", NONE)["level"])
    tone_rows: list[list[Any]] = []
    for index in _spaces(story, sources):
        near = _heard_beside(story, index)
        if near is None or near.source is None:
            continue
        level = read(near, "level")
        own_level = float(level[-1][1] if isinstance(level, tuple) else level) - of_story
        begin = max(0, story.starts[index] - REACH)
        end = min(story.length, story.starts[index + 1] + REACH)
        tone = tone_of(data_folder, project, near.source)
        tone_rows += _tone_rows(tone.id, tone.length(story.rate), begin, end, own_level)
    if not tone_rows:
        raise Invalid("There is no space without sound in the story, or it has its room tone.")
    count = len(tone_rows)
    return "lay_sounds", {"rows": tone_rows, "did": f"Room tone under {count} space{'s' if count != 1 else ''}"}


def _spaces(story: Story, sources: Sources) -> list[int]:
    """The pieces, by their place, under which nothing is heard and no room tone lies yet; not the cards."""
    read = story.reading(sources)
    toned = [
        (story.at(sound), story.at(sound) + sound.length)
        for sound in story.sounds
        if sources[sound.source].name.startswith(TONE)
    ]
    silent = [
        index
        for index, piece in enumerate(story.pieces)
        if piece.card is None and (piece.source is None or piece.take == "picture" or read(piece, "mute"))
    ]
    spans = ((index, story.starts[index], story.starts[index + 1]) for index in silent)
    return [index for index, at, end in spans if not any(a <= at and end <= b for a, b in toned)]


def _heard_beside(story: Story, index: int) -> Piece | None:
    """The nearest piece before a place that is heard, else the nearest behind it."""
    beside = (*reversed(story.pieces[:index]), *story.pieces[index + 1 :])
    return next((piece for piece in beside if piece.source is not None and piece.take != "picture"), None)


def _tone_rows(tone: int, total: int, begin: int, end: int, level: float) -> Iterator[list[Any]]:
    """Room tone of `total` frames over story frames [begin, end), one after the other where it is too short."""
    at = begin
    while at < end:
        count = min(end - at, total)
        fade = min(2 * REACH, count // 2)
        yield [tone, 0, count, at, "natural", {"level": held(level), "fade_in": fade, "fade_out": fade}]
        at += max(1, count - REACH) if count == total else count


def tone_of(data_folder: DataFolder, project: int, recording: int) -> recordings.Recording:
    """The room tone of a recording as a recording of its own: made once, 30 s out of its pauses."""
    this_recording = recordings.get(data_folder.db, recording)
    name = f"{TONE}{this_recording.name}"[:120]
    there = next(
        (recording for recording in recordings.of_project(data_folder.db, project) if recording.name == name), None
    )
    if there is not None:
        return there
    facts = whole_sound_of(data_folder, recording, "Try again")
    path = free_name(data_folder.uploads(project), safe(name), ".wav")
    try:
        call("tone", {"out": str(data_folder.derived(recording)), "channels": facts["channels"], "to": str(path)})
    except Unusable as error:
        raise Invalid(f"{this_recording.name}: {error}") from None
    return bring_in(data_folder, project, path, name=name, kind="sound")
