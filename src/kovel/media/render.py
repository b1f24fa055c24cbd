"""Outputs of a plan: films, sound alone, stems, stills; pictures from the originals, sound from the recordings' raw
samples.

Frame t of a film is frame t of the plan; sample s is sample s. A film is made in parts that are kept (see
core.plan.parts) and joined as they were encoded: what was made before is not made again. A file gets its name only
when it is whole.
"""

import os
import tempfile
import time
from bisect import bisect_left
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import av
import numpy as np
from PIL import Image

from kovel.core.checks.delivered import Difference
from kovel.core.plan.layers import Layer, Stacked
from kovel.core.plan.outputs import OUTPUT_KINDS, Output, coding_of, story_frame
from kovel.core.plan.plan import FORM, Plan
from kovel.core.plan.retimed import RETIMED
from kovel.core.plan.sounds import AS_IT_IS, GainLine, Heard, along, ramped
from kovel.media import soundfiles
from kovel.media.burn import Burnt
from kovel.media.derive import checksum
from kovel.media.drawing import Pictures
from kovel.media.encode import Measured, PictureFile, SoundStream, joined, stream_like
from kovel.media.files import Unusable, spare
from kovel.media.film_check import (
    Files,
    Greys,
    Moment,
    caption_differences,
    check_inputs,
    frames_in,
    picture_differences,
    plan_of,
    sound_differences,
)
from kovel.media.film_parts import FilmParts, Row
from kovel.media.reader import rgb_of
from kovel.media.soundtrack import samples_of
from kovel.media.whole_files import own_part, placed, standing, sweep

MOST_TOLD = 40  # differences of one file
Progress = Callable[[float], None]


class Sound:
    """The plan's sound as stereo float blocks, sample for sample what the player schedules.

    `raw` says where the samples of each recording lie and in how many channels; `made` where those of a sound made
    of one.
    """

    def __init__(
        self,
        sounds: Sequence[Heard],
        raw: dict[int, tuple[Path, int]],
        made: dict[tuple[int, str], Path] | None = None,
        dips: GainLine = (),
    ) -> None:
        self.sounds = sorted(sounds, key=lambda h: h.at)
        self.dips = dips
        self._starts = [heard_sound.at for heard_sound in self.sounds]
        self._reach = (
            np.maximum.accumulate([heard_sound.end for heard_sound in self.sounds]) if self.sounds else np.zeros(0)
        )
        self.pcm = {(key, ""): samples_of(*at) for key, at in raw.items()}
        self.pcm |= {key: samples_of(path, raw[key[0]][1]) for key, path in (made or {}).items() if key[0] in raw}

    def block(self, start: int, end: int) -> np.ndarray:
        """Samples [a, b): float32 (b - a, 2)."""
        y = np.zeros((end - start, 2), np.float32)
        first = int(np.searchsorted(self._reach, start, "right"))  # all before it have ended
        for heard_sound in self.sounds[first : bisect_left(self._starts, end)]:
            lowest, highest = max(start, heard_sound.at), min(end, heard_sound.end)
            if lowest >= highest:
                continue
            samples = self._take(heard_sound, lowest - heard_sound.at, highest - heard_sound.at)
            y[lowest - start : lowest - start + len(samples)] += samples
        if self.dips:
            y *= (10 ** (along(self.dips, np.arange(start, end)) / 20)).astype(np.float32)[:, None]
        return y

    def _take(self, heard: Heard, lowest: int, highest: int) -> np.ndarray:
        pcm = self.pcm.get((heard.source, heard.made))
        if pcm is None:  # not made yet: heard as recorded, but what is retimed lies elsewhere there
            pcm = self.pcm[heard.source, ""][:0] if heard.made.startswith(RETIMED) else self.pcm[heard.source, ""]
        first, last = heard.start + lowest, heard.start + highest
        pcm_samples: np.ndarray = np.asarray(pcm[max(0, first) : max(0, last)], np.float32) / np.float32(32768)
        pcm_samples = np.repeat(pcm_samples, 2, 1) if pcm_samples.shape[1] == 1 else pcm_samples
        if heard.mix != AS_IT_IS:
            pcm_samples = pcm_samples @ np.array(heard.mix, np.float32).reshape(2, 2).T
        if len(pcm_samples) < highest - lowest:  # silence before the recording's beginning and behind its end
            before = min(highest - lowest, max(0, -first))
            pcm_samples = np.pad(pcm_samples, ((before, highest - lowest - len(pcm_samples) - before), (0, 0)))
        return ramped(pcm_samples, lowest, heard)


def _refuse_changed(src: dict[int, dict[str, Any]], has_pictures: bool) -> None:
    """Raises `Unusable` where a recording is gone, or another file lies at its path."""
    for file in src.values():
        if has_pictures and not Path(file["path"]).is_file():
            raise Unusable(
                f"{file['name']} is off-line: {Path(file['path']).name} is not where it was. "
                "Bring it back, then render again."
            )
        if "sum" in file and checksum(Path(file["path"])) != file["sum"]:
            raise Unusable(
                f"{file['name']} is another file now than the one that was brought in. "
                "Find the right one in Footage, then render again."
            )


def _refuse_plan(plan: dict[str, Any]) -> None:
    if plan["length"] == 0:
        raise Unusable("The story is empty: there is nothing to render yet.")
    if plan.get("form") != FORM:
        raise Unusable("This render was asked for with an older Kovel. Render the story again.")


def render(
    plan: dict[str, Any],
    files: dict[str, dict[str, Any]],
    out: str,
    width: int,
    height: int,
    output: dict[str, Any],
    progress: Progress,
    *,
    drawn: str = "",
    tables: str = "",
    fonts: str = "",
    parts: str = "",
    lanes: dict[str, str] | None = None,
    chapters: Sequence[tuple[int, str]] = (),
    begin: int = 0,
    timecode: str = "",
    drop: bool = False,
) -> dict[str, Any]:
    """Write the file (or, of stems, the folder) `out`. `plan` is `Plan.to_json`; `files` maps source to name, path,
    rate, still, pcm (or None), derived (the folder of what was made of it), channels, made, first (its own first
    frame's number), drop; `output` is `Output.to_json`.

    `drawn` is the folder of what is drawn (cards, titles), shared with the player, `tables` that of tables of colours,
    `fonts` that of the editor's own fonts, `parts` where parts of films are kept (none: for this once); `lanes` by what
    a sound belongs to; `chapters` are (frame, heading); `begin` is the number of its first frame in timecode, which
    `timecode` says.

    Returns path, bytes, frames, seconds it took, size, what its sound measures, parts and how many of them were made
    now, and under `differs` where the file that came of it differs from the plan. Raises `Unusable` if a recording
    is gone or a sound is not whole. Nothing is left under the final name unless it is whole.
    """
    began = time.monotonic()
    _refuse_plan(plan)
    this_output, src = Output.from_json(output), {int(name): file for name, file in files.items()}
    has_pictures = OUTPUT_KINDS[this_output.kind].seen or this_output.kind == "still"
    _refuse_changed(src, has_pictures)
    sounds = plan_of(plan)
    check_inputs(sounds, src)
    final = Path(out)
    part_file, before = own_part(final), standing(final)
    final.parent.mkdir(parents=True, exist_ok=True)
    sound = sound_of(plan, src)
    told_result: dict[str, Any] = {"frames": plan["length"]}
    try:
        if has_pictures:
            with _opened(plan, src, this_output, (width, height), begin, drop, drawn, tables, fonts) as job:
                if this_output.kind == "still":
                    job.still(part_file)
                else:
                    told_result |= _film(
                        job, sound, part_file, Path(parts) if parts else None, chapters, timecode, progress
                    )
        elif this_output.kind == "stems":
            part_file.mkdir()
            stems = soundfiles.stems(part_file, _lanes(plan, src, lanes or {}), sound.block, plan["samples"], progress)
            told_result["differs"] = _stem_differences(stems, sounds, src, lanes or {})
        else:
            told_result |= _sound_alone(this_output.kind, sound, plan["samples"], part_file, progress)
            told_result |= _checked(part_file, sounds, src, told_result["loudness"], [])
        placed(part_file, final, before)
    finally:
        sweep(part_file)
    size = sum(path.stat().st_size for path in final.iterdir()) if final.is_dir() else final.stat().st_size
    seen = [width, height] if has_pictures else None
    return {"path": str(final), "bytes": size, "size": seen, "took": round(time.monotonic() - began, 1), **told_result}


@dataclass
class Film(FilmParts):
    """The frames of a film, or of a stretch of one, drawn row by row of its plan."""

    pictures: Pictures
    drop: bool

    def __post_init__(self) -> None:
        super().__post_init__()
        is_draft = self.output.kind == "draft"
        self.burnt = Burnt(self.size, self.files, self.clock, self.begin, self.drop) if is_draft else None

    def moments(self, picture_runs: Sequence[Row]) -> Iterator[Moment]:
        """What each frame of these rows shows: the story's frame, the layers, and how many frames they have stood."""
        k = self.first(picture_runs[0][0])
        for at, end, layers in picture_runs:
            stack: list[Stacked] = [Layer.from_json(layer) for layer in layers]
            while k < self.count and (frame := story_frame(k, self.length, self.clock, self.output.rate)) < end:
                yield frame, stack, frame - at
                k += 1

    def frames(self, picture_runs: Sequence[Row]) -> Iterator[Any]:
        """The frames of these rows, drawn."""
        for t, stack, k in self.moments(picture_runs):
            frame = self.pictures.frame(stack, k)
            yield self.burnt.over(frame, t, stack, k) if self.burnt else frame

    def still(self, path: Path) -> None:
        """Writes the first frame as a PNG."""
        still_frame = next(self.frames(self.rows))
        Image.fromarray(rgb_of(still_frame.reformat(format="yuv444p"))).save(path, "PNG")


@contextmanager
def _opened(
    plan: dict[str, Any],
    files: dict[int, dict[str, Any]],
    output: Output,
    size: tuple[int, int],
    begin: int,
    drop: bool,
    drawn: str,
    tables: str,
    fonts: str,
    until: int | None = None,
) -> Iterator[Film]:
    """A film that is to be drawn; its recordings are closed at the end."""
    made_tables, own_fonts = (Path(folder) if folder else None for folder in (tables, fonts))
    with closing(Pictures(files, *size, Path(drawn) if drawn else None, made_tables, own_fonts)) as pictures:
        yield Film(plan, files, output, size, begin, made_tables, own_fonts, until, pictures, drop)


def render_parts(
    plan: dict[str, Any],
    files: dict[str, dict[str, Any]],
    width: int,
    height: int,
    output: dict[str, Any],
    progress: Progress,
    *,
    parts: str,
    until: int,
    drawn: str = "",
    tables: str = "",
    fonts: str = "",
    begin: int = 0,
    drop: bool = False,
) -> dict[str, Any]:
    """Make the parts of a stretch of a film, so that `render` finds them: all as it takes it, only that `plan` has
    the rows of the stretch alone, which ends at the story's frame `until`.

    Returns how many parts it has, and how many of them were made now. Raises `Unusable` as `render` does. A part that
    differs from the plan is not kept: `render` makes it once more, and tells.
    """
    source_files = {int(name): file for name, file in files.items()}
    _refuse_changed(source_files, True)
    Path(parts).mkdir(parents=True, exist_ok=True)
    of_output = Output.from_json(output)
    with _opened(plan, source_files, of_output, (width, height), begin, drop, drawn, tables, fonts, until) as film:
        made, _ = _parts(film, Path(parts), progress)
    for path, _, _ in made:
        if path.suffix == ".part":
            sweep(path)
    return {"parts": len(made), "anew": sum(is_new for _, _, is_new in made)}


def _film(
    film: Film,
    sound: "Sound",
    out: Path,
    kept: Path | None,
    chapters: Sequence[tuple[int, str]],
    timecode: str,
    progress: Progress,
) -> dict[str, Any]:
    with tempfile.TemporaryDirectory(prefix="kovel-") as once:
        folder = kept or Path(once)
        folder.mkdir(parents=True, exist_ok=True)
        parts_made, differs = _parts(film, folder, lambda done: progress(0.9 * done))
        kind = film.output.kind
        options = {"movflags": "faststart"} if coding_of(kind).container in ("mp4", "mov") else {}
        with av.open(str(out), "w", format=coding_of(kind).container, options=options) as container:
            if chapters:
                ends = [*(at for at, _ in chapters[1:]), film.length]
                base = 1 / film.clock.fps
                container.set_chapters(
                    [
                        {"id": index, "start": at, "end": end, "time_base": base, "metadata": {"title": name}}
                        for index, ((at, name), end) in enumerate(zip(chapters, ends, strict=True), 1)
                    ]
                )
            v, samples = stream_like(container, parts_made[0][0]), film.plan["samples"]
            stream = SoundStream(container, kind, samples, sound.block)
            if coding_of(kind).container == "mov" and timecode:
                container.metadata["timecode"] = timecode

            def reached(at: int) -> None:
                stream.until(round(at * samples / film.count))
                progress(0.9 + 0.1 * at / film.count)

            joined(container, v, ((path, at) for path, at, _ in parts_made), 1 / film.rate.fps, reached)
            stream.finish()
        told_result = {
            "frames": film.count,
            "parts": len(parts_made),
            "anew": sum(is_new for _, _, is_new in parts_made),
            **stream.heard.result(),
        }
        if (count := frames_in(out)) != film.count:
            differs.insert(
                0, Difference(0, film.count / float(film.rate.fps), f"{count} frames instead of {film.count}")
            )
        differs += caption_differences(film.plan, film.size, film.fonts)
        return told_result | _checked(out, plan_of(film.plan), film.files, told_result["loudness"], differs)


def _checked(path: Path, plan: Plan, files: Files, sent: float | None, differs: list[Difference]) -> dict[str, Any]:
    """What is told of a file once it was held against its plan: where it differs, and what its own sound measures."""
    more, heard_loudness = sound_differences(path, plan, files, sent)
    return {
        "differs": [str(difference) for difference in sorted([*differs, *more], key=lambda d: d.start)][:MOST_TOLD],
        **heard_loudness,
    }


def _stem_differences(paths: Sequence[Path], plan: Plan, files: Files, lanes: dict[str, str]) -> list[str]:
    """Where stems differ from what the plan has in their lanes."""
    differs = []
    for path in paths:
        lane_sounds = tuple(heard_sound for heard_sound in plan.sounds if lanes.get(str(heard_sound.of)) == path.stem)
        found_differences, _ = sound_differences(path, replace(plan, sounds=lane_sounds), files, None)
        differs += [f"{path.name}, {difference}" for difference in found_differences]
    return differs[:MOST_TOLD]


def _parts(film: Film, folder: Path, progress: Progress) -> tuple[list[tuple[Path, int, bool]], list[Difference]]:
    """Each part of a film: its file, the frame it begins at, and whether it was made now; and where those that were
    made now differ from the plan: they are not kept. The end of one is encoded, and it is looked through, while the
    next is drawn."""
    part_files: list[tuple[Path, int, bool]] = []
    todo: list[tuple[Path, list[tuple[int, int, list[Any]]]]] = []
    for part in film.parts(folder):
        is_new = not part.path.exists() and not any(path == part.path for path, _ in todo)
        if is_new:
            todo.append((part.path, film.rows[part.first : part.last]))
        elif part.path.exists():
            os.utime(part.path)
        part_files.append((part.path, part.at, is_new))
    total = sum(some[-1][1] - some[0][0] for _, some in todo)
    done = 0

    greys, differs = Greys(film.files, film.size), list[Difference]()

    def close(picture_file: PictureFile, part: Path, path: Path, moments: list[Moment]) -> None:
        picture_file.finish()
        found_differences = picture_differences(part, moments, greys, film.clock)
        differs.extend(found_differences)
        kept = own_part(path.with_name(f"{path.name}.differs")) if found_differences else path
        os.replace(part, kept)
        if found_differences:
            part_files[:] = [(kept if other == path else other, at, is_new) for other, at, is_new in part_files]

    with ThreadPoolExecutor(1) as pool:
        ending: Future[None] | None = None
        for path, some in todo:
            part_file = own_part(path)
            spare(folder)
            picture_file = PictureFile(part_file, film.output, film.size, film.rate)
            try:
                for index, frame in enumerate(film.frames(some)):
                    picture_file.add(frame)
                    if index % 12 == 0:
                        progress(min(1.0, (done + index) / total))
            except BaseException:
                picture_file.give_up()
                part_file.unlink(missing_ok=True)
                raise
            if ending:
                ending.result()
            ending = pool.submit(close, picture_file, part_file, path, list(film.moments(some)))
            done += some[-1][1] - some[0][0]
        if ending:
            ending.result()
    return part_files, differs


def _sound_alone(kind: str, sound: "Sound", samples: int, out: Path, progress: Progress) -> dict[str, Any]:
    if kind == "wav":
        heard_loudness = Measured()
        soundfiles.wav(out, sound.block, samples, progress, heard_loudness.feed)
        return heard_loudness.result()
    with av.open(str(out), "w", format=coding_of(kind).container) as container:
        stream = SoundStream(container, kind, samples, sound.block)
        for a in range(0, samples, 48_000 * 10):
            stream.until(a)
            progress(a / samples)
        stream.finish()
    return stream.heard.result()


def _lanes(
    plan: dict[str, Any], files: dict[int, dict[str, Any]], lanes: dict[str, str]
) -> dict[str, soundfiles.Block]:
    """The sound of each lane that is heard."""
    lane_blocks: dict[str, soundfiles.Block] = {}
    for lane in dict.fromkeys(lanes.values()):
        lane_sounds = [lane_sound for lane_sound in plan["sounds"] if lanes.get(str(lane_sound[7])) == lane]
        if lane_sounds:
            lane_blocks[lane] = sound_of({**plan, "sounds": lane_sounds}, files).block
    if not lane_blocks:
        raise Unusable("Nothing is heard in the story: there are no stems to write.")
    return lane_blocks


def sound_of(plan: dict[str, Any], files: dict[int, dict[str, Any]]) -> Sound:
    """The sound of a plan (`Plan.to_json`), from the samples in `files` (as `render` takes them)."""
    raw = {recording_key: (Path(file["pcm"]), file["channels"]) for recording_key, file in files.items() if file["pcm"]}
    made_files = {
        (recording_key, name): Path(made_path)
        for recording_key, file in files.items()
        for name, made_path in file.get("made", {}).items()
    }
    dips = tuple((int(at), float(db)) for at, db in plan.get("dips", ()))
    return Sound([Heard.from_json(sound_row) for sound_row in plan["sounds"]], raw, made_files, dips)
