"""The story that is open in a project, and edits that a room worked out for it."""

from dataclasses import dataclass
from typing import Any

from fastapi import Request
from fastapi.responses import JSONResponse

from kovel.data_folder import DataFolder
from kovel.services.sound.mixing import Asked
from kovel.store import projects, stories
from kovel.store.stories import Kept
from kovel.web.pages import web


def opened(request: Request, project: int) -> Kept:
    """The story of a project that is open."""
    database = web(request).data.db
    projects.get(database, project)
    return stories.load(database, stories.current(database, project))


def edited(request: Request, project: int, revision: int | None, asked: Asked, **more: Any) -> JSONResponse:
    """One edit that a room worked out, done; what it did, and what else there is to tell."""
    database = web(request).data.db
    kept_story, summary = stories.edit(database, stories.current(database, project), revision, *asked)
    return JSONResponse(
        {"revision": kept_story.revision, "did": summary.did, "notes": summary.notes, "made": summary.made, **more}
    )


@dataclass(frozen=True, slots=True)
class Named:
    """A story of the project, for the chooser; its length in frames."""

    id: int
    name: str
    length: int
    open: bool


def named(data_folder: DataFolder, project: int, kept_story: Kept) -> list[Named]:
    """The stories of a project; `kept_story` is the one that is open."""
    return [
        Named(story_number.id, story_number.name, story_number.story.length, story_number.id == kept_story.id)
        for story_number in stories.of_project(data_folder.db, project)
    ]
