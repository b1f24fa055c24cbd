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


def _list(request: Request, project: int, folder: str = "", template: str = "footage/camera_card_list.html") -> HTMLResponse:
    w = web(request)
    found = camera_cards.listing(w.data, project)
    if folder.strip():
        found.append(camera_cards.card_at(w.data, project, _folder(request, folder)))
    latest: dict[str, jobs.Job] = {}
    for j in jobs.of_project(w.data.db, project, "copy"):
        latest.setdefault(j.params["card"], j)
    rows = []
    for c in found:
        job = latest.get(str(c.folder))
        own = c.folder.parent == camera_cards.place(w.data)
        rows.append(Row(c, MADE_UP[c.name][0] if own and c.name in MADE_UP else c.name, own, job, _copied(job)))
    inside = {c.name for c in found}
    return page(
        request, template, room="footage", project=projects.get(w.data.db, project), rows=rows, folder=folder,
        out=[(n, label) for n, (label, _) in MADE_UP.items() if n not in inside],
        busy=any(r.job and r.job.is_open for r in rows),
    )  # fmt: skip


def _copied(job: jobs.Job | None) -> str:
    """What became of the last copy of a card."""
    told: dict[str, Any] = (job and job.result) or {}
    if not job or not job.is_done or "copied" not in told:
        return ""
    new = len(told["copied"]) - len(told["before"])
    return f"{new} file{'s' if new != 1 else ''} copied and verified, with a manifest (ASC MHL). {job.message}".strip()


def _folder(request: Request, path: str) -> Path:
    p = allowed(path, [*web(request).roots, camera_cards.place(web(request).data)])
    if not p.is_dir():
        raise Invalid(f"{p.name} is a file. Bring it in on the Footage page.")
    return p


@router.get("/cards")
def room(request: Request, project: int) -> HTMLResponse:
    return _list(request, project, template="footage/camera_cards.html")


@router.get("/cards/list")
def listing(request: Request, project: int, folder: str = "") -> HTMLResponse:
    return _list(request, project, folder)


@router.post("/cards/switch")
def switch(request: Request, project: int, name: Annotated[str, Form()], on: Annotated[str, Form()]) -> HTMLResponse:
    """Plug a made-up card in (`failing`: one that cannot be read to its end), or pull it out."""
    data = web(request).data
    if on == "out":
        pull_out(data, name)
        return joined(_list(request, project), report("Pulled out."))
    plug_in(data, name, on == "failing")
    return joined(_list(request, project), report("Plugged in."))


@router.post("/cards/copy")
def copy(
    request: Request, project: int, card: Annotated[str, Form()], files: Annotated[list[str] | None, Form()] = None,
    folder: Annotated[str, Form()] = "",
) -> HTMLResponse:  # fmt: skip
    """Copy what is chosen of a card."""
    data = web(request).data
    found = camera_cards.card_at(data, project, _folder(request, card))
    if not files:
        raise Invalid("Choose what to copy first.")
    camera_cards.start_copy(data, project, found, files)
    return joined(
        _list(request, project, folder),
        report(f"{len(files)} file{'s' if len(files) != 1 else ''} of {found.name} being copied."),
    )


@router.post("/cards/stop")
def stop(request: Request, project: int) -> HTMLResponse:
    """Stop copying; what is copied whole stays."""
    db = web(request).data.db
    for j in jobs.of_project(db, project, "copy"):
        if j.is_open:
            jobs.end(db, j.id, JobState.CANCELLED)
    return joined(_list(request, project), report("Stopped. What was copied whole stays."))


@router.get("/cards/frame")
def frame(request: Request, project: int, card: Annotated[str, Query()], file: Annotated[str, Query()]) -> FileResponse:
    """A small picture of a file of a card."""
    data = web(request).data
    folder = _folder(request, card)
    path = allowed(str(folder / file), [folder])
    st = path.stat()
    name = hashlib.sha256(f"{path} {st.st_size} {st.st_mtime_ns}".encode()).hexdigest()[:24]
    out = data.root / "glances" / f"{name}.jpg"
    if not out.exists():
        try:
            if not call("glance", {"path": str(path), "out": str(out)}):
                raise Missing("It has no picture.")
        except Unusable as e:
            raise Missing(str(e)) from None
    return FileResponse(out, media_type="image/jpeg", headers={"cache-control": "private, max-age=86400"})
