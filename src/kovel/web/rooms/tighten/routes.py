"""The Tighten room: what could go from a recording, why, how it would sound; then as pieces in the story."""

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response
from pydantic import BeforeValidator, Field

from kovel.core.errors import Invalid, Missing
from kovel.core.plan.plan import make_plan
from kovel.core.sound.levels import TICK, Levels
from kovel.core.sound.pauses import VOICE, Hills, hills
from kovel.core.story.model import Piece, Report, Story
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, parse_seconds, running
from kovel.core.words.fillers import PROPOSAL_KINDS, kept
from kovel.core.words.languages import Language
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder, media_facts
from kovel.services.log import speech_levels
from kovel.services.log.recording_languages import LISTS, spoken
from kovel.services.tighten import proposals
from kovel.services.tighten.proposals import StoryCut
from kovel.store import jobs, projects, recordings, stories, subclips, transcripts
from kovel.store.decisions import Desk
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.store.subclips import Subclip
from kovel.web.forms import Number, Sent, Ticked, sent
from kovel.web.pages import download, joined, page, plan_answer, render, report, the_recording, web
from kovel.web.small_frames import face_of

router = APIRouter(prefix="/p/{project}")
MOST = 400  # proposals drawn in the list at a time
LOW, HIGH = -80, 0  # dBFS of the level picture


def _range(request: Request, project: int, recording: Recording, clip: int | None) -> tuple[int, int, str]:
    """What of a recording is worked on: all of it, or a subclip."""
    database = web(request).data.db
    total = recording.length(projects.get(database, project).rate)
    if clip is None:
        return 0, total, ""
    subclip = subclips.get(database, clip)
    if subclip.recording != recording.id:
        raise Missing("That subclip is of another recording.")
    return subclip.start, subclip.end, subclip.name


@dataclass(frozen=True, slots=True)
class HillsDrawn:
    """The two hills as SVG areas 300 wide and 90 high, with the floor and the threshold as places on them."""

    speech: str
    background: str
    floor: float
    threshold: float
    at: float  # dBFS of the threshold
    floor_db: float
    scale: list[tuple[int, float]]  # dBFS and their places


def _drawn_hills(this_hills: Hills) -> HillsDrawn:
    def x(db: float) -> float:
        return 300 * (min(HIGH, max(LOW, db)) - LOW) / (HIGH - LOW)

    top = max(
        1,
        int(this_hills.speech[LOW - this_hills.low :].max(initial=1)),
        int(this_hills.background[LOW - this_hills.low :].max(initial=1)),
    )

    def area(counts: np.ndarray) -> str:
        points = [
            f"{x(this_hills.low + index + 0.5):.1f},{88 - 80 * min(1.0, float(count) / top):.1f}"
            for index, count in enumerate(counts)
            if this_hills.low + index >= LOW
        ]
        return f"M0,88 L{' L'.join(points)} L300,88 Z"

    scale = [(db, x(db)) for db in (-60, -40, -20)]
    return HillsDrawn(
        area(this_hills.speech),
        area(this_hills.background),
        x(this_hills.floor),
        x(this_hills.threshold),
        this_hills.threshold,
        this_hills.floor,
        scale,
    )


def _struck(words: Sequence[Word], found: list[proposals.Row], frame_rate: Rate) -> list[tuple[int, int, str, int]]:
    """Runs [i, j) of words that a proposal is about: its key, and 1 if it takes them out."""
    middles = [(word.start + word.end) // 2 for word in words]
    to_sample = frame_rate.frame_to_sample
    runs = [
        (
            bisect_right(middles, to_sample(found_row.start)),
            bisect_left(middles, to_sample(found_row.end)),
            found_row.key,
            int(found_row.out),
        )
        for found_row in found
    ]
    return [run for run in runs if run[0] < run[1]]


NAMES = {
    "pause": "Pauses",
    "filler": "Fillers",
    "voice": "Sounds without a word",
    "repeat": "Repeats",
    "false start": "False starts",
    "question": "Questions",
}


@dataclass(frozen=True, slots=True)
class Kind:
    """Proposals of one kind: how many there are, and how many of them go."""

    key: str
    name: str
    count: int
    out: int


@dataclass(frozen=True, slots=True)
class Listened:
    """What is to be said while not all of a recording was listened to, and whether more is to come."""

    awaited: bool = False
    listened: str = ""


@dataclass(frozen=True, slots=True)
class DeskView:
    """What is proposed for a recording, or for a subclip of it, as parts/tighten.html draws it. Frames of the
    project."""

    project: Project
    r: Recording
    clip: int | None
    clip_name: str
    start: int
    end: int
    fps: float
    desk: Desk
    shown: list[proposals.Row]
    more: int  # proposals that are not shown
    kinds: list[Kind]
    sums: proposals.Sums
    picture: HillsDrawn | None
    words: Sequence[Word]
    struck: list[tuple[int, int, str, int]]
    voice: str
    tongue: Language
    breath: int
    awaited: bool
    listened: str
    interviewer: str
    clips: list[Subclip]


def _desk(request: Request, project: int, recording: Recording, clip: int | None) -> DeskView:
    application = web(request)
    this_project = projects.get(application.data.db, project)
    start, end, name = _range(request, project, recording, clip)
    desk = proposals.desk(application.data, recording.id)
    proposals_there = [
        proposal_row
        for proposal_row in proposals.rows(application.data, recording.id, this_project.rate, desk)
        if proposal_row.start < end and start < proposal_row.end
    ]
    levels_heard = speech_levels.levels(application.data, recording.id)
    as_kept = {
        kind: [found_row.out for found_row in proposals_there if found_row.kind == kind] for kind in PROPOSAL_KINDS
    }
    picture = None
    begin, until = this_project.rate.frame_to_sample(start), this_project.rate.frame_to_sample(end)
    if levels_heard is not None and len(levels_heard):
        part = levels_heard.between(begin, until)
        mask = speech_levels.speaking(application.data, recording.id, desk.settings)[begin // TICK : -(-until // TICK)]
        picture = _drawn_hills(hills(part, mask[: len(part)], desk.settings))
    said_words = [
        word for word in transcripts.words(application.data.db, recording.id) if word.end > begin and word.start < until
    ]
    told_state = _listened(
        application.data,
        recording.id,
        levels_heard,
        jobs.latest_of_recordings(application.data.db, project, "listen").get(recording.id),
        this_project.rate,
    )
    return DeskView(
        project=this_project,
        r=recording,
        clip=clip,
        clip_name=name,
        start=start,
        end=end,
        fps=float(this_project.rate.fps),
        desk=desk,
        shown=proposals_there[:MOST],
        more=max(0, len(proposals_there) - MOST),
        kinds=[Kind(name, NAMES[name], len(outs), sum(outs)) for name, outs in as_kept.items() if outs],
        sums=proposals.saved(proposals.left(proposals_there, start, end), start, end),
        picture=picture,
        words=said_words,
        struck=_struck(said_words, proposals_there, this_project.rate),
        voice=VOICE,
        tongue=spoken(application.data, recording),
        breath=round((desk.settings.before + desk.settings.after) * float(this_project.rate.fps)),
        awaited=told_state.awaited,
        listened=told_state.listened,
        interviewer=proposals.interviewer(application.data),
        clips=[
            subclip for subclip in subclips.of_recording(application.data.db, recording.id) if subclip.verdict != "drop"
        ],
    )


def _listened(
    data_folder: DataFolder, recording: int, heard: Levels | None, job: jobs.Job | None, frame_rate: Rate
) -> Listened:
    facts = media_facts(data_folder, recording) or {}
    if heard is not None and heard.heard:
        return Listened()
    if heard is not None and facts.get("sound") and not facts.get("sounded"):
        upto = running(frame_rate.sample_to_frame(len(heard) * TICK), frame_rate)
        return Listened(True, f"Its sound is still being made: heard as far as {upto}. What stands here is from that.")
    if job and job.is_open:
        return Listened(True, f"Listening: {job.percent} %. What stands here is from a first pass.")
    if facts.get("sound") and not facts.get("sounded"):
        return Listened(True, "Its sound is still being made; pauses are found once it is there.")
    return Listened(False, "Not listened to yet.")


def _drawn(
    request: Request, project: int, recording: Recording, clip: int | None, did: str, notes: tuple[str, ...] = ()
) -> HTMLResponse:
    return joined(
        render("tighten/proposals.html", _desk(request, project, recording, clip), drawn=True), report(did, notes)
    )


@router.get("/tighten")
def room(request: Request, project: int, rec: int | None = None, clip: int | None = None) -> HTMLResponse:
    application = web(request)
    this_project = projects.get(application.data.db, project)
    heard_recordings = [
        recording
        for recording in recordings.of_project(application.data.db, project)
        if recording.sound and not recording.aside and recording.kind in ("interview", "sound")
    ]
    if clip is not None and rec is None:
        rec = subclips.get(application.data.db, clip).recording
    chosen = next(
        (recording for recording in heard_recordings if recording.id == rec),
        heard_recordings[0] if heard_recordings else None,
    )
    faces = {
        recording.id: face_of(application.data, recording, recording.face(this_project.rate), this_project.rate)
        for recording in heard_recordings
    }
    if chosen is None or not chosen.ready:
        return page(
            request,
            "tighten/room.html",
            room="tighten",
            rows=heard_recordings,
            faces=faces,
            project=this_project,
            r=chosen,
        )
    view = _desk(request, project, chosen, clip)
    return page(request, "tighten/room.html", view, room="tighten", rows=heard_recordings, faces=faces, drawn=False)


@router.get("/tighten/{recording}")
def fresh(request: Request, project: int, recording: int, clip: int | None = None, drawn: bool = False) -> HTMLResponse:
    """The desk; without its words when the page has them `drawn` already."""
    this_recording = the_recording(request, project, recording)
    return joined(render("tighten/proposals.html", _desk(request, project, this_recording, clip), drawn=drawn))


class Toggle(Sent):
    do: Literal["toggle"]
    key: str


class Nudge(Sent):
    do: Literal["nudge"]
    key: str
    edge: Literal["start", "end"] = "end"
    by: int


class All(Sent):
    do: Literal["all"]
    kind: str
    out: Ticked = False


class Protect(Sent):
    do: Literal["protect"]
    a: int
    b: int


class Back(Sent):
    do: Literal["reset", "undo"]


class Values(Sent):
    """The settings as they were typed: seconds as `0.35` or `9f`, a breath in frames, a threshold in dBFS or `auto`."""

    do: Literal["settings"]
    shortest: str = ""
    before: str = ""
    after: str = ""
    island: str = ""
    breath: Number = None
    threshold: Annotated[Number, BeforeValidator(lambda x: None if x == "auto" else x)] = None
    interviewer: str | None = None
    fillers: str = ""
    asking: str = ""

    def changes(self, frame_rate: Rate) -> dict[str, float | None]:
        """The values of `Settings` that were sent; `Invalid` for a length that is none."""
        lengths = {
            field_name: value
            for field_name in ("shortest", "before", "after", "island")
            if (value := getattr(self, field_name))
        }
        try:
            changed_lengths: dict[str, float | None] = {
                name: parse_seconds(length, frame_rate) for name, length in lengths.items()
            }
        except TimeError as error:
            raise Invalid(str(error)) from None
        if self.breath is not None:
            each = proposals.within(0, 100, self.breath) / float(frame_rate.fps) / 2
            changed_lengths |= {"before": round(each, 3), "after": round(each, 3)}
        return changed_lengths | self.given("threshold")


Decision = Annotated[Toggle | Nudge | All | Protect | Back | Values, Field(discriminator="do")]


def _decide(data_folder: DataFolder, recording: int, frame_rate: Rate, asked: Decision) -> str:
    match asked:
        case Toggle():
            return proposals.toggle(data_folder, recording, frame_rate, asked.key)
        case Nudge():
            return proposals.nudge(data_folder, recording, frame_rate, asked.key, asked.edge, asked.by)
        case All():
            return proposals.decide_all(data_folder, recording, frame_rate, asked.kind, asked.out)
        case Protect():
            return proposals.protect(data_folder, recording, asked.a, asked.b)
        case Values():
            return proposals.set_up(
                data_folder, recording, asked.changes(frame_rate), asked.given(*LISTS), asked.interviewer
            )
        case Back():
            return (proposals.reset if asked.do == "reset" else proposals.undo)(data_folder, recording)


@router.post("/tighten/{recording}")
def change(
    request: Request, project: int, recording: int, asked: Annotated[Decision, sent(Decision)], clip: int | None = None
) -> HTMLResponse:
    """A setting or a decision; the desk comes back as it stands then."""
    application = web(request)
    this_recording = the_recording(request, project, recording)
    return _drawn(
        request,
        project,
        this_recording,
        clip,
        _decide(application.data, recording, projects.get(application.data.db, project).rate, asked),
    )


@router.get("/tighten/{recording}/hear")
def hear(
    request: Request, project: int, recording: int, a: int, b: int, without: str = "", decided: bool = False
) -> JSONResponse:
    """Frames [a, b) of a recording as a plan: all of them, `without` one stretch (x-y), or as `decided`. `stays` lists
    the ranges that are heard."""
    application = web(request)
    this_project = projects.get(application.data.db, project)
    this_recording = the_recording(request, project, recording)
    a, b = max(0, a), min(this_recording.length(this_project.rate), b)
    try:
        first, last = map(int, without.split("-", 1)) if without else (0, 0)
    except ValueError:
        raise Invalid("That stretch cannot be read.") from None
    if decided:
        stays = proposals.left(proposals.rows(application.data, this_recording.id, this_project.rate), a, b)
    else:
        stays = kept(a, b, [(first, last)] if without else [])
    pieces = tuple(
        Piece(index, this_recording.id, stay_start, stay_end - stay_start)
        for index, (stay_start, stay_end) in enumerate(stays, 1)
    )
    made_plan = make_plan(
        Story(this_project.rate, pieces, next_id=len(pieces) + 1), {this_recording.id: this_recording.source}
    )
    return plan_answer(application, made_plan, {this_recording.id: this_recording.source}, stays=stays)


@router.get("/tighten/{recording}/list.csv")
def as_csv(request: Request, project: int, recording: int) -> Response:
    application = web(request)
    this_recording = the_recording(request, project, recording)
    this_project = projects.get(application.data.db, project)
    body = proposals.as_csv(proposals.rows(application.data, recording, this_project.rate), this_project.rate)
    return download(body, f"{this_recording.name} - tightened.csv", "text/csv; charset=utf-8")


@dataclass(frozen=True, slots=True)
class InPlace:
    """What would be taken out of the story in place."""

    project: Project
    recording: int
    where: str
    found: list[StoryCut]
    would: Report | None
    names: dict[int, str]
    before: int
    after: int


@router.get("/tighten/{recording}/in-place")
def in_place(request: Request, project: int, recording: int, where: str = "place") -> HTMLResponse:
    """Everything that would go from the story as it stands, in one list, and what that would cost; nothing is
    changed."""
    application = web(request)
    the_recording(request, project, recording)
    story_id = stories.current(application.data.db, project)
    story = stories.load(application.data.db, story_id).story
    only = recording if where == "place" else None
    cuts_found = proposals.story_cuts(application.data, story, only)
    cuts = proposals.in_story(application.data, story, only)
    would = stories.preview(application.data.db, story_id, "take_out", {"cuts": cuts}) if cuts else None
    names = {recording.id: recording.name for recording in recordings.of_project(application.data.db, project)}
    after = story.length - sum(end - start for start, end in cuts)
    this_project = projects.get(application.data.db, project)
    return page(
        request,
        "tighten/in_place.html",
        InPlace(
            project=this_project,
            recording=recording,
            where=where,
            found=cuts_found,
            would=would,
            names=names,
            before=story.length,
            after=after,
        ),
    )


@router.post("/tighten/{recording}/send")
def send(
    request: Request,
    project: int,
    recording: int,
    where: Annotated[str, Form()] = "end",
    at: Annotated[int | None, Form()] = None,
    clip: int | None = None,
    also: Annotated[list[int] | None, Form()] = None,
    cut: Annotated[list[str] | None, Form()] = None,
) -> HTMLResponse:
    """What stays, as pieces: at the end, at the playhead, or in place of what stands in the story. One undo step."""
    application = web(request)
    this_recording = the_recording(request, project, recording)
    this_project = projects.get(application.data.db, project)
    if where in ("place", "everywhere"):
        story_id = stories.current(application.data.db, project)
        story = stories.load(application.data.db, story_id).story
        cuts = proposals.in_story(application.data, story, recording if where == "place" else None)
        if cut is not None:  # of the list, what is still ticked
            cuts_found = proposals.story_cuts(application.data, story, recording if where == "place" else None)
            cuts = proposals.apart([story_cut for story_cut in cuts_found if f"{story_cut.at}-{story_cut.end}" in cut])
        if not cuts:
            raise Invalid("Nothing of what would be taken out stands in the story.")
        _, done = stories.edit(application.data.db, story_id, None, "take_out", {"cuts": cuts})
        return joined(report(done.did + ", in place.", done.notes), hx_reswap="none")
    ranges = []
    chosen = [(this_recording, *_range(request, project, this_recording, clip)[:2])]
    for recording_id in also or []:
        this_this_recording = the_recording(request, project, recording_id)
        if this_this_recording.id != this_recording.id:
            chosen.append((this_this_recording, 0, this_this_recording.length(this_project.rate)))
    order = {recording.id: index for index, recording in enumerate(recordings.of_project(application.data.db, project))}
    for this_this_recording, start, end in sorted(chosen, key=lambda c: order[c[0].id]):
        ranges += [
            [this_this_recording.id, cut_start, cut_end - cut_start]
            for cut_start, cut_end in proposals.left(
                proposals.rows(application.data, this_this_recording.id, this_project.rate), start, end
            )
        ]
    if not ranges:
        raise Invalid("Nothing is left: everything would be taken out. Leave something in first.")
    done = stories.put_in(application.data.db, project, ranges, at if where == "playhead" else None)
    return joined(report(done.did + ". One undo in the Story takes it back.", done.notes), hx_reswap="none")
