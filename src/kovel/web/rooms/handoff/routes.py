"""The Hand-off room: what to look at before, outputs with what is to be expected of them and what they became, open
formats."""

from __future__ import annotations

import mimetypes
import os
import re
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, File, Form, Query, Request, UploadFile
from fastapi.responses import FileResponse, HTMLResponse, Response
from pydantic import BaseModel

from kovel.core.errors import Invalid, Missing, Told
from kovel.core.plan.outputs import OUTPUT_KINDS, Output
from kovel.core.plan.plan import make_plan
from kovel.core.story.model import Item, Sources, Story
from kovel.core.story.seams import seams
from kovel.core.story.settings import SHAPES
from kovel.core.time.rate import RATES, Rate
from kovel.core.time.timecode import parse_entry, stamp
from kovel.data_folder import DataFolder
from kovel.exchange.documents import DOCUMENTS
from kovel.exchange.timelines import TIMELINES
from kovel.services.handoff import archiving
from kovel.services.handoff.rendering import READY, Estimate, estimate, keep_ready, ready, start_output
from kovel.services.story.story_checks import findings
from kovel.services.story.timeline_import import LARGEST, bring_in
from kovel.store import jobs, projects, recordings, stories
from kovel.store.jobs import JobState
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.store.stories import Kept
from kovel.web.pages import download, joined, page, report, size, web
from kovel.web.small_frames import Face, face_of

router = APIRouter(prefix="/p/{project}")
MADE = ("render", "archive")  # the jobs whose files are handed off


@dataclass(frozen=True, slots=True)
class Made:
    """A file that was handed off, or is being made: its job, its name, whether it is still there, what became of it."""

    job: jobs.Job
    name: str
    there: bool
    became: str
    checked: str  # that it was held against the story, and nothing differs
    differs: list[str]  # else where it does, and how


@dataclass(frozen=True, slots=True)
class Renders:
    """What was made of a project to hand off, as parts/renders.html draws it."""

    project: Project
    renders: list[Made]
    busy: bool


def _renders(request: Request, project: int) -> Renders:
    database = web(request).data.db
    made_renders = [
        Made(job, Path(job.params["out"]).name, os.path.exists(job.params["out"]), _became(job), *_checked(job))
        for job in jobs.of_project(database, project)
        if job.kind in MADE
    ]
    return Renders(
        projects.get(database, project), made_renders, any(made_render.job.is_open for made_render in made_renders)
    )


class Asked(BaseModel):
    """An output as the form has it: times as they are typed, empty for what is the story's own."""

    kind: str = "mp4"
    quality: str = "high"
    shape: str = "as the story"
    height: str = ""
    rate: str = ""
    start: str = ""
    end: str = ""
    captions: bool = False
    name: str = ""  # under which it is to be kept

    def output(self, frame_rate: Rate) -> Output:
        """What is asked for; `Invalid` or `TimeError` for what cannot be read."""
        number = self.height.strip().removesuffix("lines").strip()
        if number and not number.isdecimal():
            raise Invalid("The height is a number of lines, such as 1080.")
        own_rate = Rate(*map(int, self.rate.split("/"))) if re.fullmatch(r"\d{1,6}/\d{1,5}", self.rate) else None
        start, end = (parse_entry(text, frame_rate) if text.strip() else None for text in (self.start, self.end))
        return Output(self.kind, self.quality, self.shape, int(number or 0), own_rate, start or 0, end, self.captions)

    @staticmethod
    def of(this_output: Output, frame_rate: Rate) -> Asked:
        """An output as the form shows it."""
        own_rate = f"{this_output.rate.num}/{this_output.rate.den}" if this_output.rate else ""
        start = stamp(this_output.start, frame_rate) if this_output.start else ""
        return Asked(
            kind=this_output.kind,
            quality=this_output.quality,
            shape=this_output.shape,
            height=str(this_output.height or ""),
            rate=own_rate,
            start=start,
            end="" if this_output.end is None else stamp(this_output.end, frame_rate),
            captions=this_output.captions,
        )


@dataclass(frozen=True, slots=True)
class OutputForm:
    """The form of an output: what is asked, what may be chosen, and what is to be expected of it or why it cannot be
    made."""

    asked: Asked
    kinds: tuple[tuple[str, str], ...]
    shapes: tuple[str, ...]
    heights: tuple[str, ...]
    rates: tuple[tuple[str, str], ...]
    ready: tuple[str, ...]
    own: tuple[str, ...]  # of them those that can be taken out again
    seen: bool
    one: bool
    told: str
    refused: str
    empty: bool


def _form(request: Request, kept_story: Kept, asked: Asked) -> OutputForm:
    data_folder = web(request).data
    project = projects.get(data_folder.db, kept_story.project)
    told_size = refused = ""
    kind = OUTPUT_KINDS.get(asked.kind)
    if kept_story.story.pieces:
        try:
            this_estimate = estimate(data_folder, kept_story, asked.output(project.rate))
            told_size = _expected(this_estimate, asked, project.rate)
        except Told as error:
            refused = str(error)
    else:
        refused = "The story is empty: there is nothing to render yet."
    choices = ready(data_folder)
    return OutputForm(
        asked,
        tuple((kind.name, kind.label) for kind in OUTPUT_KINDS.values()),
        ("as the story", *(shape for shape in SHAPES if SHAPES[shape])),
        HEIGHTS,
        tuple((f"{rate.num}/{rate.den}", str(rate)) for rate in RATES),
        tuple(choices),
        tuple(choice for choice in choices if choice not in READY),
        bool(kind and kind.seen),
        asked.kind == "still",
        told_size,
        refused,
        not kept_story.story.pieces,
    )


HEIGHTS = ("720", "1080", "1440", "2160")


def _expected(this_estimate: Estimate, asked: Asked, frame_rate: Rate) -> str:
    """In words: its size in pixels, how long it is, what it will take."""
    kind = OUTPUT_KINDS[asked.kind]
    seen = [f"{this_estimate.size[0]} × {this_estimate.size[1]}"] if kind.seen or asked.kind == "still" else []
    lasts = [] if asked.kind == "still" else [stamp(this_estimate.frames, frame_rate)]
    took = (
        f"{max(1, round(this_estimate.seconds))} s"
        if this_estimate.seconds < 90
        else f"{this_estimate.seconds / 60:.0f} minutes"
    )
    return " · ".join([*seen, *lasts, f"about {size(this_estimate.bytes)}", f"about {took} to make"])


@dataclass(frozen=True, slots=True)
class TimelineRow:
    """A timeline format as the page offers it; `left`: what of the story it cannot hold."""

    name: str
    label: str
    holds: str
    left: list[str]


def _timelines(data_folder: DataFolder, project: int, kept_story: Kept) -> list[TimelineRow]:
    of, recordings_by_id = projects.get(data_folder.db, project), _rows(data_folder, project)
    return [
        TimelineRow(
            timeline_format.name,
            timeline_format.label,
            timeline_format.holds,
            timeline_format.left(kept_story.story, of, recordings_by_id),
        )
        for timeline_format in TIMELINES.values()
    ]


@router.get("/handoff")
def room(request: Request, project: int) -> HTMLResponse:
    application = web(request)
    kept_story = stories.load(application.data.db, stories.current(application.data.db, project))
    return page(
        request,
        "handoff/room.html",
        _renders(request, project),
        room="handoff",
        kept=kept_story,
        form=_form(request, kept_story, Asked()),
        documents=DOCUMENTS.values(),
        not_taken=stories.not_taken(application.data.db, kept_story.id),
        findings=findings(application.data, project, kept_story.story),
        strip=_strip(request, kept_story),
        facts=_facts(application.data, kept_story),
        timelines=_timelines(application.data, project, kept_story),
        timeline_suffixes=",".join(dict.fromkeys(f".{known_format.ending}" for known_format in TIMELINES.values())),
    )


@router.get("/handoff/output")
def output(request: Request, project: int, asked: Annotated[Asked, Query()], choice: str = "") -> HTMLResponse:
    """The form as it stands now, or with a ready-made choice in it, and what is to be expected."""
    database = web(request).data.db
    kept_story = stories.load(database, stories.current(database, project))
    frame_rate = projects.get(database, project).rate
    if choice and (output_found := ready(web(request).data).get(choice)):
        asked = Asked.of(output_found, frame_rate).model_copy(update={"start": asked.start, "end": asked.end})
    return page(
        request, "handoff/output.html", form=_form(request, kept_story, asked), project=projects.get(database, project)
    )


@router.post("/handoff/ready")
def keep_choice(request: Request, project: int, asked: Annotated[Asked, Form()]) -> HTMLResponse:
    """Keep the form as a choice under a name."""
    data_folder = web(request).data
    keep_ready(data_folder, asked.name, asked.output(projects.get(data_folder.db, project).rate))
    return joined(output(request, project, asked), report(f"“{asked.name.strip()}” is kept, for every project."))


@router.post("/handoff/ready/away")
def drop_choice(
    request: Request, project: int, asked: Annotated[Asked, Form()], name: Annotated[str, Query()] = ""
) -> HTMLResponse:
    keep_ready(web(request).data, name, None)
    return joined(output(request, project, asked), report(f"“{name}” is taken out."))


def _rows(data_folder: DataFolder, project: int) -> dict[int, Recording]:
    return {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}


@dataclass(frozen=True, slots=True)
class Step:
    """What the story shows at a frame, as a small frame; None for black and cards."""

    at: int
    face: Face | None


def _strip(request: Request, kept_story: Kept, most: int = 10) -> list[Step]:
    """The story at even steps."""
    application = web(request)
    recordings_by_id = _rows(application.data, kept_story.project)
    plan = make_plan(kept_story.story, {key: recording.source for key, recording in recordings_by_id.items()})
    n = min(most, kept_story.story.length)
    strip_blocks = []
    for block_index in range(n):
        t = kept_story.story.length * (2 * block_index + 1) // (2 * n)
        run = plan.picture_at(t)
        recording = recordings_by_id.get(run.source) if run.source is not None else None
        strip_blocks.append(
            Step(
                t,
                face_of(application.data, recording, run.image.later(t - run.at).start, plan.rate)
                if recording
                else None,
            )
        )
    return strip_blocks


def _facts(data_folder: DataFolder, kept_story: Kept) -> list[tuple[str, str]]:
    """The story in numbers."""
    story = kept_story.story
    exposed = sum(seam.kind == "jump" for seam in seams(story, recordings.sources(data_folder.db, kept_story.project)))
    used = (
        {piece.source for piece in story.pieces if piece.source is not None}
        | {cover.source for cover in story.covers if cover.source}
        | {sound.source for sound in story.sounds}
    )
    aim = f", aimed at {stamp(story.target, story.rate)}" if story.target else ""
    return [
        ("Length", stamp(story.length, story.rate) + aim),
        ("Pieces", str(len(story.pieces))),
        ("Recordings used", str(len(used))),
        (
            "Covers",
            f"{sum(not cover.title for cover in story.covers)}{f', {len(story.loose)} loose' if story.loose else ''}",
        ),
        ("Titles", str(sum(bool(cover.title) for cover in story.covers))),
        ("Sounds", str(len(story.sounds))),
        ("Exposed jumps", str(exposed)),
        ("Muted", _muted(story, recordings.sources(data_folder.db, kept_story.project))),
    ]


def _muted(story: Story, sources: Sources) -> str:
    """What of a story is not heard by choice: lanes, and what is muted one by one."""
    clips: list[Item] = [*story.pieces, *story.covers, *story.sounds]
    alone = sum(bool(story.value(clip, "mute", sources)) for clip in clips)
    muted_names = [*sorted(story.muted), *([f"{alone} clip{'s' if alone != 1 else ''}"] if alone else [])]
    return ", ".join(muted_names) or "nothing"


def _became(job: jobs.Job) -> str:
    """What an output became, and what was measured of it."""
    told_result = job.result or {}
    if "bytes" not in told_result:
        return ""
    told_facts = [size(told_result["bytes"])]
    told_facts += [f"{told_result['size'][0]} × {told_result['size'][1]}"] if told_result.get("size") else []
    told_facts += (
        [f"{told_result['frames']} frames"]
        if told_result.get("loudness", told_result.get("parts")) or told_result.get("size")
        else []
    )
    told_facts += [f"{told_result['loudness']:g} LUFS"] if told_result.get("loudness") is not None else []
    told_facts += [f"{told_result['peak']:g} dBTP"] if told_result.get("loudness") is not None else []
    if told_result.get("parts"):
        again = told_result["parts"] - told_result["anew"]
        told_facts += [
            f"made in {told_result['took']:g} s"
            + (f", {again} of {told_result['parts']} parts as they were" if again else "")
        ]
    return " · ".join(told_facts)


def _checked(job: jobs.Job) -> tuple[str, list[str]]:
    """What was found when the file was opened again and held against the story."""
    differs = (job.result or {}).get("differs")
    if not job.is_done or differs is None:
        return "", []
    seen = OUTPUT_KINDS[Output.from_json(job.params["output"]).kind].seen
    return (
        "" if differs else f"Checked: every {'picture and sound' if seen else 'sound'} is there as in the story.",
        differs,
    )


@router.get("/handoff/renders")
def renders(request: Request, project: int) -> HTMLResponse:
    return page(request, "handoff/renders.html", _renders(request, project))


@router.post("/handoff/render")
def render(request: Request, project: int, asked: Annotated[Asked, Form()]) -> HTMLResponse:
    application = web(request)
    this_output = asked.output(projects.get(application.data.db, project).rate)
    job = start_output(application.data, stories.current(application.data.db, project), this_output)
    return joined(
        page(request, "handoff/renders.html", _renders(request, project)),
        report(f"Rendering {Path(job.params['out']).name}."),
    )


def _job(request: Request, project: int, job: int) -> jobs.Job:
    this_job = jobs.get(web(request).data.db, job)
    if this_job.project != project or this_job.kind not in MADE:
        raise Missing("There is no such render.")
    return this_job


@router.post("/handoff/renders/{job}/cancel")
def cancel(request: Request, project: int, job: int) -> HTMLResponse:
    database = web(request).data.db
    jobs.end(database, _job(request, project, job).id, JobState.CANCELLED)
    return joined(
        page(request, "handoff/renders.html", _renders(request, project)),
        report("Render stopped. Nothing half made was left behind."),
    )


@router.post("/handoff/renders/{job}/retry")
def retry(request: Request, project: int, job: int) -> HTMLResponse:
    database = web(request).data.db
    jobs.again(database, _job(request, project, job).id)
    return page(request, "handoff/renders.html", _renders(request, project))


@router.get("/handoff/renders/{job}/file")
def file(request: Request, project: int, job: int) -> FileResponse:
    path = _job(request, project, job).params["out"]
    if not os.path.exists(path):
        raise Missing("That file is not there any more. Render again.")
    if os.path.isdir(path):  # stems, as one file
        return FileResponse(zipped(Path(path)), media_type="application/zip", filename=f"{Path(path).name}.zip")
    return FileResponse(
        path, media_type=mimetypes.guess_type(path)[0] or "application/octet-stream", filename=Path(path).name
    )


@router.post("/timeline.in")
def timeline_in(request: Request, project: int, file: Annotated[UploadFile, File()]) -> Response:
    """A story made elsewhere, as a story of its own; what could not be taken is told where it opens."""
    data_folder = web(request).data
    name = Path(file.filename or "timeline").name
    body = file.file.read(LARGEST + 1)
    *_, left_out = bring_in(data_folder, project, Path(name).suffix.lower().lstrip("."), name, body)
    return Response(
        status_code=204, headers={"hx-redirect": f"/p/{project}/handoff" if left_out else f"/p/{project}/story"}
    )


@router.post("/handoff/archive")
def archive(request: Request, project: int, media: Annotated[archiving.Media, Form()] = "none") -> HTMLResponse:
    """The whole project as one file: without its recordings, with those that are used, or with all."""
    job, what = archiving.start_archive(web(request).data, project, media)
    notes = [f"{name} is off-line: its file is not in it." for name in what.missing]
    said_report = report(f"Writing {Path(job.params['out']).name}.", tuple(notes))
    return joined(page(request, "handoff/renders.html", _renders(request, project)), said_report)


def zipped(folder: Path) -> Path:
    """The files of a folder of stems as one, made once."""
    zip_file = folder.with_name(f"{folder.name}.zip")
    if not zip_file.exists():
        part = zip_file.with_name(f"{zip_file.name}.part")
        with zipfile.ZipFile(part, "w") as zip_archive:
            for path in sorted(folder.iterdir()):
                zip_archive.write(path, path.name)
        part.replace(zip_file)
    return zip_file


@router.get("/export/{kind}")
def export(request: Request, project: int, kind: str) -> Response:
    """The story in one of TIMELINES."""
    database = web(request).data.db
    format = TIMELINES.get(kind)
    if format is None:
        raise Missing("There is no such format.")
    this_project = projects.get(database, project)
    kept_story = stories.load(database, stories.current(database, project))
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(database, project)}
    return download(
        format.write(kept_story.story, kept_story.name, this_project, recordings_by_id),
        f"{this_project.name}.{format.ending}",
        format.media_type,
    )
