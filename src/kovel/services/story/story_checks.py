"""Checks and offers for a story, with what was measured of its recordings: pictures, levels, words."""

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from PIL import Image

from kovel.core.checks.cut_checks import checks
from kovel.core.checks.findings import Finding
from kovel.core.checks.jump_strength import jump_strength
from kovel.core.checks.mix_loudness import sound_findings
from kovel.core.checks.offers import Offer, Shot, offers
from kovel.core.checks.picture_checks import picture_checks
from kovel.core.picture.look import applied
from kovel.core.plan.pictures import Seen
from kovel.core.plan.plan import Plan, make_plan, size_of
from kovel.core.sound.levels import Levels
from kovel.core.sound.pauses import VOICE
from kovel.core.story.model import Cover, Piece, Refused, Sources, Story, moment_of
from kovel.core.story.seams import Seam, seams
from kovel.core.story.usage import times_used, uses
from kovel.core.time.rate import Rate, frame_shown
from kovel.core.words.nearness import Said
from kovel.core.words.transcript import Word, words_in
from kovel.data_folder import DataFolder, media_facts
from kovel.media.render import Sound
from kovel.media.soundtrack import sound_file
from kovel.media.title_pictures import title_shown
from kovel.services.footage.relinking import there
from kovel.services.footage.thumbnails import colours
from kovel.services.log.sentence_meaning import shots_near
from kovel.services.log.speech_levels import levels, spoken_in
from kovel.services.picture import look_tables
from kovel.services.sound.derived_sounds import made_file
from kovel.store import projects, recordings, subclips, transcripts

AROUND = 12  # frames on either side of a seam by which a shot's own movement is judged


@lru_cache(64)
def _greys(path: Path, stamp: int) -> np.ndarray:
    greys: np.ndarray = np.load(path, mmap_mode="r")
    return greys


def pictures(data_folder: DataFolder, recording: int) -> np.ndarray | None:
    """The small grey pictures of a recording, every frame; None while there are none."""
    path = data_folder.derived(recording) / "greys.npy"
    try:
        return _greys(path, path.stat().st_mtime_ns)
    except (OSError, ValueError):
        return None


def strength_of(data_folder: DataFolder, sources: Sources, clock: Rate) -> Callable[[Seam], int | None]:
    """Measures a jump from the small grey pictures; None where there are none (or the seam shows another size)."""

    def frames(source: int | None, start: int, end: int) -> np.ndarray | None:
        if source is None or source not in sources:
            return None
        all_ = pictures(data_folder, source)
        if all_ is None or not len(all_):
            return None
        own_rate = sources[source].rate
        first_shown, y = (
            min(max(0, frame_shown(max(0, edge_frame), clock, own_rate)), len(all_) - 1)
            for edge_frame in (start, end - 1)
        )
        return all_[first_shown : y + 1]

    def measure(seam: Seam) -> int | None:
        end, begin = seam.ends
        before = frames(seam.left.source, max(seam.left.used[0], end - AROUND), end)
        after = frames(seam.right.source, begin, min(seam.right.used[1], begin + AROUND))
        return (
            jump_strength(before, after)
            if before is not None and after is not None and len(before) and len(after)
            else None
        )

    return measure


def _cuts_word(data_folder: DataFolder, clock: Rate) -> Callable[[int, int], str]:
    edge = 48 * 60  # a cut within 60 ms of a word's edge is taken for one at its edge

    def word(source: int, frame: int) -> str:
        at = clock.frame_to_sample(frame)
        near = transcripts.words_before(data_folder.db, source, at - edge, 4)  # speakers may overlap
        return next((word.text for word in near if word.text != VOICE and word.end > at + edge), "")

    return word


def _level(data_folder: DataFolder, clock: Rate) -> Callable[[int, int, int], tuple[float, float] | None]:
    known: dict[int, Levels | None] = {}

    def level(source: int, start: int, end: int) -> tuple[float, float] | None:
        if source not in known:
            known[source] = levels(data_folder, source)
        heard_levels = known[source]
        if heard_levels is None:
            return None
        first_block, y = (clock.frame_to_sample(edge_frame) // 480 for edge_frame in (start, end))
        talk = heard_levels.speech[first_block:y] > 0.5
        if talk.sum() < 20:
            return None
        return float(np.median(heard_levels.level[first_block:y][talk])), float(
            np.median(heard_levels.floor[first_block:y])
        )

    return level


@lru_cache(256)
def _power(path: Path, stamp: int) -> np.ndarray:
    power_rows: np.ndarray = np.load(path)
    return power_rows


def _sounds(data_folder: DataFolder, sources: Sources, story: Story) -> list[Finding]:
    """What is to be said of the sound as a whole; of recordings that were measured when they were prepared."""
    plan = make_plan(story, sources)
    heard_mix = mix_of(data_folder, plan)
    measured = powers(data_folder, plan)
    return sound_findings(
        story, sources, plan, measured, lambda a, b: float(np.abs(heard_mix.block(a, b)).max(initial=0))
    )


def powers(data_folder: DataFolder, plan: Plan) -> dict[tuple[int, str], np.ndarray]:
    """What is measured of each sound that a plan has, raw or made, every 100 ms."""
    power_by_source = {}
    for recording_id, made_name in {(heard_sound.source, heard_sound.made) for heard_sound in plan.sounds} | {
        (heard_sound.source, "") for heard_sound in plan.sounds
    }:
        path = data_folder.derived(recording_id) / (f"made/{made_name}.power.npy" if made_name else "power.npy")
        if path.exists():
            power_by_source[recording_id, made_name] = _power(path, path.stat().st_mtime_ns)
    return power_by_source


def mix_of(data_folder: DataFolder, plan: Plan) -> Sound:
    """The plan's sound, of what is there of it."""
    raw = {
        recording_id: (path, facts["channels"])
        for recording_id in {heard_sound.source for heard_sound in plan.sounds}
        if (path := sound_file(data_folder.derived(recording_id))).exists()
        and (facts := media_facts(data_folder, recording_id))
    }
    made_files = {
        (key, name): path
        for key, names in plan.made.items()
        for name in names
        if (path := made_file(data_folder, key, name)).exists()
    }
    return Sound([heard_sound for heard_sound in plan.sounds if heard_sound.source in raw], raw, made_files, plan.dips)


def findings(data_folder: DataFolder, project: int, story: Story) -> list[Finding]:
    """Everything to look at, worst first."""
    sources = recordings.sources(data_folder.db, project)
    all_findings = checks(
        story,
        sources,
        strength=strength_of(data_folder, sources, story.rate),
        cuts_word=_cuts_word(data_folder, story.rate),
        level=_level(data_folder, story.rate),
    )
    all_findings += _sounds(data_folder, sources, story)
    all_findings += _seen(data_folder, project, story, sources)
    all_findings.sort(key=lambda f: (-f.weight, f.at if f.at is not None else -1))
    used = {use.source for use in uses(story)} | {sound.source for sound in story.sounds}
    gone = [
        Finding(
            "offline",
            None,
            f"{recording.name} is off-line: "
            f"{'another file is' if Path(recording.path).exists() else 'its file is not'} where it was",
            95,
        )
        for recording in recordings.of_project(data_folder.db, project)
        if recording.id in used and not there(recording)
    ]
    return [*gone, *all_findings]


def _seen(data_folder: DataFolder, project: int, story: Story, sources: Sources) -> list[Finding]:
    """What is to be said of how it is seen: measured on small frames and on the titles as they are drawn."""
    this_project = projects.get(data_folder.db, project)
    width, height = size_of(story, this_project.width, this_project.height)
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    seen = Seen(story, sources)

    def cut(clip: Piece | Cover) -> tuple[float, float]:
        pixels = (
            colours(data_folder, recordings_by_id[clip.source], moment_of(clip, clip.length // 2), story.rate)
            if clip.source in recordings_by_id
            else None
        )
        if pixels is None or clip.source is None:
            return 0.0, 0.0
        before = look_tables.levels(pixels)
        after = look_tables.levels(
            applied(look_tables.table_of(data_folder, seen.look(clip, sources[clip.source])), pixels)
        )
        return max(0.0, after.black - before.black), max(0.0, after.white - before.white)

    def box(cover: Cover) -> tuple[float, float, float, float] | None:
        title = seen.cover(cover)[0].image.title
        assert title
        h = 270
        w = round(h * width / height)
        with Image.open(
            title_shown(data_folder.drawn, dict(title.rows) | {"box": 0}, w, h, None, data_folder.fonts)
        ) as drawn:
            drawn_box = drawn.getchannel("A").getbbox()
        return (
            (100 * drawn_box[0] / w, 100 * drawn_box[1] / h, 100 * drawn_box[2] / w, 100 * drawn_box[3] / h)
            if drawn_box
            else None
        )

    return picture_checks(story, sources, width / height, cut, box)


def words_around(data_folder: DataFolder, story: Story, begin: int, end: int) -> list[tuple[int, int, Word]]:
    """The words heard in story frames [a, b): first frame, end, word."""
    words_there = []
    for at, piece in zip(story.starts, story.pieces, strict=False):
        if piece.source is None or at + piece.length <= begin or at >= end:
            continue
        lowest, highest = max(begin, at), min(end, at + piece.length)
        start = piece.start + lowest - at
        for word_frame, word in words_in(
            spoken_in(data_folder, piece, start, highest - lowest, story.rate), story.rate, start, highest - lowest
        ):
            words_there.append(
                (
                    at + word_frame - piece.start,
                    min(at + word.frames(story.rate)[1] - piece.start, at + piece.length),
                    word,
                )
            )
    return words_there


def shelf(data_folder: DataFolder, project: int, story: Story) -> list[Shot]:
    """What could be laid as cover: kept ranges of b-roll first, then whole shots."""
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    uses_found = uses(story)
    kept = [
        subclip
        for subclip in subclips.of_project(data_folder.db, project)
        if subclip.verdict != "drop" and recordings_by_id[subclip.recording].kind in ("b-roll", "still")
    ]
    shelf_shots = [
        Shot(
            subclip.recording,
            subclip.start,
            subclip.length,
            subclip.name,
            f"{subclip.name} {' '.join(subclip.tags)} {subclip.note} {recordings_by_id[subclip.recording].name}",
            times_used(uses_found, subclip.recording, subclip.start, subclip.end),
        )
        for subclip in kept
    ]
    has = {subclip.recording for subclip in kept}
    shelf_shots += [
        Shot(
            recording.id,
            0,
            recording.length(story.rate),
            recording.name,
            recording.name,
            times_used(uses_found, recording.id, 0, recording.length(story.rate)),
        )
        for recording in recordings_by_id.values()
        if recording.kind in ("b-roll", "still")
        and not recording.aside
        and recording.picture
        and recording.id not in has
    ]
    return shelf_shots


def the_seam(story: Story, sources: Sources, piece: int) -> Seam:
    """The seam before a piece."""
    index = story.index_of(piece)
    if index == 0:
        raise Refused("There is no seam before the first piece.")
    return seams(story, sources)[index - 1]


def offers_for(data_folder: DataFolder, project: int, story: Story, seam: Seam) -> list[Offer]:
    """Ways to take the jolt out of a jump."""
    sources = recordings.sources(data_folder.db, project)
    reach = 9 * story.rate.nominal
    words = words_around(data_folder, story, max(0, seam.at - reach), seam.at + reach)
    reach = story.rate.nominal * 4
    near = shots_near(data_folder, project, said_between(data_folder, story, seam.at - reach, seam.at + reach))
    shots = [
        replace(shot, near=near.get((shot.source, shot.start), 0.0)) for shot in shelf(data_folder, project, story)
    ]
    return offers(story, sources, seam, shots, words)


def said_between(data_folder: DataFolder, story: Story, start: int, until: int) -> list[Said]:
    """The sentences that are heard in story frames [a, b)."""
    words_between = []
    for begin, piece in zip(story.starts, story.pieces, strict=False):
        if piece.source is None or begin + piece.length <= start or begin >= until:
            continue
        lowest, highest = (piece.start + min(max(0, edge_frame - begin), piece.length) for edge_frame in (start, until))
        first, end = (
            story.rate.frame_to_sample(used_frame) for used_frame in piece.clock.used(lowest, max(1, highest - lowest))
        )
        words_between += transcripts.sentences_between(data_folder.db, piece.source, first, end)
    return words_between
