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


def _job(request: Request, r: Recording) -> jobs.Job | None:
    job = jobs.latest_of_recordings(web(request).data.db, r.project, "pulse").get(r.id)
    return job if job and (job.is_open or job.has_failed) else None


def _coming(data: DataFolder, r: Recording) -> bool:
    facts = media_facts(data, r.id) or {}
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


def _quick(request: Request, project: int, r: Recording) -> QuickView:
    w = web(request)
    p = projects.get(w.data.db, project)
    d = decisions.quick(w.data.db, r.id)
    marks, _ = quick_cuts.marks(w.data, r.id, p.rate, d)
    cuts = quick_cuts.pieces(w.data, r.id, p.rate, d)
    hits = [m.frame for m in marks if m.on]
    b = quick_cuts.beats(w.data, d.music) if d.music is not None else None
    worst = None
    if b and b.beats:
        off = quick_cuts.off_beat(cuts, hits, [p.rate.sample_to_frame(x - b.beats[0]) for x in b.beats])
        worst = max(off, default=0)
    job = _job(request, r)
    if job is None and b is not None and not b.beats and d.music is not None:
        job = _job(request, recordings.get(w.data.db, d.music))  # its beats are being found: the page follows that
    faces = [face_of(w.data, r, c.start if c.hit is None else hits[c.hit], p.rate) for c in cuts[:SHOWN]]
    return QuickView(
        p, r, r.length(p.rate), float(p.rate.fps), job, _coming(w.data, r), quick_cuts.pulse(w.data, r.id) is not None, d, marks, len(hits),
        [CutDrawn(c, face) for c, face in zip(cuts, faces, strict=False)], len(cuts), max(0, len(cuts) - SHOWN), sum(c.length for c in cuts),
        [x for x in recordings.of_project(w.data.db, project) if x.kind == "music" and x.ready], worst,
    )  # fmt: skip


def _rows(request: Request, project: int) -> list[Recording]:
    return [r for r in recordings.of_project(web(request).data.db, project) if r.sound and not r.aside and r.ready]


@router.get("/hits")
def room(request: Request, project: int, rec: int | None = None) -> HTMLResponse:
    w = web(request)
    p = projects.get(w.data.db, project)
    rows = _rows(request, project)
    chosen = next((r for r in rows if r.id == rec), None) or next(
        (r for r in rows if r.kind == "b-roll"), rows[0] if rows else None
    )
    faces = {r.id: face_of(w.data, r, r.face(p.rate), p.rate) for r in rows}
    if chosen is None:
        return page(request, "tighten/hits.html", room="tighten", project=p, rows=rows, faces=faces, r=None)
    if quick_cuts.pulse(w.data, chosen.id) is None and _job(request, chosen) is None:
        quick_cuts.find(w.data, chosen.id)
    return page(request, "tighten/hits.html", _view(request, project, chosen), room="tighten", rows=rows, faces=faces)


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


def _view(request: Request, project: int, r: Recording) -> QuickView | BeatsView:
    if r.kind != "music":
        return _quick(request, project, r)
    w = web(request)
    p = projects.get(w.data.db, project)
    b = quick_cuts.beats(w.data, r.id)
    down = set(b.downbeats)
    lines = [(p.rate.sample_to_frame(x), x in down) for x in b.beats]
    return BeatsView(p, r, r.length(p.rate), float(p.rate.fps), _job(request, r), _coming(w.data, r), b, lines)


def _drawn(request: Request, project: int, r: Recording, did: str = "") -> HTMLResponse:
    part = "tighten/beats.html" if r.kind == "music" else "tighten/hit_list.html"
    return joined(render(part, _view(request, project, r)), report(did) if did else "")


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
        kept = {k: v for k, v in (("before", self.before), ("length", self.length)) if v is not None}
        return {**kept, "intro": self.intro or 0, "target": self.target}


@router.post("/hits/{recording}")
def change(request: Request, project: int, recording: int, asked: Annotated[QuickAsked, sent(QuickAsked)]) -> HTMLResponse:
    data = web(request).data
    r = the_recording(request, project, recording)
    if asked.toggle is not None:
        return _drawn(request, project, r, quick_cuts.toggle(data, recording, asked.toggle))
    did = quick_cuts.set_up(data, recording, asked.how, asked.ring, asked.sensitivity, asked.music)
    return _drawn(request, project, r, did)


class BeatsAsked(Sent):
    do: quick_cuts.Correction
    by: int = 0  # ms
    taps: Annotated[tuple[int, ...], BeforeValidator(lambda x: x.split(",") if x else ())] = ()  # samples


@router.post("/beats/{recording}")
def correct(request: Request, project: int, recording: int, asked: Annotated[BeatsAsked, sent(BeatsAsked)]) -> HTMLResponse:
    """The beats of a music bed, corrected by hand."""
    r = the_recording(request, project, recording)
    did = quick_cuts.correct_beats(web(request).data, recording, asked.do, asked.by, asked.taps)
    return _drawn(request, project, r, did)


@router.get("/hits/{recording}/plan")
def plan(request: Request, project: int, recording: int) -> JSONResponse:
    """The quick cut as a plan for the player."""
    w = web(request)
    p = projects.get(w.data.db, project)
    r = the_recording(request, project, recording)
    cuts = quick_cuts.pieces(w.data, recording, p.rate, decisions.quick(w.data.db, recording))
    story = Story(p.rate, tuple(Piece(i, r.id, c.start, c.length) for i, c in enumerate(cuts, 1)), next_id=len(cuts) + 1)
    return plan_answer(w, make_plan(story, {r.id: r.source}), {r.id: r.source})


@router.post("/hits/{recording}/send")
def send(
    request: Request,
    project: int,
    recording: int,
    where: Annotated[str, Form()] = "end",
    at: Annotated[int | None, Form()] = None,
) -> HTMLResponse:
    """The quick cut as pieces of the story: one undo step."""
    w = web(request)
    p = projects.get(w.data.db, project)
    the_recording(request, project, recording)
    cuts = quick_cuts.pieces(w.data, recording, p.rate, decisions.quick(w.data.db, recording))
    if not cuts:
        raise Invalid("There are no hits to make pieces of. Raise the sensitivity, or choose another take.")
    ranges = [(recording, c.start, c.length) for c in cuts]
    done = stories.put_in(w.data.db, project, ranges, at if where == "playhead" else None)
    return joined(report(done.did + ". One undo in the Story takes it back.", done.notes), hx_reswap="none")
