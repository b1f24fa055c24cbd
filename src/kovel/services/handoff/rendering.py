"""Outputs of a story: asked for, worked out beforehand, queued; ready-made choices; the parts of films that are
kept."""

import json
import time
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.plan.captioned import letters_for, with_captions
from kovel.core.plan.outputs import OUTPUT_KINDS, Output, between, checked, expected, shaped, size_made
from kovel.core.plan.parts import divided
from kovel.core.plan.plan import Plan, make_plan
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import format_timecode
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import Hold, JobKind
from kovel.media.wholeness import whole_sound
from kovel.services.footage.intake import file_of, free_name, safe
from kovel.services.footage.mending import whole_sound_of
from kovel.services.footage.relinking import there, unsure
from kovel.services.handoff.captioning import captions_of, chapters_of
from kovel.services.handoff.film_steps import RENDER_STEPS, groups_of
from kovel.services.handoff.stems import lanes_of
from kovel.services.sound.derived_sounds import hold_for_sounds, made_file, want_cleaned, want_retimed
from kovel.store import jobs, kept_settings, projects, recordings, stories
from kovel.store.jobs import Job, JobState
from kovel.store.projects import Project
from kovel.store.recordings import Recording

STALE = 86_400.0  # seconds
KEPT = 6_000_000_000  # bytes of parts; those that were used least lately go first

READY = {
    "For the web": Output(),
    "Upright": Output(shape="9:16"),
    "Archive": Output(kind="prores"),
    "Review": Output(kind="draft"),
}


@dataclass(frozen=True, slots=True)
class Estimate:
    """What is to be expected of an output, before it is made."""

    size: tuple[int, int]
    frames: int
    bytes: int
    seconds: float


def estimate(data_folder: DataFolder, kept_story: stories.Kept, asked: Output) -> Estimate:
    """Size from bit rate and length; time from what the last outputs of the kind took here, if there were any."""
    project = projects.get(data_folder.db, kept_story.project)
    output = checked(asked, kept_story.story)
    assert output.end is not None
    size, length = size_made(output, kept_story.story, project.width, project.height), output.end - output.start
    lanes = len({lane for lane in lanes_of(kept_story.story).values()})
    bytes_, seconds = expected(output, size, project.rate, length, lanes)
    return Estimate(
        size, 1 if output.kind == "still" else length, bytes_, seconds * _pace(data_folder, project.id, output.kind)
    )


def _pace(data_folder: DataFolder, project: int, kind: str) -> float:
    """How long outputs of a kind took here against what is expected of one core."""
    for job in jobs.of_project(data_folder.db, project, "render"):
        told_result, params = job.result or {}, job.params
        if (
            not job.is_done
            or not told_result.get("took")
            or told_result.get("anew") != told_result.get("parts")
            or "output" not in params
        ):
            continue
        made_output = Output.from_json(params["output"])
        if made_output.kind == kind:
            alone = expected(
                made_output,
                (params["width"], params["height"]),
                Rate(*params["plan"]["rate"]),
                params["plan"]["length"],
            )[1]
            if alone >= 2:  # one that was over at once tells nothing
                return max(0.05, min(20.0, float(told_result["took"]) / alone))
    return 1.0


def start_output(data_folder: DataFolder, story: int, asked: Output | None = None, out: Path | None = None) -> Job:
    """Queue an output of a story as it stands now; `Refused` or `Invalid` for what cannot be made."""
    kept_story = stories.load(data_folder.db, story)
    project = projects.get(data_folder.db, kept_story.project)
    output = checked(asked or Output(), kept_story.story)
    if output.kind == "still":
        output = replace(output, end=output.start + 1)
    assert output.end is not None
    sources = recordings.sources(data_folder.db, project.id)
    shown = shaped(kept_story.story, output.shape)
    whole = make_plan(shown, sources)
    if output.captions:
        size = size_made(output, kept_story.story, project.width, project.height)
        ratio = size[0] / size[1]
        burnt_cues = captions_of(data_folder, kept_story, chars=letters_for(ratio))
        if not burnt_cues:
            raise Invalid("There are no captions to burn in: nothing that is said in the story is transcribed.")
        whole = with_captions(whole, burnt_cues, ratio)
    plan = between(whole, output.start, output.end)
    size = size_made(output, kept_story.story, project.width, project.height)
    seen = OUTPUT_KINDS[output.kind].seen
    params = {
        "plan": (divided(plan) if seen else plan).to_json(sources),
        "files": _files(data_folder, plan),
        "out": str(out or _named(data_folder, project, kept_story, output)),
        "width": size[0],
        "height": size[1],
        "output": output.to_json(),
        "drawn": str(data_folder.drawn),
        "tables": str(data_folder.tables),
        "fonts": str(data_folder.fonts),
        "parts": str(parts_of(data_folder, project.id)) if seen else "",
        "chapters": chapters_of(kept_story.story, output) if seen else [],
        "begin": project.start_frame + output.start,
        "timecode": format_timecode(project.start_frame + output.start, project.rate, project.drop),
        "drop": project.drop,
    }
    if output.kind == "stems":
        params["lanes"] = {str(key): lane for key, lane in lanes_of(kept_story.story).items()}
    if OUTPUT_KINDS[output.kind].seen:
        params["groups"] = groups_of(params, output)
    for failed in want_retimed(data_folder, project.id, plan):
        jobs.again(data_folder.db, failed.id, JobState.FAILED)
    trim_parts(data_folder)
    return jobs.add(data_folder.db, project.id, "render", params)


def _files(data_folder: DataFolder, plan: Plan) -> dict[str, dict[str, Any]]:
    """What the renderer reads of each recording; what has to be made of one first is begun."""
    files = {}
    for source in plan.sources:
        recording = recordings.get(data_folder.db, source)
        if source in plan.seen:
            file_of(data_folder, recording)
        if source in plan.seen and Path(recording.path).is_file() and not there(recording):
            raise Invalid(
                f"{recording.name} is another file now than the one that was brought in. "
                "Find the right one in Footage, then render again."
            )
        facts = whole_sound_of(data_folder, source, "Render")
        made_files = {name: str(made_file(data_folder, source, name)) for name in plan.made.get(source, ())}
        files[str(source)] = {**_file(data_folder, recording), "channels": facts.get("channels", 1), "made": made_files}
        if source in plan.seen and unsure(recording):
            files[str(source)]["sum"] = recording.checksum
        if made_files and (job := want_cleaned(data_folder, source)) and job.has_failed:
            raise Invalid(
                f"{recording.name} could not be cleaned: {job.message} Try again in the Sound room, or leave it as "
                "recorded."
            )
    return files


def _file(data_folder: DataFolder, recording: Recording) -> dict[str, Any]:
    return {
        "name": recording.name,
        "path": recording.path,
        "rate": [recording.rate.num, recording.rate.den],
        "still": recording.frames is None,
        "first": recording.first,
        "drop": recording.drops,
        "derived": str(data_folder.derived(recording.id)),
        "pcm": str(data_folder.derived(recording.id) / "sound.pcm") if recording.sound else None,
    }


def _named(data_folder: DataFolder, project: Project, kept_story: stories.Kept, output: Output) -> Path:
    earlier_renders = jobs.of_project(data_folder.db, project.id, "render")
    coming = {job.params["out"] for job in earlier_renders if job.is_open}
    shape = "" if output.shape == "as the story" else f" {output.shape.replace(':', ' to ')}"
    what = {"draft": " draft", "stems": " stems", "still": " still"}.get(output.kind, "")
    return free_name(
        data_folder.renders(project.id),
        f"{safe(project.name)} - {safe(kept_story.name)}{shape}{what}",
        OUTPUT_KINDS[output.kind].ending,
        coming,
    )


def parts_of(data_folder: DataFolder, project: int) -> Path:
    """Where the parts of a project's films are kept."""
    return data_folder.root / "parts" / str(project)


def trim_parts(data_folder: DataFolder, most: int = KEPT) -> int:
    """Keep the parts of films to so many bytes; how many were freed."""
    found_parts = [
        (path.stat().st_mtime, path.stat().st_size, path) for path in (data_folder.root / "parts").glob("*/*")
    ]
    for when, _, path in found_parts:
        if path.suffix == ".part" and time.time() - when > STALE:
            path.unlink(missing_ok=True)  # of a process that is gone
    whole_parts = [whole_part for whole_part in found_parts if whole_part[2].suffix != ".part"]
    over, freed = sum(size for _, size, _ in whole_parts) - most, 0
    for _, size, path in sorted(whole_parts, key=lambda r: r[0]):
        if freed >= over:
            break
        path.unlink(missing_ok=True)
        freed += size
    return freed


def ready(data_folder: DataFolder) -> dict[str, Output]:
    """Ready-made choices: those that ship with Kovel and the editor's own, by name."""
    own_outputs: dict[str, dict[str, Any]] = json.loads(kept_settings.get(data_folder.db, "outputs", "{}"))
    return READY | {name: Output.from_json(own_sound) for name, own_sound in own_outputs.items()}


def keep_ready(data_folder: DataFolder, name: str, output: Output | None) -> None:
    """Keep a choice under a name, or (None) take it out again."""
    name = " ".join(name.split())[:60]
    if not name:
        raise Invalid("Give the choice a name.")
    if name in READY:
        raise Invalid(f"“{name}” ships with Kovel. Take another name.")
    own_outputs = json.loads(kept_settings.get(data_folder.db, "outputs", "{}"))
    own_outputs.pop(name, None)
    if output is not None:
        own_outputs[name] = replace(output, start=0, end=None).to_json()
    kept_settings.put(data_folder.db, "outputs", json.dumps(own_outputs))


def _hold(data_folder: DataFolder, job: Job) -> Hold | None:
    """Held while a sound that it reads is being made, or a recording is made again."""
    held = hold_for_sounds(data_folder, job)
    if held is not None:
        return held
    coming = {str(job.recording) for job in jobs.unfinished(data_folder.db) if job.kind == "prepare"}
    files = job.params.get("files", {})
    mended = (
        file.get("pcm") and key in coming and not whole_sound(Path(file["pcm"]).parent) for key, file in files.items()
    )
    return Hold() if any(mended) else None


RENDER = JobKind("render", "render", hold=_hold, steps=RENDER_STEPS)
