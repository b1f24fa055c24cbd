"""What is being made of recordings: how far, held and let go on, for one or for all."""

import json
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse

from kovel.core.errors import Invalid
from kovel.store import jobs
from kovel.web.pages import joined, page, render, report, the_recording, web
from kovel.web.preparing_progress import making_of
from kovel.web.rooms.footage.routes import listed

router = APIRouter(prefix="/p/{project}")


@router.get("/recordings/{recording}/making")
def how_far(request: Request, project: int, recording: int, samples: int = -1) -> HTMLResponse:
    """How far the recording that is open is; the page is told when there is more of its sound, or all of it."""
    this_recording = the_recording(request, project, recording)
    now = making_of(request, this_recording)
    making_page = page(request, "parts/making.html", now)
    if now.samples != samples or not now.job:
        making_page.headers["hx-trigger"] = json.dumps({"grown": {"recording": this_recording.id}})
    return making_page


@router.post("/recordings/{recording}/pause")
def pause(
    request: Request,
    project: int,
    recording: int,
    on: Annotated[int, Form()],
    where: Annotated[str, Form()] = "footage",
) -> HTMLResponse:
    """Hold the preparation of a recording, or let it go on."""
    this_recording = the_recording(request, project, recording)
    database = web(request).data.db
    job = jobs.latest_of_recordings(database, project).get(recording)
    if job is None or not jobs.pause(database, [job.id], bool(on)):
        raise Invalid(f"{this_recording.name} is not being prepared, or is held already.")
    summary = f"{this_recording.name}: preparation {'paused; what is made stays' if on else 'goes on'}."
    if where == "log":
        return joined(render("parts/making.html", making_of(request, this_recording)), report(summary))
    return listed(request, project, summary)


@router.post("/footage/pause")
def pause_all(request: Request, project: int, on: Annotated[int, Form()]) -> HTMLResponse:
    """Hold everything that is being prepared in the project, or let it go on."""
    database = web(request).data.db
    open_ = [job.id for job in jobs.unfinished(database) if job.project == project and job.kind == "prepare"]
    count = jobs.pause(database, open_, bool(on))
    if not count:
        raise Invalid("Nothing is being prepared." if on else "Nothing is paused.")
    return listed(
        request,
        project,
        f"{count} recording{'s' if count != 1 else ''} {'paused' if on else 'go on' if count != 1 else 'goes on'}.",
    )
