"""The Story room: the lined page, its edits, undo and redo, the plan the player reads."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from fractions import Fraction
from typing import TYPE_CHECKING, Annotated, Any, Literal, Union

from fastapi import APIRouter, Body, Form, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field, create_model

from kovel.core.plan.plan import make_plan
from kovel.core.story import catalogue
from kovel.core.story.lined import LinedPage, lined
from kovel.core.story.marks import sections
from kovel.core.story.model import Cover, Join, Piece, Report, Sound, Sources, Story
from kovel.core.story.offered import COMMANDS, WANTING, meant
from kovel.core.story.seams import Seam, seams
from kovel.core.story.settings import SETTINGS
from kovel.core.story.sync import same_moment
from kovel.core.words.transcript import Word
from kovel.store import projects, recordings, stories, subclips
from kovel.store.stories import Kept, Stale
from kovel.web.keys import story_keys
from kovel.web.lanes import COLUMNS, lane_list
from kovel.web.lanes import said as lanes_said
from kovel.web.pages import page, plan_answer, render, report, small, web
from kovel.web.story_tools import told
from kovel.work.quick_cuts import beats_of

router = APIRouter(prefix="/p/{project}")
ROW = 24  # pixels of a line of words
SCREENS = 3000  # pixels of the page sent at first
ZOOMS = (1, 2, 4, 8, 16, 32, 64)  # seconds a row
WHOLE = 0  # the zoom at which the whole story fits one screen of WHOLE_ROWS rows
WHOLE_ROWS = 27
LINE = 16  # pixels a line of words or a label needs
FINE = 5  # pixels under which a piece or cover is drawn without what is inside it
READABLE = 16  # seconds a row beyond which words are no longer set
CHARS = 50
RIGHT = 900  # pixels of the page beside the picture and the map, in a window of 1280


class _Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)
    revision: int | None = None
    story: int | None = None
    ask: bool = False
    command: str

    def params(self) -> dict[str, Any]:
        return self.model_dump(exclude={"revision", "command", "story", "ask"}, exclude_unset=True)


def _models() -> Any:
    """A request model for each command of the core, from its signature."""
    made = []
    for name in COMMANDS:
        fields: dict[str, Any] = {**catalogue.parameters(name), "command": (Literal[name], ...)}
        made.append(create_model(f"{name}_request", __base__=_Edit, __doc__=catalogue.about(name), **fields))
    return Annotated[Union[tuple(made)], Field(discriminator="command")]  # noqa: UP007


if TYPE_CHECKING:
    EditRequest = _Edit
else:
    EditRequest = _models()


def _id(request: Request, project: int) -> int:
    db = web(request).data.db
    projects.get(db, project)
    return stories.current(db, project)


def _kept(request: Request, project: int) -> Kept:
    return stories.load(web(request).data.db, _id(request, project))


def _wavy(x: float, y0: float, y1: float) -> str:
    """An SVG path waving about x from y0 to y1."""
    half = 6.0
    n = max(1, round((y1 - y0) / half))
    step = (y1 - y0) / n
    return f"M{x:g} {y0:.1f}" + "".join(f"q{4 if i % 2 else -4} {step / 2:.2f} 0 {step:.2f}" for i in range(n))


def _view(request: Request, px: float, length: int) -> tuple[int, int]:
    """The story frames around what the page shows, as it says; at first, a few screens from the start."""
    asked = request.headers.get("x-view") or request.query_params.get("view") or ""
    try:
        a, b = (max(0, int(x)) for x in asked.split("-"))
    except ValueError:
        a, b = 0, int(SCREENS / px)
    return a, min(max(b, a), a + int(4 * SCREENS / px), max(length, 1))


def _sheet(request: Request, kept: Kept, zoom: int) -> dict[str, Any]:
    """Everything parts/page.html draws: the core's layout of what is in view, in pixels, with faces for covers."""
    w = web(request)
    p = projects.get(w.data.db, kept.project)
    rows = {r.id: r for r in recordings.of_project(w.data.db, kept.project)}
    sources = {i: r.source for i, r in rows.items()}
    per_row = (zoom or max(1.0, float(kept.story.length / p.rate.fps) / WHOLE_ROWS)) * float(p.rate.fps)
    px = ROW / per_row
    readable = per_row <= READABLE * float(p.rate.fps)
    view = _view(request, px, kept.story.length)

    def words(source: int, start: int, length: int) -> list[Word]:
        return (
            []
            if not readable
            else recordings.words_between(
                w.data.db, source, p.rate.frame_to_sample(start), p.rate.frame_to_sample(start + length)
            )
        )

    laid: LinedPage = lined(kept.story, sources, words, per_row, CHARS, view)
    covers = []
    for a, b, c in laid.covers:
        tall = (b - a) * px
        r = rows.get(c.source)
        n = max(1, min(6, int(tall // 62)))
        faces = (
            [small(w, r, c.start + (b - a) * (2 * i + 1) // (2 * n), p.rate) for i in range(n)] if r and tall >= FINE else []
        )
        covers.append(
            {"c": c, "at": a, "top": a * px, "tall": tall, "name": r.name if r else "?", "faces": [f for f in faces if f],
             "note": _cover_note(kept.story, sources, c, a)}
        )  # fmt: skip
    places = _places(laid, max((x.lane for x in kept.story.sounds), default=0))
    lines = [
        {
            "x": 13 + places.column * s.column,
            "y0": s.a * px,
            "y1": s.b * px,
            "seen": s.seen,
            "d": "" if s.seen else _wavy(13 + places.column * s.column, s.a * px, s.b * px),
        }
        for s in laid.stretches
    ]
    step = max(1, round(48 / (px * float(p.rate.fps)) / 5) * 5) if px * float(p.rate.fps) < 48 else 1
    ticks = [
        {"y": p.rate.seconds_to_frame(Fraction(s)) * px, "s": s}
        for s in range(int(view[0] / p.rate.fps) // step * step, int(view[1] / p.rate.fps) + 1, step)
    ]
    sounds = [
        {"s": x, "at": at, "level": SETTINGS["level"].says(kept.story.value(x, "level", sources)), "top": at * px, "tall": max(6.0, (min(at + x.length, kept.story.length) - at) * px),
         "name": rows[x.source].name if x.source in rows else "?"}
        for x in kept.story.sounds
        if (at := kept.story.at(x)) < min(view[1], kept.story.length) and at + x.length > view[0]
    ]  # fmt: skip
    heads = [
        {"s": x, "at": a, "length": b - a} for x, a, b in sections(kept.story) if x is not None and view[0] <= a <= view[1]
    ]
    trays: tuple[Cover | Sound, ...] = (*kept.story.loose, *kept.story.loose_sounds)
    loose = [
        {
            "c": c,
            "name": rows[c.source].name if c.source in rows else "?",
            "face": small(w, rows[c.source], c.start, p.rate) if c.source in rows else None,
        }
        for c in trays
    ]
    return {
        "project": p, "kept": kept, "laid": laid, "px": px, "rows": rows, "covers": covers, "lines": lines, "zoom": zoom, "zooms": ZOOMS,
        "ticks": ticks, "loose": loose, "tall": kept.story.length * px, "row": ROW, "fps": float(p.rate.fps),
        "view": view,
        "near": _told_apart(kept.story, laid.seams, px, view), "line_tall": LINE,
        "notes": {b.piece.id: _piece_note(b.piece) for b in laid.blocks}, "fine": FINE, "crowded": kept.story.length * px < 2 * FINE * len(kept.story.pieces),
        "sounds": sounds, "heads": heads, "readable": readable,
        "places": places, "lanes_said": lanes_said(kept.story),
        "ends": [kept.story.join(0), kept.story.join(len(kept.story.pieces))] if kept.story.pieces else [],
        "used": ",".join(map(str, sorted({c.source for c in kept.story.covers}))),
        "jumps": sum(1 for s in laid.seams if s.kind == "jump"),
    }  # fmt: skip


@dataclass(frozen=True, slots=True)
class Places:
    """Where what stands beside the words begins, in pixels: all of it fits a window of 1280."""

    column: int  # width of a coverage line's column
    covers: int
    lane: int  # width of a cover lane
    sounds: int
    coverage: int
    letters: int  # of a name that fit over a column


def _places(laid: LinedPage, sound_lanes: int) -> Places:
    n = max(1, len(laid.columns))
    column = 38 if n <= 3 else max(18, 130 // n)
    covers = 530 + column * n
    lane = max(40, min(126, (RIGHT - covers - 28 - 22 * sound_lanes) // max(1, laid.lanes)))
    return Places(column, covers, lane, covers + 6 + laid.lanes * lane, column * len(laid.columns) + 8, 6 if column > 30 else 2)


def _told_apart(story: Story, found: Sequence[Seam], px: float, view: tuple[int, int]) -> list[tuple[Seam, Join, bool]]:
    """Seams in view that can be told apart, how they join, and whether there is room for their label. Where many crowd,
    an exposed jump stands for them."""
    kept: list[Seam] = []
    for s in found:
        if not view[0] <= s.at <= view[1]:
            continue
        if kept and (s.at - kept[-1].at) * px < 2:
            if s.kind == "jump" != kept[-1].kind:
                kept[-1] = s
            continue
        kept.append(s)
    out: list[tuple[Seam, Join, bool]] = []
    last = -1e9
    for s in kept:
        room = s.kind != "clean" and (s.at - last) * px >= LINE
        last = s.at if room else last
        j = story.join(story.index_of(s.right.id))
        out.append((s, j, room or not j.plain))
    return out


def _piece_note(p: Piece) -> str:
    """What is special about a piece: its own settings, and what is taken of it."""
    notes = [SETTINGS[n].says(p.settings[n]) for n in p.settings]
    return ", ".join([*notes, *([f"only its {p.take}"] if p.take != "both" else [])])


def _cover_note(story: Story, sources: Sources, c: Cover, at: int) -> str:
    """What is special about a cover: retimed, with its sound, another camera in or out of step."""
    notes = []
    if c.span:
        notes.append(f"{round(100 * c.span / c.length)} %")
    if story.value(c, "natural", sources):
        notes.append("its sound unheard at this speed" if c.span else "with its sound")
    told = [SETTINGS[n] for n in c.settings if n not in ("span", "natural")]
    notes += [f"{x.label.lower()} {x.says(c.settings[x.name])}" for x in told]
    if at < story.length:
        i = story.index_at(at)
        p = story.pieces[i]
        if p.source is not None and p.source in sources and c.source in sources and p.take != "sound":
            want = same_moment(sources[p.source], sources[c.source], p.start + at - story.starts[i], story.rate)
            if want is not None:
                notes.append("in step" if want == c.start else f"{c.start - want:+d} frames out of step")
    return ", ".join(notes)


def _zoom(request: Request) -> int:
    try:
        z = int(request.headers.get("x-zoom") or request.query_params.get("zoom") or 2)
    except ValueError:
        z = 2
    return z if z in ZOOMS or z == WHOLE else 2


@router.get("/story")
def room(request: Request, project: int) -> HTMLResponse:
    w = web(request)
    kept = _kept(request, project)
    sheet = _sheet(request, kept, _zoom(request))
    p, rows = sheet["project"], sheet["rows"]
    bites = [
        {"c": c, "r": rows[c.recording], "face": small(w, rows[c.recording], c.start, p.rate)}
        for c in subclips.of_project(w.data.db, project)
        if c.verdict != "drop"
    ]
    shots = [
        {"r": r, "face": small(w, r, r.length(p.rate) // 3, p.rate), "length": r.length(p.rate)}
        for i, r in rows.items()
        if r.kind in ("b-roll", "still") and not r.aside
    ]
    beds = [
        {"r": r, "length": r.length(p.rate)}
        for r in rows.values()
        if r.sound and r.kind in ("music", "sound", "b-roll") and not r.aside
    ]
    return page(
        request,
        "story.html",
        room="story",
        key_rows=story_keys(),
        bites=[b for b in bites if b["r"].kind not in ("b-roll", "still")],
        shots=shots,
        beds=beds,
        **told(w.data, project, kept),
        ranges=[b for b in bites if b["r"].kind in ("b-roll", "still")],
        **sheet,
    )


@router.get("/story/page")
def fresh(request: Request, project: int) -> HTMLResponse:
    return page(request, "parts/page.html", **_sheet(request, _kept(request, project), _zoom(request)))


@router.get("/story/edits")
def edits(request: Request, project: int) -> JSONResponse:
    """Every edit as it is offered for the story as it stands, and what is said where something is wanting."""
    story = _kept(request, project).story
    rows = [{"command": name, **asdict(e), "value": meant(e, story.rate)} for name, e in catalogue.offered(story)]
    return JSONResponse({"entries": rows, "wanting": WANTING})


@router.get("/story/lanes")
def lane_switches(request: Request, project: int) -> HTMLResponse:
    return page(request, "parts/lanes.html", rows=lane_list(_kept(request, project).story), columns=COLUMNS)


@router.get("/story/plan")
def plan(request: Request, project: int) -> JSONResponse:
    w = web(request)
    kept = _kept(request, project)
    sources = recordings.sources(w.data.db, project)
    made = make_plan(kept.story, sources)
    s = kept.story
    pieces = [[q.id, at, q.length, q.source] for at, q in zip(s.starts, s.pieces, strict=False)]
    found = [[x.at, x.kind, x.right.id] for x in seams(s, sources)]
    covers = [[c.id, a, min(b, s.length)] for a, b, c in s.spans]
    beats = beats_of(w.data, s)
    return plan_answer(
        w, made, sources, revision=kept.revision, pieces=pieces, seams=found, covers=covers, beats=beats, project=project
    )


def _answer(request: Request, kept: Kept, done: Report) -> Response:
    if "application/json" in request.headers.get("accept", ""):
        return JSONResponse(
            {
                "revision": kept.revision,
                "length": kept.story.length,
                "did": done.did,
                "notes": done.notes,
                "made": done.made,
                "playhead": done.playhead,
            }
        )
    hurried = request.headers.get("x-view") == "none"  # more edits wait already: the page comes with the last of them
    html = "" if hurried else render("parts/page.html", request=request, **_sheet(request, kept, _zoom(request)))
    headers = {
        "cache-control": "no-store",
        "x-revision": str(kept.revision),
        "x-playhead": "" if done.playhead is None else str(done.playhead),
        "x-made": ",".join(map(str, done.made)),
    }
    return HTMLResponse(html + report(done.did, done.notes), headers=headers)


def _stale(request: Request, project: int, why: Stale) -> Response:
    """A page that is too old gets the fresh story with the message; its edit was not made."""
    if "application/json" in request.headers.get("accept", ""):
        raise why
    html = render("parts/page.html", request=request, **_sheet(request, _kept(request, project), _zoom(request)))
    return HTMLResponse(html + report(str(why), error=True), 409, headers={"cache-control": "no-store"})


@router.post("/story/edit")
def edit(request: Request, project: int, asked: Annotated[EditRequest, Body()]) -> Response:
    """One edit: key or click -> this -> core -> rows, journal and revision in one transaction -> fragments."""
    db, sid = web(request).data.db, _id(request, project)
    try:
        if asked.story not in (None, sid):
            raise Stale("Another story was opened meanwhile; here it is. Your edit was not made.")
        if asked.ask and (would := stories.preview(db, sid, asked.command, asked.params())).costs:
            return page(request, "parts/ask.html", 202, would=would)
        return _answer(request, *stories.edit(db, sid, asked.revision, asked.command, asked.params()))
    except Stale as e:
        return _stale(request, project, e)


@router.post("/story/undo")
def undo(request: Request, project: int, revision: Annotated[int | None, Form()] = None) -> Response:
    try:
        return _answer(request, *stories.undo(web(request).data.db, _id(request, project), revision))
    except Stale as e:
        return _stale(request, project, e)


@router.post("/story/redo")
def redo(request: Request, project: int, revision: Annotated[int | None, Form()] = None) -> Response:
    try:
        return _answer(request, *stories.redo(web(request).data.db, _id(request, project), revision))
    except Stale as e:
        return _stale(request, project, e)


@router.post("/story/go")
def go_to(
    request: Request, project: int, entry: Annotated[int, Form()], revision: Annotated[int | None, Form()] = None
) -> Response:
    """To the state after an edit of the history (0: the beginning), on whatever branch it lies."""
    try:
        return _answer(request, *stories.go_to(web(request).data.db, _id(request, project), entry or None, revision))
    except Stale as e:
        return _stale(request, project, e)


@router.get("/story/history")
def history(request: Request, project: int) -> HTMLResponse:
    return page(request, "parts/history.html", rows=stories.history(web(request).data.db, _id(request, project)))


@router.get("/story/revision")
def revision(request: Request, project: int, seen: int = -1, story: int | None = None) -> Response:
    """204 while the page is current; the fresh page once the story was changed elsewhere, or another one was opened."""
    kept = _kept(request, project)
    if kept.revision == seen and story in (None, kept.id):
        return Response(status_code=204)
    return HTMLResponse(
        render("parts/page.html", request=request, **_sheet(request, kept, _zoom(request)))
        + report("The story was changed elsewhere; this is how it stands now.")
    )
