"""The Log room's desk: one recording, its words, in and out, markers and slices, and what was kept of it."""

import contextlib
from collections.abc import Container
from dataclasses import dataclass, replace
from itertools import count
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BeforeValidator

from kovel.core.errors import Invalid, Missing
from kovel.core.plan.plan import window_plan
from kovel.core.sound.pauses import VOICE, nearest_pause
from kovel.core.story.usage import ranges_used, uses
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, parse_entry, stamp
from kovel.services.log.speech_levels import found_pauses
from kovel.services.sound.derived_sounds import want_cleaned
from kovel.store import markers, projects, recordings, steps, stories, subclips, transcripts
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.store.subclips import Subclip
from kovel.web.forms import Sent, sent
from kovel.web.pages import joined, page, plan_answer, render, report, the_recording, web
from kovel.web.preparing_progress import making_of
from kovel.web.rooms.log.shot_routes import shot
from kovel.web.rooms.log.word_routes import words_part
from kovel.web.small_frames import Face, face_of

router = APIRouter(prefix="/p/{project}")
PULL = 48_000 * 3 // 2  # samples a mark may be pulled


@dataclass(frozen=True, slots=True)
class ClipDrawn:
    """A subclip, with the frame that stands for it."""

    c: Subclip
    face: Face | None


@dataclass(frozen=True, slots=True)
class Clips:
    """What was logged of a recording, as parts/clips.html draws it."""

    project: Project
    r: Recording
    total: int
    clips: list[ClipDrawn]
    markers: list[markers.Marker]
    unjudged: int
    oob: bool = False


def _clips(request: Request, project: int, recording: int) -> Clips:
    application = web(request)
    this_project = projects.get(application.data.db, project)
    this_recording = the_recording(request, project, recording)
    clips = subclips.of_recording(application.data.db, recording)
    drawn_clips = [
        ClipDrawn(subclip, face_of(application.data, this_recording, subclip.start, this_project.rate))
        for subclip in clips
    ]
    return Clips(
        this_project,
        this_recording,
        this_recording.length(this_project.rate),
        drawn_clips,
        markers.of_recording(application.data.db, recording),
        sum(1 for subclip in clips if not subclip.verdict),
    )


def _listed(request: Request, project: int, recording: int, did: str, notes: tuple[str, ...] = ()) -> HTMLResponse:
    return joined(render("log/clips.html", _clips(request, project, recording)), report(did, notes))


@router.get("/log")
def room(request: Request, project: int, rec: int | None = None) -> HTMLResponse:
    application = web(request)
    this_project = projects.get(application.data.db, project)
    loggable_recordings = [
        recording for recording in recordings.of_project(application.data.db, project) if not recording.aside
    ]
    chosen = next((recording for recording in loggable_recordings if recording.id == rec), None) or next(
        (recording for recording in loggable_recordings if recording.kind == "interview"),
        loggable_recordings[0] if loggable_recordings else None,
    )
    faces = {
        recording.id: face_of(application.data, recording, recording.face(this_project.rate), this_project.rate)
        for recording in loggable_recordings
    }
    if chosen is None:
        return page(
            request, "log/room.html", room="log", project=this_project, rows=loggable_recordings, faces=faces, r=None
        )
    names = sorted({tag for subclip in subclips.of_project(application.data.db, project) for tag in subclip.tags})
    is_shot = chosen.kind in ("b-roll", "still") and chosen.ready
    return page(
        request,
        "log/room.html",
        _clips(request, project, chosen.id),
        room="log",
        rows=loggable_recordings,
        faces=faces,
        tags=names,
        words=words_part(request, chosen),
        making=render("parts/making.html", making_of(request, chosen)),
        shot=shot(request, this_project, chosen) if is_shot else None,
    )


@router.get("/recordings/{recording}/plan")
def plan(request: Request, project: int, recording: int) -> JSONResponse:
    """The whole recording as a plan for the player."""
    application = web(request)
    this_project = projects.get(application.data.db, project)
    src = the_recording(request, project, recording).source
    return plan_answer(application, window_plan(this_project.rate, src), {src.id: src})


@router.get("/recordings/{recording}/marks")
def marks(request: Request, project: int, recording: int) -> JSONResponse:
    """What is drawn along the recording's line, in frames: who speaks, pauses, and what the story uses."""
    application = web(request)
    this_project = projects.get(application.data.db, project)
    the_recording(request, project, recording)
    to_frame = this_project.rate.sample_to_frame
    speakers = [
        (to_frame(start), to_frame(end), who)
        for start, end, who in transcripts.turns(application.data.db, recording, 96_000)
    ]
    story = stories.load(application.data.db, stories.current(application.data.db, project)).story
    pauses = [[to_frame(pause.start), to_frame(pause.end)] for pause in found_pauses(application.data, recording)]
    return JSONResponse({"speakers": speakers, "pauses": pauses, "used": ranges_used(uses(story), recording)})


def typed(text: str, frame_rate: Rate, what: str, now: int = 0) -> int:
    """A time as editors type it; `Invalid`, naming the field, if it is none."""
    try:
        return parse_entry(text, frame_rate, now=now)
    except TimeError as error:
        raise Invalid(f"{what}: {error}") from None


@router.post("/recordings/{recording}/subclips")
def keep(
    request: Request,
    project: int,
    recording: int,
    start: Annotated[str, Form()] = "",
    end: Annotated[str, Form()] = "",
    name: Annotated[str, Form()] = "",
    note: Annotated[str, Form()] = "",
    tags: Annotated[str, Form()] = "",
    verdict: Annotated[str, Form()] = "keep",
    again: Annotated[Literal["", "change", "both"], Form()] = "",
    of: Annotated[int | None, Form()] = None,
) -> HTMLResponse:
    """Keep in to out; with the verdict `open` it is a slice that waits to be judged. `of`: the subclip that is open,
    which is changed. Where the name is kept already, the page is asked first (202) whether the one there is to be
    changed, or both kept (`again`): a second one of a name is numbered."""
    verdict = "" if verdict == "open" else verdict
    database = web(request).data.db
    this_project = projects.get(database, project)
    the_recording(request, project, recording)
    if not start or not end:
        raise Invalid("Set an in and an out point first: I and O, or drag over words.")
    begin, until = typed(start, this_project.rate, "In"), typed(end, this_project.rate, "Out")
    if of is not None and not again:
        what = {"start": begin, "length": until - begin, "note": note, "tags": tags, "verdict": verdict}
        return _listed(request, project, recording, _saved(request, project, of, what | {"name": name}))
    old = _namesake(request, recording, name)
    if old and not again and (old.start, old.end) != (begin, until):
        return HTMLResponse("", 202, headers={"hx-reswap": "none", "x-again": str(old.id)})
    if old and again != "both":
        change_: dict[str, Any] = {"start": begin, "length": until - begin, "verdict": verdict}
        change_ |= {name: value for name, value in (("note", note), ("tags", tags)) if value.strip()}
        (subclip,) = subclips.update(database, [old.id], **change_)
        return _listed(request, project, recording, f"“{subclip.name}” is this range now.")
    if old:
        name = numbered(name, {subclip.name for subclip in subclips.of_recording(database, recording)})
    subclip = subclips.add(database, recording, begin, until, name=name, note=note, tags=tags, verdict=verdict)
    return _listed(
        request, project, recording, f"Kept “{subclip.name}”." if verdict else f"Slice kept as “{subclip.name}”."
    )


def _namesake(request: Request, recording: int, name: str) -> Subclip | None:
    """The subclip of a recording that has this name already."""
    called = " ".join(name.split()).casefold()
    kept = subclips.of_recording(web(request).data.db, recording)
    return next((subclip for subclip in kept if called and subclip.name.casefold() == called), None)


def _saved(request: Request, project: int, subclip: int, what: dict[str, Any]) -> str:
    """The open bite changed; what is said of it. Without a name it keeps its own."""
    (old,) = of_project(request, project, [subclip])
    if not what["name"].strip():
        what = what | {"name": old.name}
    (new,) = subclips.update(web(request).data.db, [subclip], **what)
    return bite_changed(old, new, projects.get(web(request).data.db, project).rate)


def numbered(name: str, taken: Container[str]) -> str:
    """A name that is not taken: with the next free number behind it."""
    return next(f"{name} {number}" for number in count(2) if f"{name} {number}" not in taken)


def bite_changed(old: Subclip, new: Subclip, frame_rate: Rate) -> str:
    """What was changed on a bite, its edges in frames."""
    moved = [
        f"{edge} point {abs(by)} frame{'s' if abs(by) > 1 else ''} {'later' if by > 0 else 'earlier'}"
        for edge, by in (("in", new.start - old.start), ("out", new.end - old.end))
        if by
    ]
    long = stamp(new.length, frame_rate)
    return f"Changed “{new.name}”: {', '.join([*moved, f'{long} long'])}."


def of_project(request: Request, project: int, ids: list[int]) -> list[Subclip]:
    """These subclips; `Missing` if one belongs elsewhere."""
    database = web(request).data.db
    subclips_found = [subclips.get(database, subclip_id) for subclip_id in ids]
    for subclip in subclips_found:
        if recordings.get(database, subclip.recording).project != project:
            raise Missing("That subclip is not in this project.")
    return subclips_found


class Changed(Sent):
    """What is changed on a subclip: texts, a verdict (`open`: none yet), a new in or out point as typed."""

    name: str = ""
    note: str = ""
    tags: str = ""
    verdict: Annotated[str, BeforeValidator(lambda v: "" if v == "open" else v)] = ""
    start: str = ""
    end: str = ""

    def changes(self, old_subclip: Subclip, frame_rate: Rate) -> dict[str, Any]:
        """What is to be changed, times read. Raises `Invalid` where they cannot be."""
        changed_fields = self.given("name", "note", "tags", "verdict")
        if self.start or self.end:
            a = typed(self.start, frame_rate, "In", old_subclip.start) if self.start else old_subclip.start
            b = typed(self.end, frame_rate, "Out", old_subclip.end) if self.end else old_subclip.end
            changed_fields |= {"start": a, "length": b - a}
        return changed_fields


def change_one(request: Request, project: int, subclip: int, asked: Changed) -> Subclip:
    database = web(request).data.db
    (old,) = of_project(request, project, [subclip])
    (this_subclip,) = subclips.update(database, [subclip], **asked.changes(old, projects.get(database, project).rate))
    return this_subclip


@router.post("/subclips/{subclip}")
def change(request: Request, project: int, subclip: int, asked: Annotated[Changed, sent(Changed)]) -> HTMLResponse:
    this_subclip = change_one(request, project, subclip, asked)
    return _listed(request, project, this_subclip.recording, f"“{this_subclip.name}” changed.")


@router.post("/subclips/{subclip}/remove")
def remove(request: Request, project: int, subclip: int) -> HTMLResponse:
    of_project(request, project, [subclip])
    (this_subclip,) = subclips.remove(web(request).data.db, [subclip])
    return _listed(
        request,
        project,
        this_subclip.recording,
        f"“{this_subclip.name}” is no longer in the log. The recording was not touched. Ctrl Z brings it back.",
    )


@router.post("/subclips/{subclip}/to-story")
def to_story(request: Request, project: int, subclip: int) -> HTMLResponse:
    database = web(request).data.db
    (this_subclip,) = of_project(request, project, [subclip])
    asked_edit = {"source": this_subclip.recording, "start": this_subclip.start, "length": this_subclip.length}
    _, done = stories.edit(database, stories.current(database, project), None, "add_at_end", asked_edit)
    return joined(report(f"“{this_subclip.name}” is in the story, at the end.", done.notes), hx_reswap="none")


@router.post("/recordings/{recording}/markers")
def mark(
    request: Request, project: int, recording: int, frame: Annotated[int, Form()], name: Annotated[str, Form()] = ""
) -> HTMLResponse:
    the_recording(request, project, recording)
    markers.add(web(request).data.db, recording, frame, name)
    return _listed(request, project, recording, "Marker set. Name it in the list when there is time.")


@router.post("/markers/{marker}")
def name_marker(request: Request, project: int, marker: int, name: Annotated[str, Form()] = "") -> HTMLResponse:
    database = web(request).data.db
    the_recording(request, project, markers.get(database, marker).recording)
    this_marker = markers.rename(database, marker, name)
    return _listed(
        request,
        project,
        this_marker.recording,
        f"Marker named “{this_marker.name}”." if this_marker.name else "Marker without a name.",
    )


@router.post("/markers/{marker}/remove")
def remove_marker(request: Request, project: int, marker: int) -> HTMLResponse:
    database = web(request).data.db
    the_recording(request, project, markers.get(database, marker).recording)
    this_marker = markers.remove(database, marker)
    return _listed(request, project, this_marker.recording, "Marker taken away.")


def _pulled(request: Request, project: projects.Project, recording: int, frame: int) -> int | None:
    at = nearest_pause(found_pauses(web(request).data, recording), project.rate.frame_to_sample(frame), PULL)
    return None if at is None else project.rate.sample_to_frame(at)


@router.get("/recordings/{recording}/pull")
def pull(
    request: Request, project: int, recording: int, start: int | None = None, end: int | None = None
) -> JSONResponse:
    """Marks at the nearest pause: frames; a mark with no pause within 1.5 s stays."""
    this_project = projects.get(web(request).data.db, project)
    the_recording(request, project, recording)
    a = None if start is None else _pulled(request, this_project, recording, start)
    b = None if end is None else _pulled(request, this_project, recording, end)
    return JSONResponse(
        {"start": start if a is None else a, "end": end if b is None else b, "found": [a is not None, b is not None]}
    )


@router.post("/recordings/{recording}/pull")
def pull_slices(request: Request, project: int, recording: int) -> HTMLResponse:
    """Every slice that is not judged yet: both edges to the nearest pause."""
    database = web(request).data.db
    this_project = projects.get(database, project)
    total = the_recording(request, project, recording).length(this_project.rate)
    slice_ranges: list[tuple[int, int, int]] = []
    for subclip in subclips.of_recording(database, recording):
        if subclip.verdict:
            continue
        start, end = (
            _pulled(request, this_project, recording, clip_edge) for clip_edge in (subclip.start, subclip.end)
        )
        new = (max(0, subclip.start if start is None else start), min(total, subclip.end if end is None else end))
        if new[0] < new[1] and new != (subclip.start, subclip.end):
            slice_ranges.append((subclip.id, *new))
    if not slice_ranges:
        raise Invalid("No slice is near a pause that was found. They stay as they are; set their edges by ear.")
    subclips.reshape(database, project, slice_ranges, "slices pulled to pauses")
    return _listed(
        request,
        project,
        recording,
        f"{len(slice_ranges)} slice{'s' if len(slice_ranges) != 1 else ''} pulled to the nearest pauses.",
    )


@router.post("/recordings/{recording}/keep-used")
def keep_used(request: Request, project: int, recording: int) -> HTMLResponse:
    """Every range of this recording that the story uses becomes a subclip named by its first words."""
    count = keep_all_used(request, project, recording)
    return _listed(
        request, project, recording, f"{count} range{'s' if count != 1 else ''} the story uses kept as subclips."
    )


def keep_all_used(request: Request, project: int, only: int | None = None) -> int:
    """Ranges the story uses that are in the log under no subclip yet, kept in one step; how many."""
    database = web(request).data.db
    this_project = projects.get(database, project)
    uses_found = uses(stories.load(database, stories.current(database, project)).story)
    new = []
    for recording in recordings.of_project(database, project):
        if only not in (None, recording.id):
            continue
        have = {(subclip.start, subclip.end) for subclip in subclips.of_recording(database, recording.id)}
        for start, end in ranges_used(uses_found, recording.id):
            if (start, end) not in have:
                said_words = transcripts.words_between(
                    database,
                    recording.id,
                    this_project.rate.frame_to_sample(start),
                    this_project.rate.frame_to_sample(end),
                )
                name = " ".join(
                    word.text
                    for word in said_words
                    if word.text != VOICE and word.start >= this_project.rate.frame_to_sample(start) - 4800
                )
                new.append(
                    subclips.New(
                        recording.id,
                        start,
                        min(end, recording.length(this_project.rate)),
                        name[:48].rsplit(" ", 1)[0] if len(name) > 48 else name,
                    )
                )
    if not new:
        raise Invalid("The story uses no range here that is not in the log already.")
    return len(subclips.add_all(database, project, new, "used ranges kept"))


@router.post("/log/undo")
def undo(request: Request, project: int, rec: int | None = None, redo: bool = False) -> HTMLResponse:
    """Undo or redo the last step of the log, wherever it was made; the shown recording is drawn anew."""
    database = web(request).data.db
    summary, touched = steps.undo_or_redo(database, project, redo)
    for subclip_id in touched:
        with contextlib.suppress(Invalid):
            want_cleaned(web(request).data, subclip_id)  # a setting that came back may need a sound made
    said_report = report(f"{'Done again' if redo else 'Undone'}: {summary}.")
    if rec is None:
        return joined(said_report, hx_refresh="true")
    recording = the_recording(request, project, rec)
    if rec not in touched:
        names = ", ".join(
            recording.name for recording in recordings.of_project(database, project) if recording.id in touched
        )
        return joined(report(f"{'Done again' if redo else 'Undone'}, in {names}: {summary}."))
    return joined(
        render("log/clips.html", replace(_clips(request, project, rec), oob=True)),
        words_part(request, recording, oob=True),
        said_report,
    )
