"""The Story room: the lined page, its edits, undo and redo, the plan the player reads."""

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Annotated, Any, Literal, Union

from fastapi import APIRouter, Body, Form, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field, create_model

from kovel.core.errors import Invalid
from kovel.core.plan.plan import make_plan, size_of
from kovel.core.plan.sounds import alone
from kovel.core.story import catalogue
from kovel.core.story.command_search import Named, searched
from kovel.core.story.edit_offers import COMMANDS, WANTING, meant
from kovel.core.story.laying import How, InHand, Place, lays
from kovel.core.story.marker_places import placed_markers
from kovel.core.story.model import MarkerShape, Report
from kovel.core.story.seams import seams
from kovel.core.story.several import clip_parameter
from kovel.core.time.timecode import TimeError, parse_length, stamp
from kovel.core.words.transcript import Word
from kovel.services.sound.derived_sounds import want_retimed
from kovel.services.tighten.quick_cuts import beats_of
from kovel.store import history, projects, recordings, stories, transcripts
from kovel.store.projects import Project
from kovel.store.stories import Kept, Stale
from kovel.web.forms import ids_in
from kovel.web.open_story import Named as NamedStory
from kovel.web.open_story import named, opened
from kovel.web.pages import page, plan_answer, render, report, web
from kovel.web.rooms.story.lane_list import COLUMNS, lane_list
from kovel.web.rooms.story.page_drawing import WHOLE, Drawing
from kovel.web.rooms.story.page_sheet import Sheet
from kovel.web.rooms.story.places import PLACES
from kovel.web.rooms.story.shelf import Page, shelf_of
from kovel.web.small_frames import face_of

router = APIRouter(prefix="/p/{project}")
ZOOMS = (1, 2, 4, 8, 16, 32, 64)  # seconds a row


class _Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)
    revision: int | None = None
    story: int | None = None
    ask: bool = False
    each: list[int] | None = None  # clips it is done to in one step, in place of the one it names
    command: str

    def params(self) -> dict[str, Any]:
        """The edit's own parameters, as they were sent."""
        return self.model_dump(exclude={"revision", "command", "story", "ask"}, exclude_unset=True)


def _models() -> Any:
    """A request model for each command of the core, from its signature."""
    models_made = []
    for name in COMMANDS:
        fields: dict[str, Any] = {**catalogue.parameters(name), "command": (Literal[name], ...)}
        models_made.append(create_model(f"{name}_request", __base__=_Edit, __doc__=catalogue.about(name), **fields))
    return Annotated[Union[tuple(models_made)], Field(discriminator="command")]  # noqa: UP007


if TYPE_CHECKING:
    EditRequest = _Edit
else:
    EditRequest = _models()


def _id(request: Request, project: int) -> int:
    database = web(request).data.db
    projects.get(database, project)
    return stories.current(database, project)


def _sheet(request: Request, kept_story: Kept) -> Sheet:
    """The lined page as the request asks for it: how near (X-Zoom), which story frames (X-View)."""
    data_folder = web(request).data
    project = projects.get(data_folder.db, kept_story.project)
    recordings_by_id = {
        recording.id: recording for recording in recordings.of_project(data_folder.db, kept_story.project)
    }

    def words(source: int, start: int, length: int) -> list[Word]:
        begin, end = (project.rate.frame_to_sample(edge_frame) for edge_frame in (start, start + length))
        return transcripts.words_between(data_folder.db, source, begin, end)

    view = request.headers.get("x-view") or request.query_params.get("view") or ""
    drawing = Drawing(
        kept_story.story,
        {key: recording.source for key, recording in recordings_by_id.items()},
        recordings_by_id,
        _zoom(request),
        view,
        words,
        lambda source, frame: face_of(data_folder, recordings_by_id[source], frame, project.rate),
    )
    return drawing.sheet(
        revision=kept_story.revision, story=kept_story.id, undo=int(kept_story.can_undo), redo=int(kept_story.can_redo)
    )


def _drawn(request: Request, kept_story: Kept) -> str:
    return render("story/lined_page.html", request=request, sheet=_sheet(request, kept_story))


def _zoom(request: Request) -> int:
    try:
        asked_zoom = int(request.headers.get("x-zoom") or request.query_params.get("zoom") or 2)
    except ValueError:
        asked_zoom = 2
    return asked_zoom if asked_zoom in ZOOMS or asked_zoom == WHOLE else 2


@dataclass(frozen=True, slots=True)
class StoryRoom:
    """The Story room."""

    project: Project
    shelf: dict[str, Page]
    zooms: tuple[int, ...]
    sheet: Sheet
    stories: list[NamedStory]


@router.get("/story")
def room(request: Request, project: int) -> HTMLResponse:
    data_folder = web(request).data
    kept_story = opened(request, project)
    return page(
        request,
        "story/room.html",
        StoryRoom(
            project=projects.get(data_folder.db, project),
            shelf=shelf_of(data_folder, project).pages(),
            zooms=ZOOMS,
            sheet=_sheet(request, kept_story),
            stories=named(data_folder, project, kept_story),
        ),
        room="story",
    )


@dataclass(frozen=True, slots=True)
class ShelfPart:
    """A part of the shelf."""

    project: Project
    kind: str
    part: Page


@router.get("/story/shelf/{kind}")
def shelf_page(request: Request, project: int, kind: Literal["bites", "shots", "beds"], start: int = 0) -> HTMLResponse:
    """More of the shelf, from item `start` on."""
    return page(
        request,
        "story/shelf.html",
        ShelfPart(
            project=projects.get(web(request).data.db, project),
            kind=kind,
            part=shelf_of(web(request).data, project).page(kind, max(0, start)),
        ),
    )


@router.get("/story/page")
def fresh(request: Request, project: int) -> HTMLResponse:
    return HTMLResponse(_drawn(request, opened(request, project)), headers={"cache-control": "no-store"})


@router.get("/story/edits")
def edits(request: Request, project: int) -> JSONResponse:
    """Every edit as it is offered for the story as it stands, and what is said where something is wanting."""
    story = opened(request, project).story
    listed_edits = [
        {
            "command": name,
            **asdict(entry),
            "value": meant(entry, story.rate),
            "each_of": clip_parameter(name) is not None,
        }
        for name, entry in catalogue.offered(story)
    ]
    return JSONResponse({"entries": listed_edits, "wanting": WANTING, "places": [asdict(place) for place in PLACES]})


class OwnAction(BaseModel):
    """What the page does besides edits."""

    label: str = Field(max_length=200)
    typed: Literal["", "length", "delta", "minutes", "number", "text"] = ""


class SearchAsked(BaseModel):
    """Part of a name that is typed; which of the edits fit what is selected, by their number; what the page does
    besides."""

    text: str = Field(max_length=500)
    fits: list[int] = Field(max_length=2000)
    own: list[OwnAction] = Field(default=[], max_length=100)


@router.post("/story/edits/search")
def search_edits(request: Request, project: int, asked: SearchAsked) -> JSONResponse:
    """Which edits somebody means: [number, value, whether Enter does it]; numbered as `edits` has them, then places,
    then the page's."""
    story = opened(request, project).story
    fitting = set(asked.fits)
    names = [
        Named(entry.label, entry.typed, entry.also, index in fitting)
        for index, (_, entry) in enumerate(catalogue.offered(story))
    ]
    names += [place.named for place in PLACES] + [Named(own_action.label, own_action.typed) for own_action in asked.own]
    return JSONResponse([[hit.number, hit.value, hit.runs] for hit in searched(names, asked.text, story.rate)])


@router.post("/story/edit/preview")
def preview_edit(request: Request, project: int, asked: Annotated[EditRequest, Body()]) -> JSONResponse:
    """What an edit would do, and how long the story is before and after it; nothing is changed."""
    database, story_id = web(request).data.db, _id(request, project)
    before = stories.load(database, story_id).story
    after, would = stories.previewed(database, story_id, asked.command, asked.params())
    lengths = [stamp(story.length, story.rate) for story in (before, after)]
    told_length = (
        f"the story stays {lengths[0]} long"
        if before.length == after.length
        else f"the story: {lengths[0]} → {lengths[1]}"
    )
    return JSONResponse({"told": " · ".join([would.did, *would.notes[:2], told_length])})


@router.get("/story/lanes")
def lane_switches(request: Request, project: int) -> HTMLResponse:
    return page(request, "story/lanes.html", rows=lane_list(opened(request, project).story), columns=COLUMNS)


@router.get("/story/plan")
def plan(request: Request, project: int, only: str = "") -> JSONResponse:
    """What the player plays; `only` (ids, comma between) is all that is heard of it."""
    application = web(request)
    kept_story = opened(request, project)
    sources = recordings.sources(application.data.db, project)
    ids = set(ids_in(only))
    made_plan = make_plan(alone(kept_story.story, ids) if ids else kept_story.story, sources)
    want_retimed(application.data, project, made_plan)
    story = kept_story.story
    pieces = [[piece.id, at, piece.length, piece.source] for at, piece in zip(story.starts, story.pieces, strict=False)]
    seams_found = [[seam.at, seam.kind, seam.right.id] for seam in seams(story, sources)]
    covers = [[cover.id, start, min(end, story.length)] for start, end, cover in story.spans]
    laid = [[sound.id, story.at(sound), min(story.at(sound) + sound.length, story.length)] for sound in story.sounds]
    beats = beats_of(application.data, story)
    markers = [[marker.id, at, marker.name, marker.shape] for at, marker in placed_markers(story)]
    of = projects.get(application.data.db, project)
    return plan_answer(
        application,
        made_plan,
        sources,
        revision=kept_story.revision,
        pieces=pieces,
        seams=seams_found,
        covers=covers,
        laid=laid,
        markers=markers,
        beats=beats,
        project=project,
        size=size_of(story, of.width, of.height),
    )


@router.get("/story/markers")
def marker_list(request: Request, project: int) -> HTMLResponse:
    """The markers of the open story: those in place in its order, then those whose word is not in it."""
    story = opened(request, project).story
    there = placed_markers(story)
    in_place = {marker.id for _, marker in there}
    rows = [(at, stamp(at, story.rate), marker) for at, marker in there]
    waiting = [marker for marker in story.markers if marker.id not in in_place]
    return page(request, "story/markers.html", rows=rows, waiting=waiting, shapes=tuple(MarkerShape))


def _answer(request: Request, kept_story: Kept, done: Report) -> Response:
    if "application/json" in request.headers.get("accept", ""):
        return JSONResponse(
            {
                "revision": kept_story.revision,
                "length": kept_story.story.length,
                "did": done.did,
                "notes": done.notes,
                "made": done.made,
                "playhead": done.playhead,
            }
        )
    hurried = request.headers.get("x-view") == "none"  # more edits wait already: the page comes with the last of them
    html = "" if hurried else _drawn(request, kept_story)
    headers = {
        "cache-control": "no-store",
        "x-revision": str(kept_story.revision),
        "x-playhead": "" if done.playhead is None else str(done.playhead),
        "x-made": ",".join(map(str, done.made)),
    }
    return HTMLResponse(html + report(done.did, done.notes), headers=headers)


def _stale(request: Request, project: int, why: Stale) -> Response:
    """A page that is too old gets the fresh story with the message; its edit was not made."""
    if "application/json" in request.headers.get("accept", ""):
        raise why
    html = _drawn(request, opened(request, project))
    return HTMLResponse(html + report(str(why), error=True), 409, headers={"cache-control": "no-store"})


@router.post("/story/edit")
def edit(request: Request, project: int, asked: Annotated[EditRequest, Body()]) -> Response:
    """One edit: key or click -> this -> core -> rows, journal and revision in one transaction -> fragments."""
    database, story_id = web(request).data.db, _id(request, project)
    try:
        _same_story(asked.story, story_id)
        if asked.ask and (would := stories.preview(database, story_id, asked.command, asked.params())).costs:
            return page(request, "parts/ask.html", status=202, would=would)
        return _answer(request, *stories.edit(database, story_id, asked.revision, asked.command, asked.params()))
    except Stale as error:
        return _stale(request, project, error)


def _same_story(asked: int | None, open_story: int) -> None:
    if asked not in (None, open_story):
        raise Stale("Another story was opened meanwhile; here it is. Your edit was not made.")


class LayAsked(BaseModel):
    """What is laid and where; `length` as it is typed, for covers that no words give a length."""

    model_config = ConfigDict(extra="forbid")
    hand: Annotated[list[InHand], Field(min_length=1, max_length=500)]
    place: Place
    length: Annotated[str, Field(max_length=60)] = ""
    revision: int | None = None
    story: int | None = None


@router.post("/story/lay")
def lay(request: Request, project: int, asked: LayAsked) -> Response:
    """What is picked up in the shelf laid where the editor says: the core says by which edit."""
    database, story_id = web(request).data.db, _id(request, project)
    this_project = projects.get(database, project)
    try:
        _same_story(asked.story, story_id)
        each = 0
        is_timed = asked.place.how in (None, How.COVER, How.GAP) and asked.place.over is None
        if is_timed and asked.hand[-1].kind in ("bite", "shot"):
            each = parse_length(asked.length, this_project.rate)
        story = stories.load(database, story_id).story
        command, params = lays(asked.hand, asked.place, each, story.length)
        return _answer(request, *stories.edit(database, story_id, asked.revision, command, params))
    except TimeError as error:
        raise Invalid(str(error)) from None
    except Stale as error:
        return _stale(request, project, error)


@router.post("/story/undo")
def undo(
    request: Request,
    project: int,
    revision: Annotated[int | None, Form()] = None,
    others: Annotated[bool, Form()] = False,
) -> Response:
    return _turn(request, project, history.undo, revision, others, "Undo")


@router.post("/story/redo")
def redo(
    request: Request,
    project: int,
    revision: Annotated[int | None, Form()] = None,
    others: Annotated[bool, Form()] = False,
) -> Response:
    return _turn(request, project, history.redo, revision, others, "Redo")


def _turn(
    request: Request,
    project: int,
    turn: Callable[..., tuple[Kept, Report]],
    revision: int | None,
    others: bool,
    do: str,
) -> Response:
    """Undo or redo; asked about first (202) where the edit is somebody else's."""
    try:
        return _answer(request, *turn(web(request).data.db, _id(request, project), revision, others))
    except history.Others as error:
        return page(request, "parts/ask_others.html", status=202, why=str(error), do=do)
    except Stale as error:
        return _stale(request, project, error)


@router.post("/story/go")
def go_to(
    request: Request, project: int, entry: Annotated[int, Form()], revision: Annotated[int | None, Form()] = None
) -> Response:
    """To the state after an edit of the history (0: the beginning), on whatever branch it lies."""
    try:
        return _answer(request, *history.go_to(web(request).data.db, _id(request, project), entry or None, revision))
    except Stale as error:
        return _stale(request, project, error)


@router.get("/story/history")
def edits_of_history(request: Request, project: int) -> HTMLResponse:
    return page(request, "story/history.html", rows=history.entries(web(request).data.db, _id(request, project)))


@router.get("/story/revision")
def revision(request: Request, project: int, seen: int = -1, story: int | None = None) -> Response:
    """204 while the page is current; the fresh page once the story was changed elsewhere, or another one was opened."""
    kept_story = opened(request, project)
    if kept_story.revision == seen and story in (None, kept_story.id):
        return Response(status_code=204)
    return HTMLResponse(
        _drawn(request, kept_story) + report("The story was changed elsewhere; this is how it stands now.")
    )
