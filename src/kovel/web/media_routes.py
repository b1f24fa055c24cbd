"""Derived media by range, as far as they are made: by name from a fixed list. Of recordings themselves only the
pictures of those that need no proxy."""

import asyncio
import contextlib
import re
import time
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import FileResponse, JSONResponse, Response
from starlette.concurrency import run_in_threadpool

from kovel.core.errors import Invalid, Missing
from kovel.data_folder import look_at, media_facts
from kovel.media.card_pictures import card_file
from kovel.media.pieces import PIECE, place
from kovel.media.proxy import GOP
from kovel.media.soundtrack import peaks_file, peaks_so_far, sound_file
from kovel.media.title_pictures import title_shown
from kovel.media.wholeness import whole_sound
from kovel.services.footage.intake import file_of
from kovel.services.footage.mending import Short, being_mended, mend
from kovel.services.footage.proxy_pieces import piece_of_own, piece_of_whole, shown_file
from kovel.services.footage.thumbnails import small_alone
from kovel.services.picture.look_tables import checked_title
from kovel.services.sound.derived_sounds import made_file, want_cleaned
from kovel.store import projects, recordings
from kovel.web.pages import web

router = APIRouter()
SERVED = {"proxy.mp4": "video/mp4", "sound.pcm": "application/octet-stream"}
STANDS = {"cache-control": "private, max-age=600"}
CHANGES = {"cache-control": "private, no-cache"}
PATIENCE = 20.0  # seconds a page waits for a piece that is being made


@router.get("/media/{recording}/media.json")
def facts(request: Request, recording: int) -> JSONResponse:
    """What a player needs to know, as far as it is known. Asking tells that somebody looks at it."""
    application = web(request)
    mended = mend(application.data, recording) or being_mended(application.data, recording)
    known = media_facts(application.data, recording)
    if known is None:
        raise Missing("That is not made yet.")
    look_at(application.data, recording)
    if known["picture"] and not known["whole"]:
        application.now.warm()
    kept = {name: value for name, value in known.items() if name not in ("avcc", "first")}
    return JSONResponse({"piece": PIECE, "gop": GOP, **kept, "mended": mended}, headers=CHANGES)


@router.get("/media/{recording}/peaks.bin")
def peaks(request: Request, recording: int) -> Response:
    """The waveform; while the sound is made, as much as there is."""
    folder = web(request).data.derived(recording)
    if (folder / "peaks.bin").is_file():
        return FileResponse(folder / "peaks.bin", media_type="application/octet-stream", headers=STANDS)
    if not (folder / "begun.json").is_file():
        raise Missing("That is not made yet.")
    return Response(peaks_file(peaks_so_far(folder)), media_type="application/octet-stream", headers=CHANGES)


@router.get("/media/{recording}/pieces/{number}")
async def piece(request: Request, recording: int, number: int) -> Response:
    """A piece of the picture (media/pieces.py). One that is not made yet is made at once, before everything else."""
    application = web(request)
    folder = application.data.derived(recording)
    made_piece, noted = place(folder, number), folder / "own.json"
    until = time.monotonic() + PATIENCE
    is_asked = False
    while time.monotonic() < until:
        if made_piece.exists():
            return FileResponse(made_piece, media_type="application/octet-stream", headers=STANDS)
        if noted.exists() or (folder / "media.json").exists():
            cut = (
                (piece_of_own, application.data, recording, number)
                if noted.exists()
                else (piece_of_whole, folder, number)
            )
            data = await run_in_threadpool(*cut)
            if data is None:
                break
            return Response(data, media_type="application/octet-stream", headers=STANDS)
        if not is_asked:
            params = await run_in_threadpool(_making, request, recording)
            is_asked = True
        if (not params["own"] and not application.now.want(params, number)) or await request.is_disconnected():
            break
        await asyncio.sleep(0.02)
    application.now.let_go(recording, number)
    raise Missing("That is not made yet.")


def _making(request: Request, recording: int) -> dict[str, Any]:
    data_folder = web(request).data
    this_recording = recordings.get(data_folder.db, recording)
    return {
        "recording": recording,
        "path": str(file_of(data_folder, this_recording)),
        "out": str(data_folder.derived(recording)),
        "rate": [this_recording.rate.num, this_recording.rate.den],
        "frames": this_recording.frames or 1,
        "own": (media_facts(data_folder, recording) or {}).get("own", 0),
    }


@router.get("/media/{recording}/made/{name}.pcm")
def made(request: Request, recording: int, name: str) -> FileResponse:
    """A sound made of the recording, once all of it is there."""
    path = made_file(web(request).data, recording, name)
    if not re.fullmatch(r"[a-z]+-[0-9a-f]{12}", name) or not path.is_file():
        with contextlib.suppress(Invalid):
            want_cleaned(
                web(request).data, recording
            )  # set, but not there: a project that was copied, a folder that was cleared
        raise Missing("That is not made yet.")
    return FileResponse(path, media_type="application/octet-stream", headers=STANDS)


@router.get("/media/{recording}/{name}")
def derived(request: Request, recording: int, name: str) -> Response:
    if alone := re.fullmatch(r"((?:small|look)-\d{1,4})-(\d{1,2})\.jpg", name):
        made_frames = small_alone(web(request).data, recording, alone[1], int(alone[2]))
        if made_frames is None:
            raise Missing("That is not made yet.")
        return Response(made_frames, media_type="image/jpeg", headers=STANDS)
    kind = SERVED.get(name) or ("image/jpeg" if re.fullmatch(r"(small|look)-\d{1,4}\.jpg", name) else None)
    data_folder = web(request).data
    folder = data_folder.derived(recording)
    if name == "sound.pcm" and (folder / "media.json").exists() and not whole_sound(folder):
        raise Short(mend(data_folder, recording) or being_mended(data_folder, recording))
    path = shown_file(data_folder, recording) if name == "proxy.mp4" else folder / name
    if name == "sound.pcm":
        path = sound_file(folder)
    if kind is None or not path.is_file():
        raise Missing("That is not made yet.")
    growing = name == "sound.pcm" and not (folder / "media.json").exists()
    return FileResponse(path, media_type=kind, headers=CHANGES if growing else STANDS)


@router.get("/p/{project}/title.png")
def title(
    request: Request,
    project: int,
    of: Annotated[str, Query(max_length=12_000)],
    width: Annotated[int, Query(ge=16, le=4096)],
    height: Annotated[int, Query(ge=16, le=4096)],
    letters: Annotated[int | None, Query(ge=0)] = None,
) -> FileResponse:
    """The picture of a title, with a clear ground; `letters`: only so many of them are written."""
    data_folder = web(request).data
    spec = checked_title(of)
    made_title = title_shown(data_folder.drawn, spec, width, height, letters, data_folder.fonts)
    return FileResponse(made_title, media_type="image/png", headers=STANDS)


@router.get("/p/{project}/card.png")
def card(request: Request, project: int, colour: str = "#000000", text: str = "") -> FileResponse:
    """The picture of a card, in the shape of the project."""
    this_project = projects.get(web(request).data.db, project)
    if not re.fullmatch("#[0-9a-f]{6}", colour) or len(text) > 500:
        raise Missing("There is no such card.")
    made_card = card_file(web(request).data.drawn, colour, text, this_project.width, this_project.height)
    return FileResponse(made_card, media_type="image/png", headers=STANDS)
