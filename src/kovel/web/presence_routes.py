"""Several editors in one project: who is there and where, a story held by one, and edits of others seen at once."""

from __future__ import annotations

import re
from dataclasses import dataclass
from secrets import token_hex
from typing import Annotated

from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import HTMLResponse, Response
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from kovel.core.time.timecode import running
from kovel.store import projects, stories
from kovel.store.projects import Project, clean_name
from kovel.web.pages import page, web
from kovel.web.presence import EDITOR, Here

router = APIRouter(prefix="/p/{project}")
COOKIE = "kovel-editor"
ROOMS = {
    "story": "Story",
    "picture": "Picture",
    "sound": "Sound",
    "log": "Log",
    "footage": "Footage",
    "tighten": "Tighten",
    "handoff": "Hand-off",
}


class Asking:
    """ASGI middleware: who asks, by their browser's cookie, is known to whatever is done for them. A browser that
    opens its first page is given one with it: what several of its pages ask at once afterwards, one and the same
    editor asks."""

    def __init__(self, application: ASGIApp) -> None:
        self.app = application

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        request = Request(scope)
        kept = request.cookies.get(COOKIE, "")
        known = re.fullmatch("[0-9a-f]{16}", kept) is not None
        EDITOR.set(kept if known else "")
        if known or "text/html" not in request.headers.get("accept", ""):  # what scripts ask for says nothing of pages
            await self.app(scope, receive, send)
            return
        editor = token_hex(8)
        EDITOR.set(editor)

        async def with_cookie(message: Message) -> None:
            if message["type"] == "http.response.start":
                MutableHeaders(scope=message).append("set-cookie", _cookie(editor, request.url.scheme))
            await send(message)

        await self.app(scope, receive, with_cookie)


def _cookie(editor: str, scheme: str) -> str:
    safe = "; Secure" if scheme == "https" else ""
    return f"{COOKIE}={editor}; Max-Age={30 * 86_400}; Path=/; HttpOnly; SameSite=strict{safe}"


@dataclass(frozen=True, slots=True)
class Together:
    """Who is in a room with the editor, and what story they have open."""

    project: Project
    room: str
    me: Here
    others: list[tuple[Here, str, str]]
    holder: Here | None
    story: str


@router.get("/together")
def together(
    request: Request, project: int, room: Annotated[str, Query(max_length=20)] = "", frame: int = 0, seen: int = -1
) -> HTMLResponse:
    """Who else is there; asked again and again by every page. The page is told when the story was changed by
    another."""
    application = web(request)
    this_project = projects.get(application.data.db, project)
    editor = EDITOR.get() or token_hex(8)
    me = application.together.heard_of(project, editor, room, max(0, min(frame, 1 << 40)))
    kept_story = stories.load(application.data.db, stories.current(application.data.db, project))
    others = [
        (
            here,
            ROOMS.get(here.room, ""),
            running(here.frame, this_project.rate) if here.room in ("story", "picture", "sound") else "",
        )
        for here in application.together.others(project, editor)
    ]
    together_page = page(
        request,
        "parts/together.html",
        Together(
            project=this_project,
            room=room,
            me=me,
            others=others,
            holder=application.together.holder(kept_story.id),
            story=kept_story.name,
        ),
    )
    if editor != EDITOR.get():
        together_page.headers.append("set-cookie", _cookie(editor, request.url.scheme))
    if seen >= 0 and kept_story.revision != seen:
        together_page.headers["hx-trigger"] = "moved"
    return together_page


@router.post("/together/name")
def name(
    request: Request, project: int, name: Annotated[str, Form()] = "", room: Annotated[str, Form()] = ""
) -> HTMLResponse:
    """What one is called here."""
    if editor := EDITOR.get():
        web(request).together.call(project, editor, clean_name(name, limit=24))
    return together(request, project, room)


@router.post("/together/left")
def left(request: Request, project: int) -> Response:
    """A page is closed."""
    web(request).together.left(project, EDITOR.get() or "")
    return Response(status_code=204)


@router.post("/together/hold")
def hold(
    request: Request, project: int, on: Annotated[bool, Form()], room: Annotated[str, Form()] = ""
) -> HTMLResponse:
    """Hold the story that is open (also one that another holds: it is taken over), or give it back."""
    application = web(request)
    if editor := EDITOR.get():
        application.together.hold(project, stories.current(application.data.db, project), editor, on)
    return together(request, project, room)
