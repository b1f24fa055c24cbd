"""The whole log: every subclip of the project as rows, as cards, on the storyboard; in and out as open formats."""

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from typing import Annotated, Any

import opentimelineio as otio
from fastapi import APIRouter, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, Response
from starlette.concurrency import run_in_threadpool

from kovel.core.errors import Invalid
from kovel.exchange.log_formats import Line, from_csv, to_csv, to_otio
from kovel.services.log.log_rows import log_lines, with_said
from kovel.services.received_files import text_of
from kovel.store import markers, projects, recordings, stories, subclips, transcripts
from kovel.store.db import Database
from kovel.store.projects import Project
from kovel.web.forms import sent
from kovel.web.pages import download, joined, page, render, report, web
from kovel.web.rooms.log.routes import Changed, change_one, keep_all_used, of_project
from kovel.web.small_frames import Face, face_of

router = APIRouter(prefix="/p/{project}")
VIEWS = {"rows": "Rows", "cards": "Cards", "board": "Storyboard"}
SORTS = {"recording": "As recorded", "name": "Name", "length": "Length", "verdict": "Verdict", "used": "Used"}
GROUPS = {"": "No groups", "tag": "Tag", "speaker": "Speaker", "recording": "Recording", "day": "Day"}
RANK = {"keep": 0, "maybe": 1, "": 2, "drop": 3}


@dataclass(frozen=True, slots=True)
class Asked:
    """What of the log is to be shown, and how."""

    view: str = "rows"
    sort: str = "recording"
    group: str = ""
    q: str = ""
    verdict: str = ""
    tag: str = ""
    speaker: str = ""
    rec: str = ""
    used: str = ""


def _asked(request: Request) -> Asked:
    """From the query, or from that of the page a form was sent from."""
    asked_values = Asked(
        **{field.name: text[:120] for field in fields(Asked) if (text := request.query_params.get(field.name))}
    )
    return replace(
        asked_values,
        view=asked_values.view if asked_values.view in VIEWS else "rows",
        sort=asked_values.sort if asked_values.sort in SORTS else "recording",
        group=asked_values.group if asked_values.group in GROUPS else "",
    )


def _chosen(all_lines: list[Line], asked: Asked) -> list[Line]:
    """The lines asked for, in the order asked for."""

    def fits(line: Line) -> bool:
        text = (
            f"{line.clip.name} {line.clip.note} {' '.join(line.clip.tags)} {line.words} {line.recording.name}"
        ).casefold()
        return (
            all(word in text for word in asked.q.casefold().split())
            and asked.verdict in ("", line.clip.verdict or "open")
            and asked.tag in ("", *line.clip.tags)
            and asked.speaker in ("", line.speaker)
            and asked.rec in ("", str(line.recording.id))
            and asked.used in ("", "yes" if line.used else "no")
        )

    fitting_lines = [line for line in all_lines if fits(line)]
    if asked.view == "board":
        return sorted((line for line in fitting_lines if line.clip.board is not None), key=lambda x: x.clip.board or 0)
    key: Any = {
        "name": lambda x: x.clip.name.casefold(),
        "length": lambda x: -x.clip.length,
        "verdict": lambda x: RANK[x.clip.verdict],
        "used": lambda x: -x.used,
    }.get(asked.sort)
    return sorted(fitting_lines, key=key) if key else fitting_lines


def _groups(grouped_lines: list[Line], by: str) -> list[tuple[str, list[Line]]]:
    if not by:
        return [("", grouped_lines)]
    lines_by_group: dict[str, list[Line]] = {}
    for line in grouped_lines:
        keys = {
            "tag": list(line.clip.tags) or ["no tag"],
            "speaker": [line.speaker or "nobody named"],
            "recording": [line.recording.name],
            "day": [f"day {line.recording.day}" if line.recording.day else "no day"],
        }[by]
        for key in keys:
            lines_by_group.setdefault(key, []).append(line)
    return sorted(lines_by_group.items()) if by == "tag" else list(lines_by_group.items())


WINDOW = 120  # lines sent at first, and more of them as they are scrolled to


def _window(request: Request) -> int:
    """How many lines are wanted."""
    try:
        return max(WINDOW, int(request.query_params.get("lines") or WINDOW))
    except ValueError:
        return WINDOW


@dataclass(frozen=True, slots=True)
class Sheet:
    """The whole log as it is asked for. Frames of the project."""

    project: Project
    asked: Asked
    groups: list[tuple[str, list[Line]]]  # of the lines that are drawn
    shown: list[Line]
    more: int  # lines to ask for next; 0 when all are drawn
    hidden: int
    count: int  # of the whole log
    faces: dict[int, Face | None]  # by subclip
    tags: list[str]
    speakers: list[str]
    rows: list[tuple[int, str]]  # recordings, for the chooser
    total: int
    query: str
    views: Mapping[str, str]
    sorts: Mapping[str, str]
    group_names: Mapping[str, str]


def _sheet(request: Request, project: int) -> Sheet:
    application = web(request)
    this_project = projects.get(application.data.db, project)
    asked_values = _asked(request)
    by_said = bool(
        asked_values.q or asked_values.speaker or asked_values.group == "speaker"
    )  # else it is looked up for those shown alone
    every = log_lines(application.data, project, by_said)
    chosen_lines = _chosen(every, asked_values)
    window = chosen_lines if asked_values.view == "board" else chosen_lines[: _window(request)]
    window = window if by_said else with_said(application.data, project, window)
    return Sheet(
        project=this_project,
        asked=asked_values,
        groups=_groups(window, asked_values.group if asked_values.view != "board" else ""),
        shown=chosen_lines,
        more=len(window) + WINDOW if len(window) < len(chosen_lines) else 0,
        hidden=len(chosen_lines) - len(window),
        count=len(every),
        faces={
            line.clip.id: face_of(application.data, line.recording, line.clip.start, this_project.rate)
            for line in window
        },
        tags=sorted({tag for line in every for tag in line.clip.tags}),
        speakers=transcripts.speakers_of_project(application.data.db, project),
        rows=sorted({(line.recording.id, line.recording.name) for line in every}),
        total=sum(line.clip.length for line in chosen_lines),
        query=str(request.query_params),
        views=VIEWS,
        sorts=SORTS,
        group_names=GROUPS,
    )


def _shown(request: Request, project: int, did: str, notes: tuple[str, ...] = ()) -> HTMLResponse:
    return joined(render("log/whole_log_rows.html", _sheet(request, project)), report(did, notes))


@router.get("/log/whole")
def room(request: Request, project: int) -> HTMLResponse:
    if request.headers.get("hx-target") == "sheet":
        return joined(render("log/whole_log_rows.html", _sheet(request, project)))
    return page(request, "log/whole_log.html", _sheet(request, project), room="log")


@router.get("/log/print")
def printed(request: Request, project: int) -> HTMLResponse:
    return page(request, "log/print.html", _sheet(request, project))


@router.post("/log/several")
def several(
    request: Request,
    project: int,
    do: Annotated[str, Form()],
    ids: Annotated[list[int] | None, Form()] = None,
    verdict: Annotated[str, Form()] = "",
    tags: Annotated[str, Form()] = "",
    at: Annotated[int | None, Form()] = None,
    every: Annotated[bool, Form(alias="all")] = False,
) -> HTMLResponse:
    """Do one thing to the chosen subclips, or, asked for and for sending only, to all shown that are not dropped:
    one step."""
    database = web(request).data.db
    sheet = _sheet(request, project)
    chosen = of_project(request, project, ids or [])
    order = {line.clip.id: index for index, line in enumerate(sheet.shown)}
    chosen.sort(key=lambda c: order.get(c.id, len(order)))
    if not chosen and every and do in ("to-end", "to-playhead"):
        chosen = [line.clip for line in sheet.shown if line.clip.verdict != "drop"]
    if not chosen:
        raise Invalid("Choose at least one subclip: tick it, or press X on it.")
    pick = [subclip.id for subclip in chosen]
    if do in ("to-end", "to-playhead"):
        ranges = [(subclip.recording, subclip.start, subclip.length) for subclip in chosen]
        done = stories.put_in(database, project, ranges, at if do == "to-playhead" else None)
        return _shown(request, project, done.did + ".", done.notes)
    many = f"{len(chosen)} subclip{'s' if len(chosen) != 1 else ''}"
    return _shown(request, project, many + _do_to(database, project, do, pick, verdict, tags))


def _do_to(database: Database, project: int, do: str, pick: list[int], verdict: str, tags: str) -> str:
    """Does one thing to subclips of the log: what was done to them, in words. Raises `Invalid` for anything else."""
    on_board = [subclip.id for subclip in subclips.on_board(database, project)]
    match do:
        case "verdict":
            subclips.update(database, pick, verdict=verdict)
            return f": {verdict or 'not judged'}."
        case "tags":
            if not tags.strip():
                raise Invalid("Type the tags to add first.")
            subclips.update(database, pick, add_tags=tags)
            return f" tagged {tags.strip()}."
        case "remove":
            subclips.remove(database, pick)
            return " taken out of the log. Ctrl Z brings them back."
        case "board":
            subclips.arrange(database, project, list(dict.fromkeys([*on_board, *pick])))
            return " put on the storyboard."
        case "off-board":
            subclips.arrange(database, project, [subclip for subclip in on_board if subclip not in pick])
            return " taken off the storyboard."
    raise Invalid("That cannot be done to subclips.")


@router.post("/log/board")
def board(request: Request, project: int, ids: Annotated[list[int], Form()]) -> HTMLResponse:
    """The storyboard in a new order."""
    subclips.arrange(web(request).data.db, project, ids)
    return _shown(request, project, "Storyboard arranged.")


@router.post("/log/edit/{subclip}")
def change(request: Request, project: int, subclip: int, asked: Annotated[Changed, sent(Changed)]) -> HTMLResponse:
    """Edit in place; the sheet stays as it is, so that nothing jumps under the editor's hands."""
    this_subclip = change_one(request, project, subclip, asked)
    return joined(report(f"“{this_subclip.name}” changed."), hx_reswap="none")


@router.post("/log/keep-used")
def keep_used(request: Request, project: int) -> HTMLResponse:
    count = keep_all_used(request, project)
    return _shown(request, project, f"{count} range{'s' if count != 1 else ''} the story uses kept as subclips.")


@router.get("/log.csv")
def csv_out(request: Request, project: int) -> Response:
    """The shown subclips, in the shown order."""
    this_project = projects.get(web(request).data.db, project)
    body = to_csv(_chosen(log_lines(web(request).data, project), _asked(request)), this_project.rate)
    return download(body, f"{this_project.name} - log.csv", "text/csv; charset=utf-8")


@router.get("/log.otio")
def otio_out(request: Request, project: int) -> Response:
    database = web(request).data.db
    this_project = projects.get(database, project)
    all_recordings = recordings.of_project(database, project)
    marked = {recording.id: markers.of_recording(database, recording.id) for recording in all_recordings}
    made_timeline = to_otio(
        "log",
        this_project,
        all_recordings,
        [line.clip for line in _chosen(log_lines(web(request).data, project), _asked(request))],
        marked,
    )
    return download(
        otio.adapters.write_to_string(made_timeline, "otio_json"), f"{this_project.name} - log.otio", "application/json"
    )


@router.post("/log/csv")
async def csv_in(request: Request, project: int, sheet: UploadFile) -> HTMLResponse:
    """Take a CSV log: what fits is kept in one step, what does not is told by line and reason."""
    raw = await sheet.read(10_000_000)

    def take() -> HTMLResponse:
        database = web(request).data.db
        this_project = projects.get(database, project)
        new, left_out = from_csv(
            text_of(sheet.filename or "The sheet", raw), recordings.of_project(database, project), this_project.rate
        )
        if not new:
            raise Invalid(f"Nothing was taken from {sheet.filename}. " + " ".join(left_out[:4]))
        subclips.add_all(database, project, new, f"log taken from {sheet.filename}")
        more = (f"and {len(left_out) - 8} more",) if len(left_out) > 8 else ()
        return _shown(request, project, f"{len(new)} subclips taken from {sheet.filename}.", (*left_out[:8], *more))

    return await run_in_threadpool(take)
