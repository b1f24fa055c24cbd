"""The story that the rooms before it write into, named at the foot of their pages: another one chosen, its last edit
undone and redone."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse, Response

from kovel.core.story.model import Report
from kovel.store import history, stories
from kovel.web.open_story import Named, named, opened
from kovel.web.pages import joined, page, render, report, web

router = APIRouter(prefix="/p/{project}")


@dataclass(frozen=True, slots=True)
class Foot:
    """The open story of a project at the foot of a page: what can be undone and redone there, empty where nothing."""

    project: int
    stories: list[Named]
    undo: str
    redo: str


def _foot(request: Request, project: int) -> Foot:
    data_folder, kept_story = web(request).data, opened(request, project)
    rows = history.entries(data_folder.db, kept_story.id)
    last = next((row["did"] for row in rows if row["now"]), "")
    return Foot(
        project,
        named(data_folder, project, kept_story),
        f"Undo in {kept_story.name}: {last}" if kept_story.can_undo else "",
        f"Redo in {kept_story.name} what was undone last" if kept_story.can_redo else "",
    )


@router.get("/open-story")
def shown(request: Request, project: int) -> HTMLResponse:
    """The foot of a page, asked for again after whatever was sent."""
    return page(request, "parts/open_story.html", _foot(request, project))


@router.post("/open-story")
def choose(request: Request, project: int, story: Annotated[int, Form()]) -> Response:
    """Another story is the one that is written into; the page shows what of it there is."""
    stories.open_story(web(request).data.db, project, story)
    return Response(status_code=204, headers={"hx-refresh": "true"})


@router.post("/open-story/undo")
def undo(request: Request, project: int) -> HTMLResponse:
    """The last edit of the open story taken back."""
    return _turned(request, project, history.undo)


@router.post("/open-story/redo")
def redo(request: Request, project: int) -> HTMLResponse:
    """What was undone last done again."""
    return _turned(request, project, history.redo)


def _turned(request: Request, project: int, turn: Callable[..., tuple[stories.Kept, Report]]) -> HTMLResponse:
    kept_story = opened(request, project)
    _, told = turn(web(request).data.db, kept_story.id)
    did = f"{told.did}, in {kept_story.name}."
    return joined(render("parts/open_story.html", _foot(request, project)), report(did, told.notes))
