"""Themes: what all interviews have in common, as a map; what was told twice; a radio cut proposed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse

from kovel.core.errors import Invalid
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, parse_seconds, running, stamp
from kovel.core.words.nearness import Said
from kovel.core.words.radio_cut import Order
from kovel.core.words.theme_groups import Statement
from kovel.data_folder import DataFolder
from kovel.services.log import proposing, theming
from kovel.services.log.sentence_meaning import Hit, meant, more_like, set_model, work_out
from kovel.services.log.theming import Theme
from kovel.store import jobs, kept_settings, projects, recordings, steps, stories, theme_rows
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.web.pages import joined, page, report, web
from kovel.web.small_frames import Face, face_of

router = APIRouter(prefix="/p/{project}")
GAP = 1.2  # percent of the map between two recordings


@dataclass(frozen=True, slots=True)
class Block:
    """A statement on the map: its place in percent, how much of it was kept, what it says."""

    recording: int
    start: int
    left: str
    width: str
    kept: int
    told: str


@dataclass(frozen=True, slots=True)
class Row:
    """A theme on the map."""

    id: int
    name: str
    aside: bool
    said: str
    kept: str
    blocks: tuple[Block, ...]


@dataclass(frozen=True, slots=True)
class Column:
    """A recording on the map: its name and place in percent."""

    name: str
    left: str
    width: str


@dataclass(frozen=True, slots=True)
class Told:
    """One of two tellings, as it is shown."""

    said: Said
    name: str
    frame: int
    face: Face | None
    facts: tuple[str, ...]
    better: bool


def _length(samples: int, frame_rate: Rate) -> str:
    return stamp(frame_rate.sample_to_frame(samples), frame_rate)


def _map(data_folder: DataFolder, project: int) -> tuple[list[Column], list[Row]]:
    """Recordings one after the other, as wide as they are long where somebody speaks; a row a theme."""
    this_project = projects.get(data_folder.db, project)
    listed_themes = theming.listing(data_folder, project)
    spoken = {shown.statement.recording for theme in listed_themes for shown in theme.shown}
    rs = [recording for recording in recordings.of_project(data_folder.db, project) if recording.id in spoken]
    long = {
        recording.id: max(1, this_project.rate.frame_to_sample(recording.length(this_project.rate))) for recording in rs
    }
    room = 100 - GAP * max(0, len(rs) - 1)
    total = sum(long.values()) or 1
    at, columns, statements_left = 0.0, [], {}
    for recording in rs:
        statements_left[recording.id] = at
        wide = room * long[recording.id] / total
        columns.append(Column(recording.name, f"{at:.3f}%", f"{wide:.3f}%"))
        at += wide + GAP
    map_columns = []
    for theme in listed_themes:
        blocks = []
        for shown in theme.shown:
            statement_shown = shown.statement
            wide = room * (statement_shown.end - statement_shown.start) / total
            told_statement = (
                f"{statement_shown.speaker or 'said'}, "
                f"{running(this_project.rate.sample_to_frame(statement_shown.start), this_project.rate)}: "
                f"{statement_shown.text[:160]}"
            )
            blocks.append(
                Block(
                    statement_shown.recording,
                    statement_shown.start,
                    f"{statements_left[statement_shown.recording] + room * statement_shown.start / total:.3f}%",
                    f"{max(0.35, wide):.3f}%",
                    round(100 * shown.kept / max(1, statement_shown.end - statement_shown.start)),
                    told_statement,
                )
            )
        map_columns.append(
            Row(
                theme.id,
                theme.name,
                theme.aside,
                _length(theme.said, this_project.rate),
                _length(theme.kept, this_project.rate),
                tuple(blocks),
            )
        )
    return columns, map_columns


@dataclass(frozen=True, slots=True)
class Map:
    """The map of themes, as parts/themes.html draws it."""

    project: Project
    columns: list[Column]
    rows: list[Row]
    job: jobs.Job | None
    sentences: int
    lacking: int
    model: str | None
    proposed: list[tuple[int, str, list[str]]]


def _values(request: Request, project: int) -> Map:
    data_folder = web(request).data
    columns, this_theme_rows = _map(data_folder, project)
    job = next((job for job in jobs.of_project(data_folder.db, project, "meaning") if job.is_open), None)
    known = meant(data_folder, project)
    return Map(
        projects.get(data_folder.db, project),
        columns,
        this_theme_rows,
        job,
        len(known.said),
        known.lacking,
        kept_settings.get(data_folder.db, "meaning model"),
        stories.proposed(data_folder.db, project),
    )


@router.get("/log/themes")
def room(request: Request, project: int) -> HTMLResponse:
    """The map of themes. What is not worked out yet is begun by itself."""
    return page(request, "log/themes.html", _values(request, project), room="log")


@router.get("/log/themes/map")
def the_map(request: Request, project: int) -> HTMLResponse:
    return page(request, "log/theme_map.html", _values(request, project))


def _shown(request: Request, project: int, did: str) -> HTMLResponse:
    return joined(the_map(request, project), report(did))


@router.post("/log/themes/group")
def group(request: Request, project: int) -> HTMLResponse:
    theme_groups = theming.group(web(request).data, project)
    return _shown(
        request, project, f"{len(theme_groups)} themes. What you name, join or move stays when it is grouped anew."
    )


@router.post("/log/themes/join")
def join(request: Request, project: int, ids: Annotated[list[int] | None, Form()] = None) -> HTMLResponse:
    """The chosen themes become one."""
    theme = theme_rows.merge(web(request).data.db, project, ids or [])
    return _shown(request, project, f"They are one theme now: {theme.name}.")


@router.post("/log/themes/split")
def split(request: Request, project: int, ids: Annotated[list[int] | None, Form()] = None) -> HTMLResponse:
    """The chosen theme becomes several."""
    if len(ids or []) != 1:
        raise Invalid("Choose one theme to split it.")
    names = theming.split(web(request).data, project, (ids or [0])[0])
    return _shown(request, project, f"Split into {' and '.join(names)}.")


@router.post("/log/themes/aside")
def aside(request: Request, project: int, ids: Annotated[list[int] | None, Form()] = None) -> HTMLResponse:
    """The chosen themes are set aside, or taken up again."""
    aside = theme_rows.set_aside(web(request).data.db, project, ids or [])
    return _shown(request, project, "Set aside." if aside else "Taken up again.")


@router.post("/log/themes/model")
def model(request: Request, project: int, folder: Annotated[str, Form()] = "") -> HTMLResponse:
    """Another model for the meaning of English, or (empty) the one that is installed."""
    data_folder = web(request).data
    set_model(data_folder, folder)
    work_out(data_folder, project)
    return _shown(request, project, "Everything is worked out anew with that model.")


@router.post("/log/themes/{theme}/name")
def name(request: Request, project: int, theme: int, name: Annotated[str, Form()] = "") -> HTMLResponse:
    return _shown(request, project, f"Called {theme_rows.rename(web(request).data.db, project, theme, name)}.")


@router.post("/log/themes/undo")
def undo(request: Request, project: int) -> HTMLResponse:
    """The log's last step, which themes are part of, is taken back."""
    summary, _ = steps.undo_or_redo(web(request).data.db, project)
    return _shown(request, project, f"Undone: {summary}.")


@dataclass(frozen=True, slots=True)
class StatementDrawn:
    """A statement close up: its theme, its face, and what means nearly the same."""

    project: Project
    s: Statement
    r: Recording
    frame: int
    themes: list[Theme]
    theme: int
    near: list[tuple[Hit, str, int]]
    face: Face | None
    length: str


@router.get("/log/themes/statement")
def statement(request: Request, project: int, recording: int, start: int) -> HTMLResponse:
    """One statement: all of it, its theme, and what is like it elsewhere."""
    data_folder = web(request).data
    this_project = projects.get(data_folder.db, project)
    listed_themes = theming.listing(data_folder, project)
    statement_found = next(
        (
            shown
            for theme in listed_themes
            for shown in theme.shown
            if (shown.statement.recording, shown.statement.start) == (recording, start)
        ),
        None,
    )
    if statement_found is None:
        raise Invalid("That statement is not there any more. Reload the page.")
    statement_shown = statement_found.statement
    this_recording = recordings.get(data_folder.db, recording)
    frame = this_project.rate.sample_to_frame(statement_shown.start)
    near = [
        (
            hit,
            recordings.get(data_folder.db, hit.said.recording).name,
            this_project.rate.sample_to_frame(hit.said.start),
        )
        for hit in more_like(data_folder, project, recording, start, 6)
    ]
    return page(
        request,
        "log/statement.html",
        StatementDrawn(
            project=this_project,
            s=statement_shown,
            r=this_recording,
            frame=frame,
            themes=listed_themes,
            theme=statement_found.theme,
            near=near,
            face=face_of(data_folder, this_recording, frame, this_project.rate),
            length=_length(statement_shown.end - statement_shown.start, this_project.rate),
        ),
    )


@router.post("/log/themes/move")
def move(
    request: Request,
    project: int,
    recording: Annotated[int, Form()],
    start: Annotated[int, Form()],
    theme: Annotated[int, Form()],
) -> HTMLResponse:
    """A statement into another theme; 0: into one of its own."""
    database = web(request).data.db
    placed = next(
        (
            shown
            for theme in theming.listing(web(request).data, project)
            for shown in theme.shown
            if (shown.statement.recording, shown.statement.start) == (recording, start)
        ),
        None,
    )
    if placed is None:
        raise Invalid("That statement is not there any more. Reload the page.")
    this_theme = theme_rows.move(database, project, recording, start, theme or None)
    panel = bytes(statement(request, project, recording, start).body).decode()
    beside = f'<aside id="statement" hx-swap-oob="innerHTML">{panel}</aside>'
    return joined(the_map(request, project), beside, report(f"It is of “{this_theme.name}” now."))


def _telling(data_folder: DataFolder, t: theming.Twice, which: int, names: dict[int, str], frame_rate: Rate) -> Told:
    spoken, how = (t.a, t.b)[which], t.how[which]
    facts = [f"{how.words} words", _length(how.length, frame_rate), f"{how.pace:.0f} words a minute"]
    facts.append(f"{how.stumbles} stumble{'s' if how.stumbles != 1 else ''}" if how.stumbles else "no stumble")
    if how.pauses:
        facts.append(f"{how.pauses:.1f} s of pauses in it")
    level, noise = t.level[which], t.noise[which]
    if level is not None and noise is not None:
        facts.append(f"{level:.0f} dB, {level - noise:.0f} dB over the room")
    recording = recordings.get(data_folder.db, spoken.recording)
    facts += [f"{recording.width} × {recording.height}"] if recording.picture else ["sound only"]
    frame = frame_rate.sample_to_frame(spoken.start)
    return Told(
        spoken,
        names[spoken.recording],
        frame,
        face_of(data_folder, recording, frame, frame_rate),
        tuple(facts),
        t.better == "ab"[which],
    )


@router.get("/log/themes/twice")
def twice(request: Request, project: int) -> HTMLResponse:
    """What was told twice, side by side."""
    data_folder = web(request).data
    this_project = projects.get(data_folder.db, project)
    names = {recording.id: recording.name for recording in recordings.of_project(data_folder.db, project)}
    pairs = [
        (_telling(data_folder, t, 0, names, this_project.rate), _telling(data_folder, t, 1, names, this_project.rate))
        for t in theming.told_twice(data_folder, project, 60)
    ]
    return page(request, "log/twice.html", project=this_project, pairs=pairs)


@router.post("/log/themes/judge")
def judge(
    request: Request,
    project: int,
    a_recording: Annotated[int, Form()],
    a_start: Annotated[int, Form()],
    b_recording: Annotated[int, Form()],
    b_start: Annotated[int, Form()],
    better: Annotated[str, Form()] = "",
) -> HTMLResponse:
    """Which telling is the better one, or that they tell different things; again: that is taken back."""
    database = web(request).data.db
    for recording_id in (a_recording, b_recording):
        projects.belongs(database, project, "recording", recording_id)
    a, b = (a_recording, a_start), (b_recording, b_start)
    was = next((judged.better for judged in theme_rows.judged(database, project) if (judged.a, judged.b) == (a, b)), "")
    theme_rows.judge(database, project, a, b, "" if better == was else better)
    return joined(twice(request, project), report("Kept." if better != was else "Taken back."))


@router.post("/log/propose")
def propose(
    request: Request,
    project: int,
    length: Annotated[str, Form()] = "",
    order: Annotated[Order, Form()] = "theme",
    ids: Annotated[list[int] | None, Form()] = None,
) -> HTMLResponse:
    """A first radio cut of the chosen themes, as a story beside the others."""
    data_folder = web(request).data
    this_project = projects.get(data_folder.db, project)
    try:
        seconds = float(parse_seconds(length, this_project.rate))
    except TimeError as error:
        raise Invalid(f"Length: {error}") from None
    done = proposing.propose(data_folder, project, seconds, ids or [], order)
    return _shown(
        request,
        project,
        f"{done.name}: {stamp(done.length, this_project.rate)} in {len(done.why)} pieces, beside your stories. "
        "Nothing else was changed.",
    )
