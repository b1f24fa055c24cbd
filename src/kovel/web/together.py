"""Several editors in one project: who is there and where, a story held by one, and edits of others seen at once."""

from __future__ import annotations

import re
from secrets import token_hex
from typing import Annotated

from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import HTMLResponse, Response
from starlette.types import ASGIApp, Receive, Scope, Send

from kovel.core.time.timecode import running
from kovel.store import projects, stories
from kovel.store.projects import clean_name
from kovel.web.pages import page, web
from kovel.web.present import EDITOR

router = APIRouter(prefix="/p/{project}")
COOKIE = "kovel-editor"
ROOMS = {"story": "Story", "picture": "Picture", "sound": "Sound", "log": "Log", "footage": "Footage", "tighten": "Tighten",
         "handoff": "Hand-off"}  # fmt: skip


class Asking:
    """ASGI middleware: who asks, by their browser's cookie, is known to whatever is done for them."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http":
            kept = Request(scope).cookies.get(COOKIE, "")
            EDITOR.set(kept if re.fullmatch("[0-9a-f]{16}", kept) else "")
        await self.app(scope, receive, send)


@router.get("/together")
def together(
    request: Request, project: int, room: Annotated[str, Query(max_length=20)] = "", frame: int = 0, seen: int = -1
) -> HTMLResponse:
    """Who else is there; asked again and again by every page. The page is told when the story was changed by another."""
    w = web(request)
    p = projects.get(w.data.db, project)
    editor = EDITOR.get() or token_hex(8)
    me = w.together.heard_of(project, editor, room, max(0, min(frame, 1 << 40)))
    kept = stories.load(w.data.db, stories.current(w.data.db, project))
    others = [(h, ROOMS.get(h.room, ""), running(h.frame, p.rate) if h.room in ("story", "picture", "sound") else "")
              for h in w.together.others(project, editor)]  # fmt: skip
    out = page(
        request,
        "parts/together.html",
        project=p,
        room=room,
        me=me,
        others=others,
        holder=w.together.holder(kept.id),
        story=kept.name,
    )
    if editor != EDITOR.get():
        out.set_cookie(
            COOKIE, editor, max_age=30 * 86_400, httponly=True, samesite="strict", secure=request.url.scheme == "https"
        )
    if seen >= 0 and kept.revision != seen:
        out.headers["hx-trigger"] = "moved"
    return out


@router.post("/together/name")
def name(request: Request, project: int, name: Annotated[str, Form()] = "", room: Annotated[str, Form()] = "") -> HTMLResponse:
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
def hold(request: Request, project: int, on: Annotated[bool, Form()], room: Annotated[str, Form()] = "") -> HTMLResponse:
    """Hold the story that is open (also one that another holds: it is taken over), or give it back."""
    w = web(request)
    if editor := EDITOR.get():
        w.together.hold(project, stories.current(w.data.db, project), editor, on)
    return together(request, project, room)
