"""The web application: one module a room, thin routes, server-rendered pages."""

import json
import sqlite3
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fastapi import Depends, FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse
from fastapi.staticfiles import StaticFiles
from pydantic import BaseModel
from starlette.exceptions import HTTPException
from starlette.middleware.sessions import SessionMiddleware

from kovel import __version__
from kovel.core.errors import Told
from kovel.core.story.settings import ranges
from kovel.data_folder import DataFolder
from kovel.jobs.log_files import notebook
from kovel.services.footage.intake import remember_all
from kovel.services.job_kinds import scheduler_for
from kovel.store import kept_settings
from kovel.store.db import in_words
from kovel.web import media_routes, open_story_routes, presence_routes, time_routes
from kovel.web.glossary import OURS
from kovel.web.keys import SHEETS
from kovel.web.pages import Application, environment, say
from kovel.web.presence_routes import Asking
from kovel.web.request_log import Noted
from kovel.web.rooms import ROOMS
from kovel.web.route_rules import of_the_project
from kovel.web.security import Guard, Sessions, signing

if TYPE_CHECKING:
    from kovel.jobs.cluster import Cluster


class Problem(BaseModel):
    """Why an answer is none, in words for the editor; asked for as a page (no `accept: application/json`), a report
    to show."""

    error: str


# what any route may answer instead of what it is for (RFC 9110, RFC 4918, RFC 6585)
ANSWERS: dict[int | str, dict[str, Any]] = {
    status: {"model": Problem, "description": why} if status >= 400 else {"description": why}
    for status, why in (
        (202, "A question first: nothing was changed yet, and the same request with a yes does it."),
        (204, "Done. There is nothing to show, or the header HX-Redirect tells where to go."),
        (400, "The request is none."),
        (403, "From another page, or not signed in."),
        (404, "There is no such project, recording or page; it may have been deleted."),
        (409, "Somebody was faster: the page shows an older state."),
        (413, "The body is larger than anything asked for here."),
        (415, "The body is of another type."),
        (416, "That part of the file is not there."),
        (422, "It cannot be done as asked; nothing was changed."),
        (423, "Somebody else holds the story."),
        (429, "Too often."),
        (503, "The database cannot be opened, or what was asked for is being made again."),
        (507, "The disk takes nothing; nothing was changed."),
    )
}


def create_app(
    data_folder: DataFolder,
    roots: list[Path] | None = None,
    *,
    hosts: set[str] | None = None,
    passphrase: str | None = None,
    secure: bool = False,
    jobs: bool = True,
    cluster: "Cluster | None" = None,
) -> FastAPI:
    """`roots` are the folders recordings may be brought in from; `hosts` further names it answers to; `secure`: it is
    served by TLS; `jobs` False for tests; `cluster`: workers on other machines."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        scheduler = scheduler_for(data_folder, elsewhere=[cluster] if cluster else ())
        if jobs:
            scheduler.start_or_wait()
        yield
        application.state.web.now.stop()
        scheduler.stop()
        data_folder.db.close()

    application = FastAPI(
        title="Kovel", version=__version__, lifespan=lifespan, docs_url=None, redoc_url=None, responses=ANSWERS
    )
    application.state.web = Application(data_folder, roots or [Path.home()], passphrase)
    data_folder.roots = [root.resolve() for root in application.state.web.roots]
    remember_all(data_folder)
    application.state.cluster = cluster
    data_folder.db.guard = application.state.web.together.allow
    data_folder.db.editor = application.state.web.together.asking
    application.add_middleware(Asking)
    application.add_middleware(Noted, log=notebook(data_folder.root / "logs"))
    application.state.sessions = Sessions(
        json.loads(kept_settings.get(data_folder.db, "sessions", "[]")),
        lambda rows: kept_settings.put(data_folder.db, "sessions", json.dumps(rows)),
    )
    application.add_middleware(Guard, hosts=hosts or set(), passphrase=passphrase, sessions=application.state.sessions)
    if passphrase:
        application.add_middleware(
            SessionMiddleware,
            secret_key=signing(data_folder.secret(), passphrase),
            https_only=secure,
            same_site="strict",
            session_cookie="kovel",
        )
    for room in ROOMS:
        scripts = Path(__file__).parent / "rooms" / room.key / "scripts"
        if scripts.is_dir():
            application.mount(f"/static/{room.key}", StaticFiles(directory=scripts), name=room.key)
    application.mount("/static", StaticFiles(directory=Path(__file__).parent / "static"), name="static")
    environment().globals["declared"] = ranges()
    environment().globals |= {"key_sheets": SHEETS, "our_words": OURS}
    environment().globals["rooms"] = [room for room in ROOMS if room.name]
    for router in (
        *(router for room in ROOMS for router in room.routers),
        *(module.router for module in (media_routes, time_routes, presence_routes, open_story_routes)),
    ):
        application.include_router(router, dependencies=[Depends(of_the_project)])

    def refuse(request: Request, status: int, message: str) -> HTMLResponse | JSONResponse:
        if "application/json" in request.headers.get("accept", ""):
            return JSONResponse({"error": message}, status)
        return say(request, message, status)

    @application.exception_handler(Told)
    async def told(request: Request, e: Told) -> HTMLResponse | JSONResponse:
        return refuse(request, e.status, str(e))

    @application.exception_handler(RequestValidationError)
    async def unreadable(request: Request, e: RequestValidationError) -> HTMLResponse | JSONResponse:
        wrong = ", ".join(str(error["loc"][-1]) for error in e.errors()[:4])
        return refuse(request, 422, f"That request could not be read ({wrong}). Nothing was changed.")

    @application.exception_handler(HTTPException)
    async def http(request: Request, e: HTTPException) -> HTMLResponse | JSONResponse:
        text = "There is no such page." if e.status_code == 404 else str(e.detail)
        return refuse(request, e.status_code, text)

    async def no_such_value(request: Request, error: Exception) -> HTMLResponse | JSONResponse:
        """Numbers beyond what a database holds, letters that are none."""
        return refuse(request, 422, "That request holds a value that cannot be kept. Nothing was changed.")

    application.add_exception_handler(OverflowError, no_such_value)
    application.add_exception_handler(UnicodeError, no_such_value)

    async def disk(request: Request, error: Exception) -> HTMLResponse | JSONResponse:
        told_words = in_words(error)
        if told_words is None:
            raise error
        return refuse(request, told_words.status, str(told_words))

    application.add_exception_handler(sqlite3.Error, disk)
    application.add_exception_handler(OSError, disk)

    @application.exception_handler(Exception)
    async def unforeseen(request: Request, e: Exception) -> HTMLResponse | JSONResponse:
        return refuse(
            request,
            500,
            "Something unforeseen went wrong. Nothing was lost: everything acknowledged is on disk. "
            "Reload the page and try again.",
        )

    return application
