"""The demo project: the footage that ships with Kovel, its first transcript, a log and the opening of a story."""

import json
from pathlib import Path
from typing import Any

from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.media.probe import probe
from kovel.services.footage.intake import bring_in
from kovel.services.log.transcription import take_words
from kovel.store import projects, recordings, stories, subclips, transcripts
from kovel.store.recordings import Recording

FOOTAGE = Path(__file__).parent / "footage"
NAME = "The Last Haul"
# file, name, kind, day, roll, camera
RECORDINGS = (
    ("maren-a.mp4", "Maren, camera A", "interview", "1", "M1", "A"),
    ("maren-b.mp4", "Maren, camera B", "interview", "1", "M1", "B"),
    ("tobin.mp4", "Tobin in the boatyard", "interview", "2", "T1", "A"),
    ("odile.mp4", "Odile in the tide room", "interview", "2", "D1", "A"),
    ("creek.mp4", "Ferry crossing, wide", "b-roll", "1", "B1", "A"),
    ("wheel.mp4", "Chain over the wheel", "b-roll", "1", "B1", "A"),
    ("rope.mp4", "Hands on the rope", "b-roll", "1", "B1", "A"),
    ("crates.mp4", "Crates on the deck", "b-roll", "1", "B1", "A"),
    ("bell.mp4", "The crossing bell", "b-roll", "2", "B2", "A"),
    ("gulls.mp4", "Gulls over the landing", "b-roll", "2", "B2", "A"),
    ("bench.mp4", "Caulking a seam", "b-roll", "2", "B2", "A"),
    ("feet.mp4", "Feet going aboard", "b-roll", "2", "B2", "A"),
    ("marks.mp4", "Tide marks", "b-roll", "2", "B2", "A"),
    ("bed.flac", "Music bed, 96 bpm", "music", "", "", ""),
    ("photograph.jpg", "The crossing, old photograph", "still", "", "", ""),
)
# file, first words, last words, name, tags
BITES = (
    ("maren-a.mp4", "The first winter, I", "would last.", "Nobody thought I would last", "winter, beginnings"),
    ("maren-a.mp4", "We haul the", "the rest.", "We haul by hand", "work, chain"),
    ("maren-a.mp4", "She said the", "your hands.", "The chain tells you things", "chain, mother"),
    ("maren-a.mp4", "There was one", "stop ringing.", "The night of the flood", "flood, bell"),
    ("tobin.mp4", "Wood forgives you,", "does not.", "Wood forgives, iron does not", "craft"),
    ("tobin.mp4", "So I write", "whoever comes.", "I write it down now", "craft, endings"),
    ("odile.mp4", "Once for a", "the doctor.", "What the bell says", "bell"),
    ("odile.mp4", "But on the", "to people.", "While you wait you talk", "ferry, endings"),
)
STORY = (
    "We haul by hand",
    "The chain tells you things",
    "Nobody thought I would last",
    "What the bell says",
    "The night of the flood",
)
# shot, first word it lies over (after the nth piece began), seconds, start in the shot
COVERS = (
    ("Hands on the rope", 0, "chain,", 5.2, 1.0),
    ("Ferry crossing, wide", 2, "twenty", 4.0, 3.0),
    ("The crossing bell", 3, "twice", 4.4, 2.6),
)
# how it looks: of a recording in every story; then edits, in which @NAME stands for a shot
LOOKS: dict[str, dict[str, float]] = {
    "Tobin in the boatyard": {"warmth": 8},
    "Maren, camera A": {"brightness": 0.1, "warmth": 6, "contrast": 6},
}
UPRIGHT = "Story cut 9 to 16"


def ensure(data_folder: DataFolder) -> int:
    """The demo project's id, made if it is not there. Preparing its recordings is left to the jobs."""
    for project in projects.listing(data_folder.db):
        if project.name == NAME:
            return project.id
    project = projects.create(data_folder.db, NAME, "25", "1920x1080", "10:00:00:00")
    recordings_made: dict[str, Recording] = {}
    for file, name, kind, day, roll, camera in RECORDINGS:
        path = FOOTAGE / file
        recording = bring_in(
            data_folder,
            project.id,
            path,
            name=name,
            kind=kind,
            day=day,
            roll=roll,
            camera=camera,
            facts=probe(str(path)),
        )
        if kind == "interview":
            take_words(data_folder, recording, f"{path.stem}.json", path.with_suffix(".json").read_text())
        recordings_made[file] = recording
    ranges: dict[str, tuple[int, int, int]] = {}
    for file, first_words, last_words, name, tags in BITES:
        begin, end = find(data_folder, recordings_made[file], project.rate, first_words, last_words)
        subclips.add(data_folder.db, recordings_made[file].id, begin, end, name=name, tags=tags)
        ranges[name] = (recordings_made[file].id, begin, end)
    story_id = stories.current(data_folder.db, project.id)
    for name in STORY:
        source, begin, end = ranges[name]
        stories.edit(
            data_folder.db, story_id, None, "add_at_end", {"source": source, "start": begin, "length": end - begin}
        )
    by_name = {recording.name: recording for recording in recordings_made.values()}
    path = FOOTAGE / "tone-maren.flac"
    tone = bring_in(
        data_folder, project.id, path, name="Room tone, Maren, camera A", kind="sound", facts=probe(str(path))
    )
    for shot, piece, word, seconds, start in COVERS:
        story = stories.load(data_folder.db, story_id).story
        source, begin, end = ranges[STORY[piece]]
        this_word = next(
            other
            for other in transcripts.words(data_folder.db, source)
            if other.text == word and begin <= other.frames(project.rate)[0] < end
        )
        at = story.starts[piece] + this_word.frames(project.rate)[0] - begin
        until = at + int(seconds * 25)
        stories.edit(
            data_folder.db,
            story_id,
            None,
            "lay_cover",
            {"source": by_name[shot].id, "at": at, "until": until, "start": int(start * 25)},
        )
    recordings_made["tone-maren.flac"] = tone
    _sound(data_folder, story_id, recordings_made)
    _picture(data_folder, project.id, story_id, by_name)
    return project.id


def _picture(data_folder: DataFolder, project: int, story_id: int, shots: dict[str, Recording]) -> None:
    """An opening title, two lower thirds, a push, a dissolve between covers, one look over a recording; and an upright
    version, framed as the Picture room worked it out of this footage (demo/making/picture.py)."""
    for name, settings in LOOKS.items():
        for setting, value in settings.items():
            recordings.set_value(data_folder.db, shots[name].id, setting, value)

    def do(name: str, **params: Any) -> None:
        stories.edit(data_folder.db, story_id, None, name, params)

    story = stories.load(data_folder.db, story_id).story
    bell = next(cover for cover in story.covers if cover.source == shots["The crossing bell"].id)
    end = story.at(bell) + bell.length
    do("lay_cover", source=shots["Gulls over the landing"].id, at=end, until=end + 70, start=20, lane=bell.lane)
    do("set_value", to=stories.load(data_folder.db, story_id).story.next_id - 1, setting="appear", value=14)
    odile = next(
        start
        for piece, start in zip(story.pieces, story.starts, strict=False)
        if piece.source == shots["Odile in the tide room"].id
    )
    do("lay_title", at=6, text=NAME, length=76)
    do("lay_title", at=story.starts[1] + 70, text="Maren / ferrywoman", how="lower third", length=75)
    do("lay_title", at=odile + 8, text="Odile / keeper of the tide room", how="lower third", length=80)
    do("push", items=[story.pieces[-1].id], last=114)
    upright = stories.create(data_folder.db, project, UPRIGHT, of=story_id)
    picture_settings = json.loads((FOOTAGE / "picture.json").read_text())
    if picture_settings:
        stories.edit(
            data_folder.db,
            upright,
            None,
            "set_several",
            {"rows": picture_settings, "did": "An upright version, framed on faces"},
        )
    stories.open_story(data_folder.db, project, story_id)


def _sound(data_folder: DataFolder, story_id: int, made: dict[str, Recording]) -> None:
    """The story's sound as the Sound room worked it out of this footage (demo/making/sound.py)."""

    def of(value: Any) -> Any:
        if isinstance(value, str) and value.startswith("@"):
            return made[value[1:]].id
        if isinstance(value, list):
            return [of(v) for v in value]
        return {key: of(value) for key, value in value.items()} if isinstance(value, dict) else value

    for name, params in json.loads((FOOTAGE / "sound.json").read_text()):
        stories.edit(data_folder.db, story_id, None, name, of(params))


def find(data_folder: DataFolder, recording: Recording, frame_rate: Rate, first: str, last: str) -> tuple[int, int]:
    """Frames [a, b) from the first to the last of these words, with three frames of air where there is room."""
    words = transcripts.words(data_folder.db, recording.id)
    text = [word.text for word in words]
    word_index = next(
        word_index
        for word_index in range(len(text))
        if text[word_index : word_index + len(first.split())] == first.split()
    )
    count = len(last.split())
    end_index = (
        next(
            end_index
            for end_index in range(word_index, len(text))
            if text[end_index : end_index + count] == last.split()
        )
        + count
        - 1
    )
    a = max(
        words[word_index].frames(frame_rate)[0] - 3, words[word_index - 1].frames(frame_rate)[1] if word_index else 0
    )
    b = min(
        words[end_index].frames(frame_rate)[1] + 4,
        words[end_index + 1].frames(frame_rate)[0] if end_index + 1 < len(words) else recording.length(frame_rate),
    )
    return a, b
