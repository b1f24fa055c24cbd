"""The Picture room: how the film looks. One thing large, the strip of the story below, what is set at the scope
picked."""

import json
from dataclasses import dataclass
from fractions import Fraction
from typing import Annotated

from fastapi import APIRouter, File, Query, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from kovel.core.errors import Invalid, Missing
from kovel.core.picture import look as looks
from kovel.core.picture.colour import cube_text
from kovel.core.plan.layers import OPAQUE, Look, flat
from kovel.core.plan.pictures import Seen
from kovel.core.plan.plan import make_plan
from kovel.core.story.model import TITLE, Cover, Item, Piece, Refused
from kovel.core.story.settings import LOOK, SETTINGS
from kovel.services.footage.thumbnails import colours
from kovel.services.picture import face_framing, look_tables
from kovel.services.picture.look_tables import Levels
from kovel.services.story.closest_poses import all_poses
from kovel.services.story.story_checks import words_around
from kovel.store import looks as saved_looks
from kovel.store import projects, recordings, stories
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.store.stories import Kept
from kovel.web.forms import ids_in
from kovel.web.open_story import Named, edited, named, opened
from kovel.web.pages import download, page, the_recording, web
from kovel.web.rooms.picture.film_strip import film
from kovel.web.rooms.picture.pace_line import Pace, pace_of
from kovel.web.settings_panel import SEEN, TITLES, Scope, about, panel_of, scopes_of
from kovel.web.settings_panel import Field as PanelField
from kovel.web.small_frames import face_of

router = APIRouter(prefix="/p/{project}")
STANDS = {"cache-control": "private, max-age=31536000, immutable"}


@dataclass(frozen=True, slots=True)
class PictureRoom:
    """The Picture room."""

    project: Project
    kept: Kept
    stories: list[Named]


@router.get("/picture")
def room(request: Request, project: int) -> HTMLResponse:
    data_folder = web(request).data
    kept_story = opened(request, project)
    return page(
        request,
        "picture/room.html",
        PictureRoom(
            project=projects.get(data_folder.db, project),
            kept=kept_story,
            stories=named(data_folder, project, kept_story),
        ),
        room="picture",
    )


@router.get("/picture/film")
def the_film(request: Request, project: int, px: Annotated[float, Query(gt=0, le=40)]) -> HTMLResponse:
    """The strip of the story at so many pixels a frame."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    frame_rate = kept_story.story.rate
    drawn = film(
        kept_story.story,
        {key: recording.source for key, recording in recordings_by_id.items()},
        px,
        lambda source, frame: (
            face_of(data_folder, recordings_by_id[source], frame, frame_rate) if source in recordings_by_id else None
        ),
    )
    return page(request, "picture/film_strip.html", film=drawn, kept=kept_story)


def _chosen(kept_story: Kept, items: str) -> list[Piece | Cover]:
    try:
        chosen_clips = [kept_story.story.item(item_id) for item_id in ids_in(items)[:2_000]]
    except Refused:
        return []
    return [clip for clip in chosen_clips if isinstance(clip, (Piece, Cover))]


@dataclass(frozen=True, slots=True)
class PicturePanel:
    """What is set on what is chosen, at the scope that is picked."""

    chosen: str
    scopes: list[Scope]
    scope: str
    about: list[str]
    recording: int | None
    framing: list[PanelField]
    title: bool
    look: list[PanelField]
    saved: list[str]
    pace: Pace | None


@router.get("/picture/panel")
def panel(request: Request, project: int, items: str = "", scope: str = "items") -> HTMLResponse:
    """What is set on what is chosen at the scope that was picked: framing and look."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    sources = recordings.sources(data_folder.db, project)
    chosen = _chosen(kept_story, items)
    if not chosen:
        return page(request, "picture/panel.html", chosen=None)
    clips: list[Item] = [*chosen]
    scopes = scopes_of(kept_story.story, sources, clips, "picture")
    scope = scope if scope in {scope.key for scope in scopes} else "items"
    named = {
        "table": ("", *look_tables.table_names(data_folder)),
        "font": ("Serif", "Sans", *look_tables.font_names(data_folder)),
    }
    title = isinstance(chosen[0], Cover) and chosen[0].source == TITLE
    return page(
        request,
        "picture/panel.html",
        PicturePanel(
            chosen=",".join(str(clip.id) for clip in chosen),
            scopes=scopes,
            scope=scope,
            about=about(kept_story.story, sources, clips),
            recording=chosen[0].source,
            framing=panel_of(kept_story.story, sources, clips, scope, (*TITLES, *SEEN) if title else SEEN, named),
            title=title,
            look=panel_of(kept_story.story, sources, clips, scope, ("look_alone", *LOOK), named),
            saved=list(saved_looks.saved(data_folder.db)),
            pace=pace_of(chosen[0], kept_story.story, sources, kept_story.story.rate) if scope == "items" else None,
        ),
    )


def _look_at(request: Request, project: int, at: int, item: int | None) -> tuple[Recording, int, Look] | None:
    """(recording, frame on its clock, look) of what is seen at a story frame: of `item`, or of the topmost picture."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    sources = recordings.sources(data_folder.db, project)
    if item is not None and (clips_found := _chosen(kept_story, str(item))):
        clip, seen = clips_found[0], Seen(kept_story.story, sources)
        begin = (
            kept_story.story.starts[kept_story.story.index_of(clip.id)]
            if isinstance(clip, Piece)
            else kept_story.story.at(clip)
        )
        frame_there = min(max(0, at - begin), clip.length - 1)
        own_values = seen.piece(clip, frame_there) if isinstance(clip, Piece) else seen.cover(clip, frame_there)
        layers, later = seen.together([(seen.whole_of(clip), OPAQUE, own_values)]), 0
    else:
        plan = make_plan(kept_story.story, sources)
        if not 0 <= at < plan.length:
            return None
        run = plan.picture_at(at)
        layers, later = run.layers, at - run.at
    layer = next((layer.later(later) for layer in reversed([*flat(layers)]) if layer.image.source is not None), None)
    if layer is None or layer.image.source is None:
        return None
    base, _, den = layer.image.steps(Fraction(1))  # at whatever speed it runs
    return recordings.get(data_folder.db, layer.image.source), base // den, layer.look


@dataclass(frozen=True, slots=True)
class LevelsDrawn:
    """The spread of levels of a frame, as filmed and with its look."""

    before: Levels
    after: Levels
    looked: bool
    wide: int
    high: int


@router.get("/picture/levels")
def levels(request: Request, project: int, at: Annotated[int, Query(ge=0)], item: int | None = None) -> HTMLResponse:
    """How the levels of a picture are spread, before and after its look."""
    data_folder = web(request).data
    look_found = _look_at(request, project, at, item)
    frame_rate = projects.get(data_folder.db, project).rate
    pixels = colours(data_folder, look_found[0], look_found[1], frame_rate) if look_found else None
    if look_found is None or pixels is None:
        return page(request, "picture/levels.html", before=None)
    before, look = look_tables.levels(pixels), look_found[2]
    after = look_tables.levels(looks.applied(look_tables.table_of(data_folder, look), pixels)) if look else before
    return page(
        request,
        "picture/levels.html",
        LevelsDrawn(before=before, after=after, looked=bool(look), wide=look_tables.WIDE, high=look_tables.HIGH),
    )


@router.get("/look.bin")
def look_table(request: Request, project: int, of: Annotated[str, Query(max_length=4_000)]) -> Response:
    """The table of looks that follow each other, as the player applies it: 33 x 33 x 33 times red, green, blue."""
    table = look_tables.table_of(web(request).data, _asked_look(of))
    return Response(
        (table * 255 + 0.5).astype("uint8").tobytes(), media_type="application/octet-stream", headers=STANDS
    )


def _asked_look(of: str) -> Look:
    try:
        this_look_rows = json.loads(of)
    except ValueError:
        this_look_rows = None
    if not isinstance(this_look_rows, list):
        raise Missing("There is no such look.")
    return look_tables.checked(this_look_rows)


@router.get("/picture/look.cube")
def look_out(request: Request, project: int, at: Annotated[int, Query(ge=0)], item: int | None = None) -> Response:
    """What all looks together do to a picture, as a `.cube` table for other programs."""
    look_found = _look_at(request, project, at, item)
    if look_found is None or not look_found[2]:
        raise Invalid("Nothing is set on how that looks: there is no table to save.")
    return download(
        cube_text(look_tables.table_of(web(request).data, look_found[2])), f"{look_found[0].name} look.cube"
    )


@router.get("/picture/others")
def others(request: Request, project: int, recording: int) -> JSONResponse:
    """Recordings whose colours another one can be given: those of its sync set first."""
    other_recordings = [
        other
        for other in recordings.of_project(web(request).data.db, project)
        if other.picture and other.id != recording
    ]
    mine = the_recording(request, project, recording).source.sync
    other_recordings.sort(
        key=lambda r: (not (mine and r.source.sync and r.source.sync.set == mine.set), r.kind != "interview")
    )
    return JSONResponse([[recording.id, recording.name] for recording in other_recordings])


@router.get("/picture/alike")
def alike(request: Request, project: int, item: int) -> JSONResponse:
    """All pieces and covers of the same recording as one of them."""
    story = opened(request, project).story
    source = story.item(item).source
    clips: list[Item] = [*story.pieces, *story.covers]
    return JSONResponse([clip.id for clip in clips if source is not None and clip.source == source])


@router.get("/picture/own")
def own(request: Request, project: int, item: int) -> JSONResponse:
    """The settings of framing and look that stand on a thing itself."""
    return JSONResponse(
        [
            setting
            for setting in opened(request, project).story.item(item).settings
            if (setting in (*SEEN, *LOOK, "look_alone", *TITLES) and SETTINGS[setting].wide)
            or setting in ("appear", "leave")
        ]
    )


@router.get("/picture/speaker")
def speaker(request: Request, project: int, at: Annotated[int, Query(ge=0)]) -> JSONResponse:
    """Who speaks at a story frame, or soon after it: for a lower third."""
    story = opened(request, project).story
    words = words_around(web(request).data, story, at, at + 4 * story.rate.nominal)
    return JSONResponse({"name": next((word.speaker for _, _, word in words if word.speaker), "")})


class _Asked(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


@router.post("/picture/tables")
def table_in(request: Request, project: int, table: Annotated[UploadFile, File()]) -> JSONResponse:
    """A `.cube` table is loaded: its name from now on."""
    body = table.file.read(look_tables.LARGEST + 1)
    return JSONResponse({"name": look_tables.take_in_table(web(request).data, table.filename or "table", body)})


@router.post("/picture/fonts")
def font_in(request: Request, project: int, font: Annotated[UploadFile, File()]) -> JSONResponse:
    """The editor's own font file: its name from now on."""
    body = font.file.read(look_tables.LARGEST_FONT + 1)
    return JSONResponse({"name": look_tables.take_in_font(web(request).data, font.filename or "", body)})


class FacesAsked(_Asked):
    """What is chosen is framed on the speaker's face."""

    items: list[int]
    revision: int | None = None


class PunchAsked(_Asked):
    zoom: float = Field(125, ge=100, le=400)
    revision: int | None = None
    ask: bool = False  # what it would do is shown first


class PosesAsked(_Asked):
    """Every exposed jump moved to its closest pose."""

    revision: int | None = None
    ask: bool = False  # what it would do is shown first


class ShapeAsked(_Asked):
    shape: str


@router.post("/picture/faces")
def faces(request: Request, project: int, asked: FacesAsked) -> JSONResponse:
    """What is chosen sits on the speaker's face: one edit."""
    story = opened(request, project).story
    return edited(
        request, project, asked.revision, face_framing.sit_on_faces(web(request).data, project, story, asked.items)
    )


@router.post("/picture/punch")
def punch(request: Request, project: int, asked: PunchAsked) -> Response:
    """Every second exposed jump punched in, on the face: one edit."""
    story = opened(request, project).story
    made_edit, would = face_framing.punch_in(web(request).data, project, story, asked.zoom)
    if asked.ask:
        return page(request, "parts/ask.html", status=202, would=would)
    return edited(request, project, asked.revision, made_edit)


@router.post("/picture/poses")
def poses(request: Request, project: int, asked: PosesAsked) -> Response:
    """Every exposed jump where the two pictures differ least, within the pauses: one edit."""
    made_edit, would = all_poses(web(request).data, project, opened(request, project).story)
    if asked.ask:
        return page(request, "parts/ask.html", status=202, would=would)
    return edited(request, project, asked.revision, made_edit)


@router.post("/picture/shape")
def shape(request: Request, project: int, asked: ShapeAsked) -> JSONResponse:
    """This story in another shape, as a story of its own, which is opened."""
    data_folder = web(request).data
    story_id, summary = face_framing.other_shape(data_folder, project, asked.shape)
    stories.open_story(data_folder.db, project, story_id)
    return JSONResponse({"did": summary, "story": story_id})


class MatchAsked(_Asked):
    """A recording is given the colours of another one."""

    recording: int
    other: int


@router.post("/picture/match")
def match(request: Request, project: int, asked: MatchAsked) -> JSONResponse:
    for recording_id in (asked.recording, asked.other):
        the_recording(request, project, recording_id)
    summary, name = look_tables.match(web(request).data, asked.recording, asked.other)
    return JSONResponse({"did": summary, "table": name})


class WhiteAsked(_Asked):
    """A colour that was picked in the picture as filmed, 0..1 each, and where the balance is set."""

    rgb: list[float] = Field(min_length=3, max_length=3)


@router.post("/picture/white")
def white(request: Request, project: int, asked: WhiteAsked) -> JSONResponse:
    """Warmth and tint that make what was picked grey."""
    if not all(0 <= channel <= 1 for channel in asked.rgb) or max(asked.rgb) < 0.05 or min(asked.rgb) > 0.98:
        raise Invalid("That is too dark or too bright to say what grey is: pick something in between.")
    warmth, tint = looks.neutral(asked.rgb)
    return JSONResponse({"warmth": warmth, "tint": tint})


class SaveAsked(_Asked):
    name: str = Field(max_length=200)
    item: int


@router.post("/picture/looks")
def save_look(request: Request, project: int, asked: SaveAsked) -> JSONResponse:
    """The look that is set on a thing itself, kept under a name for every project."""
    kept_story = opened(request, project)
    own_values = kept_story.story.item(asked.item).settings
    name = saved_looks.save(
        web(request).data.db, asked.name, {name: own_values[name] for name in own_values if name in LOOK}
    )
    return JSONResponse({"did": f"Look saved as {name}"})


class NameAsked(_Asked):
    name: str = Field(max_length=200)


@router.post("/picture/looks/rows")
def look_rows(request: Request, project: int, asked: NameAsked) -> JSONResponse:
    """A saved look as settings: every one of a look, so that what was set before does not stay with it."""
    look_found = saved_looks.saved(web(request).data.db).get(asked.name)
    if look_found is None:
        raise Missing(f"There is no look called {asked.name[:60]}.")
    return JSONResponse({"settings": {name: look_found.get(name) for name in LOOK}})


@router.post("/picture/looks/away")
def drop_look(request: Request, project: int, asked: NameAsked) -> JSONResponse:
    saved_looks.take_away(web(request).data.db, asked.name)
    return JSONResponse({"did": f"{asked.name} is no longer among the saved looks"})
