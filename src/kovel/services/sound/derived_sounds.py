"""Sounds made of recordings: cleaned by what is set on them, and retimed; asked for, found, thrown away when they
are old."""

import contextlib
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.plan.plan import Plan
from kovel.core.plan.sounds import made_of
from kovel.core.story.settings import CLEANING, SETTINGS
from kovel.data_folder import DataFolder, media_facts
from kovel.jobs.kinds import Hold, JobKind, Outcome
from kovel.media.files import Unusable
from kovel.store import jobs, recordings
from kovel.store.jobs import Job, JobState
from kovel.store.recordings import Recording

KEPT = 3  # of one recording, so that what is taken back is there at once
PACED = 60  # retimed ones of a recording
LONGEST = 30 * 48_000  # samples heard at once


def made_file(data_folder: DataFolder, recording: int, name: str) -> Path:
    return data_folder.derived(recording) / "made" / f"{name}.pcm"


def want_cleaned(data_folder: DataFolder, recording: int) -> Job | None:
    """Have a recording's cleaned sound made, if one is set and not there; None where there is nothing to do."""
    this_recording = recordings.get(data_folder.db, recording)
    name = made_of(this_recording.source)
    running = jobs.latest_of_recordings(data_folder.db, this_recording.project, "clean").get(recording)
    under_way = running if running and running.is_open else None
    if under_way and under_way.params["name"] != name:
        jobs.end(data_folder.db, under_way.id, JobState.CANCELLED)
        under_way = None
    if not name or under_way or made_file(data_folder, recording, name).exists():
        return under_way
    if running and running.has_failed and running.params["name"] == name:
        return running  # told; another try is the editor's
    facts = media_facts(data_folder, recording)
    if facts is None or not facts["sounded"]:
        raise Invalid(f"The sound of {this_recording.name} is still being made. Clean it when it is there.")
    params = {
        "out": str(data_folder.derived(recording)),
        "channels": facts["channels"],
        "name": name,
        "wanted": {name: this_recording.settings[name] for name in CLEANING},
    }
    return jobs.add(data_folder.db, this_recording.project, "clean", params, recording)


def want_retimed(data_folder: DataFolder, project: int, plan: Plan) -> list[Job]:
    """Have the retimed sounds of a plan made that are not there; the jobs of those that failed before."""
    failed = []
    jobs_by_name: dict[str, Job] = {}
    for key, wanted in plan.retimed.items():
        lacking = [name for name in wanted if not made_file(data_folder, key, name).exists()]
        facts = media_facts(data_folder, key) if lacking else None
        if facts is None or not facts["sounded"]:
            continue
        jobs_by_name = jobs_by_name or {
            job.params["name"]: job for job in reversed(jobs.of_project(data_folder.db, project, "retime"))
        }
        for name in lacking:
            old = jobs_by_name.get(name)
            if old and old.has_failed:
                failed.append(old)
            elif old is None or old.state in (JobState.DONE, JobState.CANCELLED):
                params = {
                    "out": str(data_folder.derived(key)),
                    "channels": facts["channels"],
                    "name": name,
                    "pace": wanted[name].to_json(),
                }
                jobs.add(data_folder.db, project, "retime", params, key)
                if wanted[name].of:
                    want_cleaned(data_folder, key)
    return failed


def all_retimed(data_folder: DataFolder, plan: Plan) -> bool:
    """Whether every retimed sound of a plan is made."""
    return all(made_file(data_folder, key, name).exists() for key, names in plan.retimed.items() for name in names)


def set_on_recording(data_folder: DataFolder, recording: int, setting: str, value: object) -> tuple[Recording, str]:
    """Set a setting of a recording in every story of its project; what it needs to be made is begun."""
    this_recording, summary = recordings.set_value(data_folder.db, recording, setting, value)
    if setting in CLEANING:
        want_cleaned(data_folder, recording)
    return this_recording, summary


def throw_old_away(data_folder: DataFolder, recording: int) -> None:
    """All but the last few made sounds of a recording go; what is set now stays."""
    folder = data_folder.derived(recording) / "made"
    now = made_of(recordings.get(data_folder.db, recording).source)
    with contextlib.suppress(OSError):
        for kind, kept in (("clean", KEPT - 1), ("pace", PACED)):
            newest_files = sorted(folder.glob(f"{kind}-*.pcm"), key=lambda p: p.stat().st_mtime, reverse=True)
            for path in [path for path in newest_files if path.stem != now][kept:]:
                for gone in folder.glob(f"{path.stem}.*"):
                    gone.unlink(missing_ok=True)


def found_in(data_folder: DataFolder, recording: int) -> dict[str, Any] | None:
    """What was found while the sound that is heard now was made; None while it is not there."""
    name = made_of(recordings.get(data_folder.db, recording).source)
    try:
        noise_found: dict[str, Any] = json.loads((data_folder.derived(recording) / "made" / f"{name}.json").read_text())
    except (OSError, ValueError):
        return None
    return noise_found


def hear(data_folder: DataFolder, recording: int, start: int, end: int, settings: Mapping[str, object]) -> bytes:
    """Samples [a, b) of a recording as they would be cleaned by these settings; at most half a minute."""
    from kovel.core.sound.cleaning import Wanted  # what it needs is slow to load
    from kovel.media.clean import cleaned_stretch

    wanted: dict[str, Any] = {}
    for name, value in settings.items():
        kept = SETTINGS[name].as_kept(value) if name in CLEANING else None
        if kept is None:
            said_setting = (
                f"{SETTINGS[name].label} is set to {SETTINGS[name].between}"
                if name in CLEANING
                else f"{name} cleans nothing"
            )
            raise Invalid(f"{said_setting}.")
        wanted[name] = kept
    this_recording = recordings.get(data_folder.db, recording)
    facts = media_facts(data_folder, recording)
    if not this_recording.sound or facts is None or not facts["sounded"]:
        raise Invalid(f"{this_recording.name} has no sound that could be cleaned.")
    start, end = max(0, start), min(end, facts["samples"], start + LONGEST)
    if end - start < 4_800:
        raise Invalid("Choose at least a tenth of a second of sound to hear.")
    try:
        return cleaned_stretch(data_folder.derived(recording), facts["channels"], start, end, Wanted(**wanted))
    except Unusable as error:
        raise Invalid(f"{this_recording.name}: {error}") from None


def sounds_read(params: Mapping[str, Any]) -> list[Path]:
    """The derived sounds that a job reads: all that a render does; the cleaned one that a retimed one is made of."""
    if "pace" in params:
        of = params["pace"]["of"]
        return [Path(params["out"]) / "made" / f"{of}.pcm"] if of else []
    return [
        Path(made_path)
        for sound_file in params.get("files", {}).values()
        for made_path in sound_file.get("made", {}).values()
    ]


def hold_for_sounds(data_folder: DataFolder, job: Job) -> Hold | None:
    """Held while a derived sound that it reads is being made; for good where that does not come any more."""
    lacking = [path for path in sounds_read(job.params) if not path.exists()]
    if not lacking:
        return None
    coming = {
        job.params["name"]: job for job in jobs.latest_of_recordings(data_folder.db, job.project, "clean").values()
    }
    for this_job in reversed(jobs.of_project(data_folder.db, job.project, "retime")):  # the newest of a name counts
        coming[this_job.params["name"]] = this_job
    for path in lacking:
        maker = coming.get(path.stem)
        if maker is None or maker.state is JobState.CANCELLED:
            return Hold("The sound of a recording was changed while it waited. Try again.")
        if maker.has_failed and maker.kind == "clean":
            return Hold(
                f"A recording could not be cleaned: {maker.message} Try again in the Sound room, then once more here."
            )
        if maker.has_failed:
            return Hold(f"The sound of a retimed shot could not be made: {maker.message} Try again.")
    return Hold()


def _hold_for_pauses(data_folder: DataFolder, job: Job) -> Hold | None:
    """The pauses of a recording tell what its noise is."""
    listening, preparing = (
        jobs.latest_of_recordings(data_folder.db, job.project, kind).get(job.recording or 0)
        for kind in ("listen", "prepare")
    )
    before = listening or preparing  # it is listened to as soon as its sound is there
    return Hold() if before is not None and before.is_open else None


def _take(data_folder: DataFolder, job: Job, result: dict[str, Any]) -> Outcome:
    if job.recording is not None:
        throw_old_away(data_folder, job.recording)
    return Outcome(result=result)


CLEAN = JobKind("clean", "clean", 1, _take, _hold_for_pauses)
RETIME = JobKind("retime", "retime", 0.5, _take, hold_for_sounds)
