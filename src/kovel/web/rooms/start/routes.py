"""The start page: projects."""

import shutil
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse, RedirectResponse, Response

from kovel import __version__
from kovel.core.time.rate import RATES, Rate
from kovel.data_folder import DataFolder
from kovel.services.footage import disk_space
from kovel.services.footage.intake import prepare
from kovel.services.handoff import archiving
from kovel.store import jobs, projects, recordings, stories
from kovel.store.jobs import JobState
from kovel.store.projects import SIZES, Project
from kovel.web.pages import joined, page, report, web
from kovel.web.security import right
from kovel.web.small_frames import Face, face_of

if TYPE_CHECKING:
    from kovel.jobs.cluster import Cluster

router = APIRouter()


@dataclass(frozen=True, slots=True)
class Card:
    """A project on the start page: its recordings, the length of its story in frames, what it takes on the disk in
    bytes."""

    project: Project
    recordings: int
    story: int
    face: Face | None
    takes: int


@dataclass(frozen=True, slots=True)
class Disk:
    """What Kovel makes takes on the disk, and what is free, in bytes; the budget as it is typed, in GB."""

    used: int
    free: int
    budget: str


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """Who works elsewhere, in words; the cluster's own page of what it does."""

    rows: list[str]
    told: str
    dashboard: str = ""


@dataclass(frozen=True, slots=True)
class Broken:
    """A project that cannot be read: all that can be done is to delete it."""

    id: int
    name: str


def _cards(request: Request) -> tuple[list[Card], list[Broken]]:
    """What the start page shows of each project; one that is damaged keeps no other from it."""
    data_folder = web(request).data
    cards, damaged = [], [Broken(*project_row) for project_row in projects.broken(data_folder.db)]
    for project in projects.listing(data_folder.db):
        try:
            cards.append(_card(data_folder, project))
        except (ValueError, TypeError, KeyError, IndexError, AttributeError, ArithmeticError):
            damaged.append(Broken(project.id, project.name))
    return cards, damaged


def _card(data_folder: DataFolder, project: Project) -> Card:
    rs = recordings.of_project(data_folder.db, project.id)
    kept_story = stories.load(data_folder.db, stories.current(data_folder.db, project.id))
    face = next(
        (
            face
            for recording in rs
            if recording.picture
            and (face := face_of(data_folder, recording, recording.face(project.rate), project.rate))
        ),
        None,
    )
    return Card(project, len(rs), kept_story.story.length, face, disk_space.of_project(data_folder, project.id))


@dataclass(frozen=True, slots=True)
class StartPage:
    """The start page."""

    cards: list[Card]
    damaged: list[Broken]
    rates: tuple[Rate, ...]
    sizes: dict[str, str]
    project: None
    disk: Disk
    elsewhere: Elsewhere | None


@router.get("/")
def index(request: Request) -> HTMLResponse:
    data_folder = web(request).data
    most = disk_space.budget(data_folder)
    cards, damaged = _cards(request)
    disk = Disk(
        sum(card.takes for card in cards),
        disk_space.free(data_folder),
        "" if most is None else f"{most / disk_space.GB:g}",
    )
    elsewhere = _elsewhere(request.app.state.cluster, len(jobs.in_state(data_folder.db, JobState.WAITING)))
    return page(
        request,
        "start/room.html",
        StartPage(cards=cards, damaged=damaged, rates=RATES, sizes=SIZES, project=None, disk=disk, elsewhere=elsewhere),
        room="",
    )


def _elsewhere(cluster: "Cluster | None", waiting: int) -> Elsewhere | None:
    """Who works for this server on other machines; None where there is no cluster."""
    if cluster is None:
        return None
    if cluster.away:
        return Elsewhere([], f"The cluster at {cluster.address} does not answer. The work goes on here.")
    rows = [f"{worker.node}: working on {worker.busy}, up to {worker.slots} at once" for worker in cluster.workers()]
    waits = "One job waits." if waiting == 1 else f"{waiting or 'No'} jobs wait."
    told = waits if rows else f"None is there yet: `kovel worker --cluster {cluster.address}` starts one. {waits}"
    return Elsewhere(sorted(rows), told, cluster.dashboard)


@router.post("/room")
def budget(request: Request, gb: Annotated[str, Form()] = "") -> HTMLResponse:
    """How much what is made may take on the disk."""
    most = disk_space.set_budget(web(request).data, gb)
    told_limit = "as much as there is" if most is None else f"under {most:g} GB; what was looked at least goes first"
    return HTMLResponse(report(f"What Kovel makes {'may take' if most is None else 'is kept'} {told_limit}."))


def _list(request: Request, message: str, undo: int | None = None) -> HTMLResponse:
    cards, damaged = _cards(request)
    return joined(page(request, "start/projects.html", cards=cards, damaged=damaged, deleted=undo), report(message))


@router.post("/projects")
def create(
    request: Request,
    name: Annotated[str, Form()] = "",
    rate: Annotated[str, Form()] = "25",
    size: Annotated[str, Form()] = "1920x1080",
    start: Annotated[str, Form()] = "",
    drop: Annotated[bool, Form()] = False,
) -> Response:
    project = projects.create(web(request).data.db, name, rate, size, start, drop)
    return Response(status_code=204, headers={"hx-redirect": f"/p/{project.id}/footage"})


@router.post("/projects.in")
def from_file(request: Request, file: Annotated[UploadFile, File()]) -> Response:
    """A project out of its one file."""
    data_folder = web(request).data
    with tempfile.NamedTemporaryFile(dir=data_folder.root, prefix="archive-", suffix=".zip") as kept:
        shutil.copyfileobj(file.file, kept, 4 << 20)
        kept.flush()
        done = archiving.read(data_folder, Path(kept.name), called=Path(file.filename or "The file").name)
    return Response(status_code=204, headers={"hx-redirect": f"/p/{done.project}/footage"})


@router.post("/projects/{project}/rename")
def rename(request: Request, project: int, name: Annotated[str, Form()] = "") -> HTMLResponse:
    this_project = projects.rename(web(request).data.db, project, name)
    return _list(request, f"Renamed to {this_project.name}.")


@router.post("/projects/{project}/duplicate")
def duplicate(request: Request, project: int) -> HTMLResponse:
    application = web(request)
    this_project = projects.duplicate(application.data.db, project)
    for recording in recordings.of_project(application.data.db, this_project.id):
        prepare(application.data, recording)
    return _list(request, f"{this_project.name} made. Its recordings are being prepared.")


@router.post("/projects/{project}/archive")
def archive(request: Request, project: int) -> HTMLResponse:
    database = web(request).data.db
    this_project = projects.get(database, project)
    projects.set_archived(database, project, not this_project.archived)
    return _list(request, f"{this_project.name} {'taken out of' if this_project.archived else 'put in'} the archive.")


@router.post("/projects/{project}/delete")
def delete(request: Request, project: int) -> HTMLResponse:
    database = web(request).data.db
    name = projects.name_of(database, project)
    projects.set_deleted(database, project, True)
    return _list(request, f"{name} deleted. No recording was touched.", undo=project)


@router.post("/projects/{project}/restore")
def restore(request: Request, project: int) -> HTMLResponse:
    database = web(request).data.db
    projects.set_deleted(database, project, False)
    return _list(request, f"{projects.get(database, project).name} is back.")


@router.get("/health")
def health(request: Request) -> JSONResponse:
    """Whether it answers and its database does; nothing about what is in it."""
    web(request).data.db.read().execute("SELECT 1 FROM project LIMIT 1").fetchone()
    return JSONResponse({"ok": True, "version": __version__})


@router.get("/login")
def login_page(request: Request) -> HTMLResponse:
    return page(request, "start/login.html", wrong="")


@router.post("/login")
def login(request: Request, passphrase: Annotated[str, Form()] = "") -> Response:
    application, address = web(request), request.client.host if request.client else ""
    if seconds_left := application.tries.wait(address):
        this_login_page = page(
            request, "start/login.html", status=429, wrong=f"That was too often. Try again in {seconds_left} s."
        )
        this_login_page.headers["retry-after"] = str(seconds_left)
        return this_login_page
    time.sleep(application.tries.pause())
    if application.passphrase and right(application.passphrase, passphrase):
        request.session["in"] = request.app.state.sessions.open()
        return RedirectResponse("/", 303)
    application.tries.failed(address)
    return page(request, "start/login.html", status=403, wrong="That is not the passphrase. Try again.")


@router.post("/logout")
def logout(request: Request) -> Response:
    if web(request).passphrase:
        request.app.state.sessions.close(request.session.get("in"))
        request.session.clear()
    return RedirectResponse("/login", 303)
