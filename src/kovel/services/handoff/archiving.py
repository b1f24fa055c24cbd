"""A project in one file, with its recordings or without, and out of it again on any machine (docs/archive.md).

FILE.kovel.zip    project.json    form, schema, the project's rows by table, which recording's file is which
                  media/          the recordings' files, as they are or with the pictures that are used
                  tables/ fonts/  what its looks and titles read
"""

import json
import os
import shutil
import sqlite3
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal
from uuid import uuid4

from kovel.core.errors import Invalid, Told
from kovel.core.plan.layers import flat
from kovel.core.plan.plan import make_plan
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import JobKind
from kovel.media.child import call
from kovel.media.files import NoRoom, Unusable
from kovel.services.footage.intake import free_name, may_open, prepare, safe
from kovel.store import archive_rows, jobs, projects, recordings, stories
from kovel.store.jobs import Job
from kovel.store.projects import Project
from kovel.store.recordings import Recording

FORM = "kovel project 1"
Media = Literal["none", "pictures", "used", "all"]
HANDLE = 2.0  # seconds of pictures around what is used, where not all are taken along
Progress = Callable[[float], None]


@dataclass(frozen=True, slots=True)
class Archived:
    """What became of it: the file, or the project; its recordings; those whose files are not in it, or not here."""

    path: str
    project: int
    name: str
    recordings: int
    media: int
    missing: tuple[str, ...]


def used(data_folder: DataFolder, project: int) -> set[int]:
    """The recordings that a story of the project shows or plays."""
    sources = recordings.sources(data_folder.db, project)
    used_recordings: set[int] = set()
    for kept in stories.of_project(data_folder.db, project):
        story = kept.story
        used_recordings |= make_plan(story, sources).sources | {
            cover.source for cover in (*story.covers, *story.loose) if cover.source
        }
        used_recordings |= {piece.source for piece in story.pieces if piece.source} | {
            sound.source for sound in (*story.sounds, *story.loose_sounds)
        }
    return used_recordings


def used_ranges(
    data_folder: DataFolder, project: int, handle: float = HANDLE
) -> dict[int, list[tuple[Fraction, Fraction]]]:
    """By recording: seconds from its first picture that the stories show, also under covers and in what came loose,
    with `handle` seconds around each; those that meet are one."""
    fps = projects.get(data_folder.db, project).rate.fps
    found_ranges: dict[int, list[tuple[int, int]]] = {}
    for kept in stories.of_project(data_folder.db, project):
        story = kept.story
        laid = [(cover.source, cover.start, cover.start + cover.length) for cover in (*story.covers, *story.loose)]
        for source, first, end in [*((piece.source, *piece.used) for piece in story.pieces), *laid]:
            if source:
                found_ranges.setdefault(source, []).append((first, end))
        for run in make_plan(story, recordings.sources(data_folder.db, project)).pictures:
            for layer in flat(run.layers):
                if layer.image.source is not None:
                    base, num, den = layer.image.steps(Fraction(1))
                    ends = base // den, (base + (run.end - run.at - 1) * num) // den
                    found_ranges.setdefault(layer.image.source, []).append((min(ends), max(ends) + 1))
    around = Fraction(handle).limit_denominator(1000)
    spans_by_recording: dict[int, list[tuple[Fraction, Fraction]]] = {}
    for recording_key, used_spans in found_ranges.items():
        joined: list[tuple[Fraction, Fraction]] = []
        for start, until in sorted(
            (max(Fraction(0), start / fps - around), end / fps + around) for start, end in used_spans
        ):
            if joined and start <= joined[-1][1]:
                joined[-1] = joined[-1][0], max(until, joined[-1][1])
            else:
                joined.append((start, until))
        spans_by_recording[recording_key] = joined
    return spans_by_recording


def _cut(recording: Recording, name: str, ranges: Iterable[tuple[Fraction, Fraction]]) -> dict[str, Any]:
    """What the job needs to take only these ranges (seconds) of a recording's pictures."""
    return {
        "number": recording.id,
        "name": name,
        "path": recording.path,
        "rate": [*recording.rate.fps.as_integer_ratio()],
        "ranges": [[list(start.as_integer_ratio()), list(end.as_integer_ratio())] for start, end in ranges],
    }


def _kept_files(data_folder: DataFolder, text: str) -> dict[str, str]:
    """Tables of colours and fonts that a project's description names, by their place in the archive."""
    return {
        f"{folder.name}/{file.name}": str(file)
        for folder in (data_folder.tables, data_folder.fonts)
        if folder.is_dir()
        for file in sorted(folder.iterdir())
        if json.dumps(file.stem, ensure_ascii=False)[1:-1] in text
    }


def _asked_for(
    data_folder: DataFolder, project: int, all_recordings: Sequence[Recording], media: Media
) -> list[Recording]:
    """The recordings whose files go along: all, none, or those that a story uses."""
    if media == "none":
        return []
    in_use = used(data_folder, project) if media != "all" else {recording.id for recording in all_recordings}
    return [recording for recording in all_recordings if recording.id in in_use]


def _refuse_too_large(inside: Iterable[Recording], folder: Path) -> None:
    need = sum(recording.size for recording in inside)
    if need > shutil.disk_usage(folder).free:
        raise Invalid(f"Its recordings take {need / 1e9:.1f} GB; there is less room than that where it is written.")


def start_archive(
    data_folder: DataFolder, project: int, media: Media = "none", out: Path | None = None, handle: float = HANDLE
) -> tuple[Job, Archived]:
    """Queue a project's one file; the job, and what will be in it. `pictures`: of the recordings used only the
    pictures used, with `handle` seconds around, and all sound."""
    this_project = projects.get(data_folder.db, project)
    number, tables = archive_rows.rows_of(data_folder.db, project)
    all_recordings = recordings.of_project(data_folder.db, project)
    asked_files = _asked_for(data_folder, project, all_recordings, media)
    inside = {
        asked_recording.id: asked_recording
        for asked_recording in asked_files
        if Path(asked_recording.path).is_file() and may_open(data_folder, asked_recording)
    }
    names = {
        recording_key: f"media/{recording_key:04d} {safe(Path(recording.path).name)}"
        for recording_key, recording in inside.items()
    }
    coming = {job.params["out"] for job in jobs.of_project(data_folder.db, project, "archive") if job.is_open}
    out = out or free_name(data_folder.renders(project), safe(this_project.name), ".kovel.zip", coming)
    _refuse_too_large(inside.values(), out.parent)
    about = {
        "form": FORM,
        "schema": number,
        "made": datetime.now(UTC).isoformat(timespec="seconds"),
        "media": {str(recording_key): name for recording_key, name in names.items()},
        "tables": tables,
    }
    text = json.dumps(about, ensure_ascii=False, indent=1)
    described = data_folder.root / "archives" / f"{uuid4().hex}.json"  # as it stands now; the job takes it away
    described.parent.mkdir(exist_ok=True)
    described.write_text(text)
    cuts = []
    if media == "pictures":
        ranges = used_ranges(data_folder, project, handle)
        filmed = {
            recording_key: inside_span
            for recording_key, inside_span in inside.items()
            if inside_span.picture and (inside_span.frames or 0) > 1
        }
        cuts = [
            _cut(recording, names[recording_key], ranges.get(recording_key, []))
            for recording_key, recording in filmed.items()
        ]
    shortened = {cut_made["number"] for cut_made in cuts}
    files = _kept_files(data_folder, text)
    files |= {
        names[recording_key]: recording.path
        for recording_key, recording in inside.items()
        if recording_key not in shortened
    }
    params = {"about": str(described), "files": files, "out": str(out), "cuts": cuts}
    job = jobs.add(data_folder.db, project, "archive", params)
    missing = tuple(recording.name for recording in asked_files if recording.id not in inside)
    return job, Archived(str(out), project, this_project.name, len(all_recordings), len(inside), missing)


def read(data_folder: DataFolder, path: Path, told: Progress = lambda x: None, called: str = "") -> Archived:
    """A project out of an archive: under its name, or one like it, its recordings beside what was brought in.
    `called`: its name, where it is read out of another file. `Invalid`, and nothing is made, for what is no archive,
    or holds what no project can."""
    name = called or path.name
    folder = data_folder.root / "archives" / f"in-{uuid4().hex}"
    try:
        inside = call("unpack", {"path": str(path), "out": str(folder)}, told)["members"]
        return _read(data_folder, path, inside, name)
    except NoRoom:
        raise
    except Unusable as error:
        why = str(error) if path.name not in str(error) else "it is damaged, or far more than an archive should hold"
        raise Invalid(f"{name} cannot be read: {why}. Nothing was brought in.") from None
    except Told as error:
        raise Invalid(str(error) if name in str(error) else f"{name} cannot be brought in: {error}") from None
    except (
        sqlite3.Error,
        ValueError,
        TypeError,
        KeyError,
        IndexError,
        AttributeError,
        ArithmeticError,
        RecursionError,
    ):
        raise Invalid(f"{name} is no archive of Kovel, or it is damaged. Nothing was brought in.") from None
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _read(data_folder: DataFolder, path: Path, inside: dict[str, Any], called: str) -> Archived:
    about: dict[str, Any] = json.loads(Path(inside["project.json"]["file"]).read_text("utf-8"))
    if not isinstance(about, dict) or about.get("form") != FORM:
        raise Invalid(f"{called} is an archive of another kind. This Kovel reads “{FORM}”.")
    files = {
        int(recording_key): inside[name]
        for recording_key, name in about["media"].items()
        if name in inside and inside[name]["kind"] == "media"
    }
    (project_row,) = about["tables"]["project"]
    project, ids = archive_rows.put(
        data_folder.db, about["schema"], about["tables"], _free(data_folder, str(project_row["name"]))
    )
    try:
        missing = _media(data_folder, project, files, about.get("cut", {}), ids)
        _looks_and_letters(data_folder, inside)
    except Exception:
        projects.remove(data_folder.db, project.id)
        shutil.rmtree(data_folder.uploads(project.id), ignore_errors=True)
        raise
    all_recordings = recordings.of_project(data_folder.db, project.id)
    for recording in all_recordings:
        if Path(recording.path).is_file() and may_open(data_folder, recording):
            prepare(data_folder, recording)
    return Archived(str(path), project.id, project.name, len(all_recordings), len(files), tuple(missing))


def _looks_and_letters(data_folder: DataFolder, inside: dict[str, Any]) -> None:
    """Tables of colours and fonts that the project uses, each read as one that an editor loads; those that are here
    already stay."""
    for name, member in inside.items():
        folder = {"tables": data_folder.tables, "fonts": data_folder.fonts}.get(member["kind"])
        if folder is None or (to := folder / Path(name).name).exists():
            continue
        folder.mkdir(parents=True, exist_ok=True)
        if member["kind"] == "tables":
            call("read_table", {"path": member["file"], "out": str(to)})
        else:
            call("read_font", {"path": member["file"]})
            os.replace(member["file"], to)


def _media(
    data_folder: DataFolder,
    project: Project,
    files: dict[int, dict[str, Any]],
    cut: dict[str, Any],
    ids: dict[int, int],
) -> list[str]:
    """The recordings' files out of the archive, each held against its size and checksum; those that are not here.
    `cut`: what those are that came with some of their pictures."""
    folder, missing = data_folder.uploads(project.id), []
    for old, new in ids.items():
        recording = recordings.get(data_folder.db, new)
        if old not in files:
            if not Path(recording.path).is_file() or not may_open(data_folder, recording):
                missing.append(recording.name)
            continue
        folder.mkdir(parents=True, exist_ok=True)
        short = cut.get(str(old))
        size, known = (int(short["size"]), str(short["checksum"])) if short else (recording.size, recording.checksum)
        member = files[old]
        if member["size"] != size or (known and member["checksum"] != known):
            raise Invalid(f"{recording.name} is not whole in that archive. Nothing was brought in.")
        name = next(name for name in (safe(Path(recording.path).name), "recording") if name)
        to = folder / f"{new} {name}"
        os.replace(member["file"], to)
        archive_rows.moved_to(data_folder.db, new, str(to), to.stat().st_mtime_ns)
        if short:
            archive_rows.shortened(data_folder.db, new, size, known)
    return missing


def _free(data_folder: DataFolder, name: str) -> str:
    taken = {project.name for project in projects.listing(data_folder.db)}
    names = (name, *(f"{name[:70]} ({n})" for n in range(2, 10_000)))
    return next(name for name in names if name not in taken)


def _clear(job: Job) -> None:
    """What described the project to the child is not needed any more."""
    Path(job.params["about"]).unlink(missing_ok=True)


ARCHIVE = JobKind("archive", "archive", 0, clear=_clear)
