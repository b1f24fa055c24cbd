"""Hits and beats: quick cuts on sounds, heard and seen before they go to the story."""

from dataclasses import dataclass
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BeforeValidator

from kovel.core.errors import Invalid
from kovel.core.plan.plan import make_plan
from kovel.core.sound.beats import Beats
from kovel.core.sound.hits import Cut
from kovel.core.story.model import Piece, Story
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder, media_facts
from kovel.services.tighten import quick_cuts
from kovel.services.tighten.quick_cuts import Mark
from kovel.store import decisions, jobs, projects, recordings, stories
from kovel.store.decisions import QuickDesk
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.web.forms import Number, Sent, Ticked, Whole, sent
from kovel.web.pages import joined, page, plan_answer, render, report, the_recording, web
from kovel.web.small_frames import Face, face_of

SHOWN = 60  # pieces drawn with a frame
router = APIRouter(prefix="/p/{project}")


def _job(request: Request, recording: Recording) -> jobs.Job | None:
    job = jobs.latest_of_recordings(web(request).data.db, recording.project, "pulse").get(recording.id)
    return job if job and (job.is_open or job.has_failed) else None


def _coming(data_folder: DataFolder, recording: Recording) -> bool:
    facts = media_facts(data_folder, recording.id) or {}
    return bool(facts.get("sound")) and not facts.get("sounded")


@dataclass(frozen=True, slots=True)
class CutDrawn:
    """A piece of the quick cut, with the frame that stands for it."""

    cut: Cut
    face: Face | None


@dataclass(frozen=True, slots=True)
class QuickView:
    """The quick cut of a take, as parts/hits.html draws it. Frames of the project."""

    project: Project
    r: Recording
    total: int
    fps: float
    job: jobs.Job | None
    coming: bool  # whether its sound is still being made
    found: bool  # whether it was listened to, if only in part
    desk: QuickDesk
    marks: list[Mark]
    used: int  # of the marks
    shown: list[CutDrawn]
    pieces: int
    more: int  # pieces that are not shown
    length: int
    music: list[Recording]
    worst: int | None  # frames a hit lies off its beat


def _quick(request: Request, project: int, recording: Recording) -> QuickView:
    application = web(request)
    this_project = projects.get(application.data.db, project)
    desk = decisions.quick(application.data.db, recording.id)
    marks, _ = quick_cuts.marks(application.data, recording.id, this_project.rate, desk)
    cuts = quick_cuts.pieces(application.data, recording.id, this_project.rate, desk)
    hits = [mark.frame for mark in marks if mark.on]
    beats = quick_cuts.beats(application.data, desk.music) if desk.music is not None else None
    job = _job(request, recording)
    if job is None and beats is not None and not beats.beats and desk.music is not None:
        # its beats are being found: the page follows that
        job = _job(request, recordings.get(application.data.db, desk.music))
    faces = [
        face_of(application.data, recording, cut.start if cut.hit is None else hits[cut.hit], this_project.rate)
        for cut in cuts[:SHOWN]
    ]
    return QuickView(
        this_project,
        recording,
        recording.length(this_project.rate),
        float(this_project.rate.fps),
        job,
        _coming(application.data, recording),
        quick_cuts.pulse(application.data, recording.id) is not None,
        desk,
        marks,
        len(hits),
        [CutDrawn(cut, face) for cut, face in zip(cuts, faces, strict=False)],
        len(cuts),
        max(0, len(cuts) - SHOWN),
        sum(cut.length for cut in cuts),
        [
            this_recording
            for this_recording in recordings.of_project(application.data.db, project)
            if this_recording.kind == "music" and this_recording.ready
        ],
        _worst(cuts, hits, beats, this_project.rate),
    )


def _worst(cuts: list[Cut], hits: list[int], beats: Beats | None, frame_rate: Rate) -> int | None:
    """Frames by which a hit lies off its beat at most; None without beats."""
    if beats is None or not beats.beats:
        return None
    on = [frame_rate.sample_to_frame(beat - beats.beats[0]) for beat in beats.beats]
    return max(quick_cuts.off_beat(cuts, hits, on), default=0)


def _rows(request: Request, project: int) -> list[Recording]:
    return [
        recording
        for recording in recordings.of_project(web(request).data.db, project)
        if recording.sound and not recording.aside and recording.ready
    ]


@dataclass(frozen=True, slots=True)
class NothingHeard:
    """The room where no recording can be opened."""

    project: Project
    rows: list[Recording]
    faces: dict[int, Face | None]
    r: None


@router.get("/hits")
def room(request: Request, project: int, rec: int | None = None) -> HTMLResponse:
    application = web(request)
    this_project = projects.get(application.data.db, project)
    heard_recordings = _rows(request, project)
    chosen = next((recording for recording in heard_recordings if recording.id == rec), None) or next(
        (recording for recording in heard_recordings if recording.kind == "b-roll"),
        heard_recordings[0] if heard_recordings else None,
    )
    faces = {
        recording.id: face_of(application.data, recording, recording.face(this_project.rate), this_project.rate)
        for recording in heard_recordings
    }
    if chosen is None:
        return page(
            request,
            "tighten/hits.html",
            NothingHeard(project=this_project, rows=heard_recordings, faces=faces, r=None),
            room="tighten",
        )
    if quick_cuts.pulse(application.data, chosen.id) is None and _job(request, chosen) is None:
        quick_cuts.find(application.data, chosen.id)
    return page(
        request,
        "tighten/hits.html",
        _view(request, project, chosen),
        room="tighten",
        rows=heard_recordings,
        faces=faces,
    )


@dataclass(frozen=True, slots=True)
class BeatsView:
    """The beats of a music bed, as parts/beats.html draws them: frames of the project, and which begin a bar."""

    project: Project
    r: Recording
    total: int
    fps: float
    job: jobs.Job | None
    coming: bool  # whether its sound is still being made
    beats: Beats
    lines: list[tuple[int, bool]]


def _view(request: Request, project: int, recording: Recording) -> QuickView | BeatsView:
    if recording.kind != "music":
        return _quick(request, project, recording)
    application = web(request)
    this_project = projects.get(application.data.db, project)
    beats = quick_cuts.beats(application.data, recording.id)
    down = set(beats.downbeats)
    lines = [(this_project.rate.sample_to_frame(beat), beat in down) for beat in beats.beats]
    return BeatsView(
        this_project,
        recording,
        recording.length(this_project.rate),
        float(this_project.rate.fps),
        _job(request, recording),
        _coming(application.data, recording),
        beats,
        lines,
    )


def _drawn(request: Request, project: int, recording: Recording, did: str = "") -> HTMLResponse:
    part = "tighten/beats.html" if recording.kind == "music" else "tighten/hit_list.html"
    return joined(render(part, _view(request, project, recording)), report(did) if did else "")


@router.get("/hits/{recording}")
def fresh(request: Request, project: int, recording: int) -> HTMLResponse:
    return _drawn(request, project, the_recording(request, project, recording))


class QuickAsked(Sent):
    """A hit to leave out or take in (its sample), or else how the quick cut is made."""

    toggle: int | None = None
    before: Whole = None
    length: Whole = None
    intro: Whole = None
    target: Whole = None
    ring: Ticked = False
    sensitivity: Number = None
    music: Whole = None

    @property
    def how(self) -> dict[str, int | None]:
        """The settings of a quick cut that were sent."""
        kept = {name: value for name, value in (("before", self.before), ("length", self.length)) if value is not None}
        return {**kept, "intro": self.intro or 0, "target": self.target}


@router.post("/hits/{recording}")
def change(
    request: Request, project: int, recording: int, asked: Annotated[QuickAsked, sent(QuickAsked)]
) -> HTMLResponse:
    data_folder = web(request).data
    this_recording = the_recording(request, project, recording)
    if asked.toggle is not None:
        return _drawn(request, project, this_recording, quick_cuts.toggle(data_folder, recording, asked.toggle))
    summary = quick_cuts.set_up(data_folder, recording, asked.how, asked.ring, asked.sensitivity, asked.music)
    return _drawn(request, project, this_recording, summary)


class BeatsAsked(Sent):
    do: quick_cuts.Correction
    by: int = 0  # ms
    taps: Annotated[tuple[int, ...], BeforeValidator(lambda x: x.split(",") if x else ())] = ()  # samples


@router.post("/beats/{recording}")
def correct(
    request: Request, project: int, recording: int, asked: Annotated[BeatsAsked, sent(BeatsAsked)]
) -> HTMLResponse:
    """The beats of a music bed, corrected by hand."""
    this_recording = the_recording(request, project, recording)
    summary = quick_cuts.correct_beats(web(request).data, recording, asked.do, asked.by, asked.taps)
    return _drawn(request, project, this_recording, summary)


@router.get("/hits/{recording}/plan")
def plan(request: Request, project: int, recording: int) -> JSONResponse:
    """The quick cut as a plan for the player."""
    application = web(request)
    this_project = projects.get(application.data.db, project)
    this_recording = the_recording(request, project, recording)
    cuts = quick_cuts.pieces(
        application.data, recording, this_project.rate, decisions.quick(application.data.db, recording)
    )
    story = Story(
        this_project.rate,
        tuple(Piece(index, this_recording.id, cut.start, cut.length) for index, cut in enumerate(cuts, 1)),
        next_id=len(cuts) + 1,
    )
    return plan_answer(
        application,
        make_plan(story, {this_recording.id: this_recording.source}),
        {this_recording.id: this_recording.source},
    )


@router.post("/hits/{recording}/send")
def send(
    request: Request,
    project: int,
    recording: int,
    where: Annotated[str, Form()] = "end",
    at: Annotated[int | None, Form()] = None,
) -> HTMLResponse:
    """The quick cut as pieces of the story: one undo step."""
    application = web(request)
    this_project = projects.get(application.data.db, project)
    the_recording(request, project, recording)
    cuts = quick_cuts.pieces(
        application.data, recording, this_project.rate, decisions.quick(application.data.db, recording)
    )
    if not cuts:
        raise Invalid("There are no hits to make pieces of. Raise the sensitivity, or choose another take.")
    ranges = [(recording, cut.start, cut.length) for cut in cuts]
    done = stories.put_in(application.data.db, project, ranges, at if where == "playhead" else None)
    return joined(report(done.did + ". One undo in the Story takes it back.", done.notes), hx_reswap="none")
