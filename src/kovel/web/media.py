"""Derived media by range. Only the files Kovel makes itself are served, by name from a fixed list."""

import re

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse

from kovel.media.card import card_file
from kovel.store import projects
from kovel.store.projects import Missing
from kovel.web.pages import web

router = APIRouter()
SERVED = {
    "media.json": "application/json",
    "proxy.mp4": "video/mp4",
    "proxy.idx": "application/octet-stream",
    "sound.pcm": "application/octet-stream",
    "peaks.bin": "application/octet-stream",
}


@router.get("/media/{recording}/{name}")
def derived(request: Request, recording: int, name: str) -> FileResponse:
    kind = SERVED.get(name) or ("image/jpeg" if re.fullmatch(r"small-\d{1,4}\.jpg", name) else None)
    path = web(request).data.derived(recording) / name
    if kind is None or not path.is_file():
        raise Missing("That is not made yet.")
    return FileResponse(
        path,
        media_type=kind,
        headers={"cache-control": "private, no-cache" if name == "media.json" else "private, max-age=600"},
    )


@router.get("/p/{project}/card.png")
def card(request: Request, project: int, colour: str = "#000000", text: str = "") -> FileResponse:
    """The picture of a card, in the shape of the project."""
    p = projects.get(web(request).data.db, project)
    if not re.fullmatch("#[0-9a-f]{6}", colour) or len(text) > 500:
        raise Missing("There is no such card.")
    made = card_file(web(request).data.drawn, colour, text, p.width, p.height)
    return FileResponse(made, media_type="image/png", headers={"cache-control": "private, max-age=600"})
