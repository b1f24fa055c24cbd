"""Outputs of a plan: films, sound alone, stems, stills; pictures from the originals, sound from the recordings' raw
samples.

Frame t of a film is frame t of the plan; sample s is sample s. A film is made in parts that are kept (see
core.plan.parts) and joined as they were encoded: what was made before is not made again. A file gets its name only
when it is whole.
"""

import os
import shutil
import tempfile
import time
from bisect import bisect_left
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass, replace
from math import ceil
from pathlib import Path
from typing import Any

import av
import numpy as np
from PIL import Image

from kovel.core.checks.delivered import Difference
from kovel.core.plan import parts as division
from kovel.core.plan.layers import Layer, Stacked
from kovel.core.plan.outputs import OUTPUT_KINDS, Output, frames_made, story_frame
from kovel.core.plan.plan import FORM, Plan
from kovel.core.plan.retimed import RETIMED
from kovel.core.plan.sounds import AS_IT_IS, GainLine, Heard, along, ramped
from kovel.core.time.rate import Rate
from kovel.media import soundfiles
from kovel.media.burn import Burnt
from kovel.media.derive import checksum
from kovel.media.drawing import Pictures
from kovel.media.encode import Measured, PictureFile, SoundStream, coding_of, joined, stream_like
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
from kovel.media.reader import rgb_of
from kovel.media.soundtrack import samples_of

MOST_TOLD = 40  # differences of one file
DRAWN = 2  # how layers are drawn: another number makes every part anew
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
        self._starts = [heard.at for heard in self.sounds]
        self._reach = np.maximum.accumulate([heard.end for heard in self.sounds]) if self.sounds else np.zeros(0)
        self.pcm = {(key, ""): samples_of(*at) for key, at in raw.items()}
        self.pcm |= {key: samples_of(path, raw[key[0]][1]) for key, path in (made or {}).items() if key[0] in raw}

    def block(self, start: int, end: int) -> np.ndarray:
        """Samples [a, b): float32 (b - a, 2)."""
        y = np.zeros((end - start, 2), np.float32)
        first = int(np.searchsorted(self._reach, start, "right"))  # all before it have ended
        for heard in self.sounds[first : bisect_left(self._starts, end)]:
            lowest, highest = max(start, heard.at), min(end, heard.end)
            if lowest >= highest:
                continue
            samples = self._take(heard, lowest - heard.at, highest - heard.at)
            y[lowest - start : lowest - start + len(samples)] += samples
        if self.dips:
            y *= (10 ** (along(self.dips, np.arange(start, end)) / 20)).astype(np.float32)[:, None]
        return y

    def _take(self, heard: Heard, lowest: int, highest: int) -> np.ndarray:
        pcm = self.pcm.get((heard.source, heard.made))
        if pcm is None:  # not made yet: heard as recorded, but what is retimed lies elsewhere there
            pcm = self.pcm[heard.source, ""][:0] if heard.made.startswith(RETIMED) else self.pcm[heard.source, ""]
        first, last = heard.start + lowest, heard.start + highest
        x: np.ndarray = np.asarray(pcm[max(0, first) : max(0, last)], np.float32) / np.float32(32768)
        x = np.repeat(x, 2, 1) if x.shape[1] == 1 else x
        if heard.mix != AS_IT_IS:
            x = x @ np.array(heard.mix, np.float32).reshape(2, 2).T
        if len(x) < highest - lowest:  # silence before the recording's beginning and behind its end
            before = min(highest - lowest, max(0, -first))
            x = np.pad(x, ((before, highest - lowest - len(x) - before), (0, 0)))
        return ramped(x, lowest, heard)


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


def _give_its_name(part: Path, final: Path) -> None:
    """What is whole gets its own name; of a folder of stems that is there already, file by file."""
    if final.is_dir() and part.is_dir():
        for path in part.iterdir():
            os.replace(path, final / path.name)
    else:
        os.replace(part, final)


def _remove(part: Path) -> None:
    if part.is_dir():
        shutil.rmtree(part, ignore_errors=True)
    part.unlink(missing_ok=True)


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
    length, clock = plan["length"], Rate(*plan["rate"])
    _refuse_plan(plan)
    this_output, src = Output.from_json(output), {int(name): file for name, file in files.items()}
    has_pictures = OUTPUT_KINDS[this_output.kind].seen or this_output.kind == "still"
    _refuse_changed(src, has_pictures)
    sounds = plan_of(plan)
    check_inputs(sounds, src)
    final = Path(out)
    part = final.with_name(f"{final.name}.{os.getpid()}.part")  # each try writes a file of its own
    final.parent.mkdir(parents=True, exist_ok=True)
    sound = sound_of(plan, src)
    told: dict[str, Any] = {"frames": length}
    try:
        if has_pictures:
            folders = [Path(folder) if folder else None for folder in (drawn, tables, fonts)]
            with closing(Pictures(src, width, height, *folders)) as pictures:
                job = Film(plan, src, this_output, (width, height), pictures, clock, begin, drop, folders[1:])
                if this_output.kind == "still":
                    job.still(part)
                else:
                    told |= _film(job, sound, part, Path(parts) if parts else None, chapters, timecode, progress)
        elif this_output.kind == "stems":
            part.mkdir()
            stems = soundfiles.stems(part, _lanes(plan, src, lanes or {}), sound.block, plan["samples"], progress)
            told["differs"] = _stem_differences(stems, sounds, src, lanes or {})
        else:
            told |= _sound_alone(this_output.kind, sound, plan["samples"], part, progress)
            told |= _checked(part, sounds, src, told["loudness"], [])
        _give_its_name(part, final)
    finally:
        _remove(part)
    size = sum(path.stat().st_size for path in final.iterdir()) if final.is_dir() else final.stat().st_size
    seen = [width, height] if has_pictures else None
    return {"path": str(final), "bytes": size, "size": seen, "took": round(time.monotonic() - began, 1), **told}


@dataclass
class Film:
    """What is to be drawn, row by row of a plan, and how each frame of it is found."""

    plan: dict[str, Any]
    files: dict[int, dict[str, Any]]
    output: Output
    size: tuple[int, int]
    pictures: Pictures
    clock: Rate
    begin: int
    drop: bool
    folders: list[Path | None]  # of tables and of fonts

    def __post_init__(self) -> None:
        self.rate = self.output.rate or self.clock
        self.rows: list[tuple[int, int, list[Any]]] = self.plan["pictures"]
        self.length: int = self.plan["length"]
        self.count = frames_made(self.length, self.clock, self.output.rate)
        self.burnt = (
            Burnt(self.size, self.files, self.clock, self.begin, self.drop) if self.output.kind == "draft" else None
        )

    def first(self, at: int) -> int:
        """The first frame of the film that shows story frame `at` or a later one."""
        return at if self.rate == self.clock else min(self.count, ceil(at * self.rate.fps / self.clock.fps))

    def moments(self, rows: Sequence[tuple[int, int, list[Any]]]) -> Iterator[Moment]:
        """What each frame of these rows shows: the story's frame, the layers, and how many frames they have stood."""
        k = self.first(rows[0][0])
        for at, end, layers in rows:
            stack: list[Stacked] = [Layer.from_json(layer) for layer in layers]
            while k < self.count and (frame := story_frame(k, self.length, self.clock, self.output.rate)) < end:
                yield frame, stack, frame - at
                k += 1

    def frames(self, rows: Sequence[tuple[int, int, list[Any]]]) -> Iterator[Any]:
        """The frames of these rows, drawn."""
        for t, stack, k in self.moments(rows):
            frame = self.pictures.frame(stack, k)
            yield self.burnt.over(frame, t, stack, k) if self.burnt else frame

    def still(self, path: Path) -> None:
        """Writes the first frame as a PNG."""
        f = next(self.frames(self.rows))
        Image.fromarray(rgb_of(f.reformat(format="yuv444p"))).save(path, "PNG")

    def made_with(self, rows: Sequence[tuple[int, int, list[Any]]]) -> Any:
        """All but what is seen that decides what a part looks like."""
        at = rows[0][0]
        drawn = [x for _, _, layers in rows for x in _all(layers)]
        used = sorted({x[0] for x in drawn if x[0] is not None})
        named = {
            d[n]
            for x in drawn
            if len(x) > 4
            for d in (*x[4].get("look", ()), x[4].get("title", {}))
            for n in ("table", "font")
            if d.get(n)
        }
        stamps = [
            (other.name, other.stat().st_mtime_ns)
            for path in self.folders
            if path and path.is_dir()
            for other in sorted(path.iterdir())
            if other.stem in named
        ]
        phase = str(self.first(at) - at * self.rate.fps / self.clock.fps)
        of = [[i, f["path"], *_stamp(f["path"]), f["rate"], f["still"]] for i in used for f in (self.files[i],)]
        output = self.output
        return [
            DRAWN,
            output.kind,
            output.quality,
            self.size,
            self.rate.num,
            self.rate.den,
            phase,
            of,
            stamps,
            self.burnt and at + self.begin,
        ]


def _all(layers: Sequence[Any]) -> Iterator[Any]:
    """Layers of a plan's JSON, and those they are put together from."""
    for layer in layers:
        yield layer
        if len(layer) > 4:
            yield from _all([*layer[4].get("stack", ()), *([layer[4]["cut"]] if "cut" in layer[4] else [])])


def _stamp(path: str) -> tuple[int, int]:
    st = os.stat(path)
    return st.st_size, st.st_mtime_ns


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
        made, differs = _parts(film, folder, progress)
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
            v, samples = stream_like(container, made[0][0]), film.plan["samples"]
            stream = SoundStream(container, kind, samples, sound.block)
            if coding_of(kind).container == "mov" and timecode:
                container.metadata["timecode"] = timecode

            def reached(at: int) -> None:
                stream.until(round(at * samples / film.count))
                progress(0.9 + 0.1 * at / film.count)

            joined(container, v, ((path, at) for path, at, _ in made), 1 / film.rate.fps, reached)
            stream.finish()
        told = {
            "frames": film.count,
            "parts": len(made),
            "anew": sum(new for _, _, new in made),
            **stream.heard.result(),
        }
        if (count := frames_in(out)) != film.count:
            differs.insert(
                0, Difference(0, film.count / float(film.rate.fps), f"{count} frames instead of {film.count}")
            )
        differs += caption_differences(film.plan, film.size, film.folders[1])
        return told | _checked(out, plan_of(film.plan), film.files, told["loudness"], differs)


def _checked(path: Path, plan: Plan, files: Files, sent: float | None, differs: list[Difference]) -> dict[str, Any]:
    """What is told of a file once it was held against its plan: where it differs, and what its own sound measures."""
    more, heard = sound_differences(path, plan, files, sent)
    return {
        "differs": [str(difference) for difference in sorted([*differs, *more], key=lambda d: d.start)][:MOST_TOLD],
        **heard,
    }


def _stem_differences(paths: Sequence[Path], plan: Plan, files: Files, lanes: dict[str, str]) -> list[str]:
    """Where stems differ from what the plan has in their lanes."""
    out = []
    for path in paths:
        rows = tuple(heard for heard in plan.sounds if lanes.get(str(heard.of)) == path.stem)
        found, _ = sound_differences(path, replace(plan, sounds=rows), files, None)
        out += [f"{path.name}, {difference}" for difference in found]
    return out[:MOST_TOLD]


def _parts(film: Film, folder: Path, progress: Progress) -> tuple[list[tuple[Path, int, bool]], list[Difference]]:
    """Each part of a film: its file, the frame it begins at, and whether it was made now; and where those that were
    made now differ from the plan: they are not kept. The end of one is encoded, and it is looked through, while the
    next is drawn."""
    out: list[tuple[Path, int, bool]] = []
    rows, piece_id = film.rows, os.getpid()
    todo: list[tuple[Path, list[tuple[int, int, list[Any]]]]] = []
    for start, end in division.stretches(rows):
        some, at = rows[start:end], film.first(rows[start][0])
        if (film.first(rows[end][0]) if end < len(rows) else film.count) <= at:
            continue  # a stretch between two frames of a slower film
        path = folder / f"{division.name_of(some, film.made_with(some))}.{coding_of(film.output.kind).container}"
        new = not path.exists() and not any(other == path for other, _ in todo)
        if new:
            todo.append((path, some))
        elif path.exists():
            os.utime(path)
        out.append((path, at, new))
    total = sum(some[-1][1] - some[0][0] for _, some in todo)
    done = 0

    greys, differs = Greys(film.files, film.size), list[Difference]()

    def close(picture_file: PictureFile, part: Path, path: Path, moments: list[Moment]) -> None:
        picture_file.finish()
        found = picture_differences(part, moments, greys, film.clock)
        differs.extend(found)
        kept = path.with_name(f"{path.name}.differs.{piece_id}.part") if found else path
        os.replace(part, kept)
        if found:
            out[:] = [(kept if other == path else other, at, new) for other, at, new in out]

    with ThreadPoolExecutor(1) as pool:
        ending: Future[None] | None = None
        for path, some in todo:
            part = path.with_name(f"{path.name}.{piece_id}.part")
            spare(folder)
            picture_file = PictureFile(part, film.output, film.size, film.rate)
            try:
                for index, frame in enumerate(film.frames(some)):
                    picture_file.add(frame)
                    if index % 12 == 0:
                        progress(0.9 * min(1.0, (done + index) / total))
            except BaseException:
                picture_file.give_up()
                part.unlink(missing_ok=True)
                raise
            if ending:
                ending.result()
            ending = pool.submit(close, picture_file, part, path, list(film.moments(some)))
            done += some[-1][1] - some[0][0]
        if ending:
            ending.result()
    return out, differs


def _sound_alone(kind: str, sound: "Sound", samples: int, out: Path, progress: Progress) -> dict[str, Any]:
    if kind == "wav":
        heard = Measured()
        soundfiles.wav(out, sound.block, samples, progress, heard.feed)
        return heard.result()
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
    out: dict[str, soundfiles.Block] = {}
    for lane in dict.fromkeys(lanes.values()):
        rows = [s for s in plan["sounds"] if lanes.get(str(s[7])) == lane]
        if rows:
            out[lane] = sound_of({**plan, "sounds": rows}, files).block
    if not out:
        raise Unusable("Nothing is heard in the story: there are no stems to write.")
    return out


def sound_of(plan: dict[str, Any], files: dict[int, dict[str, Any]]) -> Sound:
    """The sound of a plan (`Plan.to_json`), from the samples in `files` (as `render` takes them)."""
    raw = {key: (Path(file["pcm"]), file["channels"]) for key, file in files.items() if file["pcm"]}
    made = {(key, name): Path(p) for key, file in files.items() for name, p in file.get("made", {}).items()}
    dips = tuple((int(at), float(db)) for at, db in plan.get("dips", ()))
    return Sound([Heard.from_json(row) for row in plan["sounds"]], raw, made, dips)
