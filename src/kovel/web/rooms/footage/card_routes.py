"""Cards and recorders on a page: what is plugged in, chosen by its frames, copied, verified, brought in."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import FileResponse, HTMLResponse

from kovel.core.errors import Invalid, Missing
from kovel.demo.cards import MADE_UP, plug_in, pull_out
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.services.footage import camera_cards
from kovel.services.footage.intake import allowed
from kovel.store import jobs, projects
from kovel.store.jobs import JobState
from kovel.store.projects import Project
from kovel.web.pages import joined, page, report, web

router = APIRouter(prefix="/p/{project}")


@dataclass(frozen=True, slots=True)
class Row:
    """A card as the page shows it: `made_up` has a switch; `busy`: it is being copied."""

    card: camera_cards.Card
    label: str
    made_up: bool
    job: jobs.Job | None
    copied: str


@dataclass(frozen=True, slots=True)
class CardList:
    """The cards there are, and those that can be plugged in."""

    project: Project
    rows: list[Row]
    folder: str
    out: list[tuple[str, ...]]
    busy: bool


def _list(
    request: Request, project: int, folder: str = "", template: str = "footage/camera_card_list.html"
) -> HTMLResponse:
    application = web(request)
    cards_found = camera_cards.listing(application.data, project)
    if folder.strip():
        cards_found.append(camera_cards.card_at(application.data, project, _folder(request, folder)))
    latest: dict[str, jobs.Job] = {}
    for this_job in jobs.of_project(application.data.db, project, "copy"):
        latest.setdefault(this_job.params["card"], this_job)
    card_views = []
    for card in cards_found:
        job = latest.get(str(card.folder))
        is_own = card.folder.parent == camera_cards.place(application.data)
        card_views.append(
            Row(
                card, MADE_UP[card.name][0] if is_own and card.name in MADE_UP else card.name, is_own, job, _copied(job)
            )
        )
    inside = {card.name for card in cards_found}
    return page(
        request,
        template,
        CardList(
            project=projects.get(application.data.db, project),
            rows=card_views,
            folder=folder,
            out=[(name, label) for name, (label, _) in MADE_UP.items() if name not in inside],
            busy=any(card_view.job and card_view.job.is_open for card_view in card_views),
        ),
        room="footage",
    )


def _copied(job: jobs.Job | None) -> str:
    """What became of the last copy of a card."""
    told_result: dict[str, Any] = (job and job.result) or {}
    if not job or not job.is_done or "copied" not in told_result:
        return ""
    new = len(told_result["copied"]) - len(told_result["before"])
    return f"{new} file{'s' if new != 1 else ''} copied and verified, with a manifest (ASC MHL). {job.message}".strip()


def _folder(request: Request, path: str) -> Path:
    this_path = allowed(path, [*web(request).roots, camera_cards.place(web(request).data)])
    if not this_path.is_dir():
        raise Invalid(f"{this_path.name} is a file. Bring it in on the Footage page.")
    return this_path


@router.get("/cards")
def room(request: Request, project: int) -> HTMLResponse:
    return _list(request, project, template="footage/camera_cards.html")


@router.get("/cards/list")
def listing(request: Request, project: int, folder: str = "") -> HTMLResponse:
    return _list(request, project, folder)


@router.post("/cards/switch")
def switch(request: Request, project: int, name: Annotated[str, Form()], on: Annotated[str, Form()]) -> HTMLResponse:
    """Plug a made-up card in (`failing`: one that cannot be read to its end), or pull it out."""
    data_folder = web(request).data
    if on == "out":
        pull_out(data_folder, name)
        return joined(_list(request, project), report("Pulled out."))
    plug_in(data_folder, name, on == "failing")
    return joined(_list(request, project), report("Plugged in."))


@router.post("/cards/copy")
def copy(
    request: Request,
    project: int,
    card: Annotated[str, Form()],
    files: Annotated[list[str] | None, Form()] = None,
    folder: Annotated[str, Form()] = "",
) -> HTMLResponse:
    """Copy what is chosen of a card."""
    data_folder = web(request).data
    card_found = camera_cards.card_at(data_folder, project, _folder(request, card))
    if not files:
        raise Invalid("Choose what to copy first.")
    camera_cards.start_copy(data_folder, project, card_found, files)
    return joined(
        _list(request, project, folder),
        report(f"{len(files)} file{'s' if len(files) != 1 else ''} of {card_found.name} being copied."),
    )


@router.post("/cards/stop")
def stop(request: Request, project: int) -> HTMLResponse:
    """Stop copying; what is copied whole stays."""
    database = web(request).data.db
    for job in jobs.of_project(database, project, "copy"):
        if job.is_open:
            jobs.end(database, job.id, JobState.CANCELLED)
    return joined(_list(request, project), report("Stopped. What was copied whole stays."))


@router.get("/cards/frame")
def frame(request: Request, project: int, card: Annotated[str, Query()], file: Annotated[str, Query()]) -> FileResponse:
    """A small picture of a file of a card."""
    data_folder = web(request).data
    folder = _folder(request, card)
    path = allowed(str(folder / file), [folder])
    st = path.stat()
    name = hashlib.sha256(f"{path} {st.st_size} {st.st_mtime_ns}".encode()).hexdigest()[:24]
    frame_file = data_folder.root / "glances" / f"{name}.jpg"
    if not frame_file.exists():
        try:
            if not call("glance", {"path": str(path), "out": str(frame_file)}):
                raise Missing("It has no picture.")
        except Unusable as error:
            raise Missing(str(error)) from None
    return FileResponse(frame_file, media_type="image/jpeg", headers={"cache-control": "private, max-age=86400"})
