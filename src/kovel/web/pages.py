"""What every room uses: templates, formats, messages."""

import re
from dataclasses import dataclass, field, fields
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fastapi import Request
from fastapi.responses import HTMLResponse, JSONResponse, Response
from jinja2 import ChoiceLoader, Environment, FileSystemLoader, PrefixLoader, StrictUndefined
from jinja2.ext import Extension

from kovel.core.errors import Missing
from kovel.core.plan.plan import Plan
from kovel.core.story.model import Sources
from kovel.core.time.timecode import format_timecode, running, stamp
from kovel.data_folder import DataFolder, media_facts
from kovel.services.footage.intake import safe
from kovel.services.footage.pieces_on_demand import Now
from kovel.store import recordings
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.web.presence import Together
from kovel.web.security import Tries
from kovel.web.small_frames import face_style

if TYPE_CHECKING:
    from _typeshed import DataclassInstance


@dataclass(frozen=True)
class Application:
    """What the running application holds."""

    data: DataFolder
    roots: list[Path]
    passphrase: str | None
    together: Together = field(default_factory=Together)
    tries: Tries = field(default_factory=Tries)
    now: Now = field(default_factory=Now)  # makes pieces of pictures that a page asks for


def web(request: Request) -> Application:
    held: Application = request.app.state.web
    return held


def size(n: float) -> str:
    for unit in ("bytes", "kB", "MB", "GB"):
        if n < 1000 or unit == "GB":
            return f"{n:.0f} {unit}" if unit in ("bytes", "kB") or n >= 100 else f"{n:.1f} {unit}"
        n /= 1000
    return ""


def seconds(s: float | None) -> str:
    if s is None:
        return ""
    if s < 90:
        return f"{s:.0f} s"
    minutes = round(s / 60)
    return f"{minutes} min" if minutes < 90 else f"{minutes // 60} h {minutes % 60:02d} min"


def clock(s: int) -> str:
    return f"{s // 3600}:{s // 60 % 60:02d}:{s % 60:02d}" if s >= 3600 else f"{s // 60}:{s % 60:02d}"


def percent(x: float, of: float = 1.0) -> int:
    """So many in a hundred of it."""
    return round(100 * x / of) if of else 0


def share(x: float, of: float) -> str:
    """A length as a share of another one, as styles have it."""
    return f"{100 * x / of if of else 0:.3f}%"


def canvas(project: Project) -> int:
    """How high a player's canvas of 960 is that shows a project's pictures."""
    return round(960 * project.height / project.width) if project.width >= project.height else 540


class Unindented(Extension):
    """Templates are read without the indentation of their lines: what it shows in the source is not sent."""

    def preprocess(self, source: str, name: str | None, filename: str | None = None) -> str:
        """The source of a template, each line from its first letter on."""
        return re.sub(r"\n[ \t]+", "\n ", source)  # one blank stays: attributes stand on lines of their own


@lru_cache
def environment() -> Environment:
    """What draws templates: those that rooms share by their name, a room's own as "ROOM/NAME"."""
    here = Path(__file__).parent
    of_rooms = {path.parent.name: FileSystemLoader(path) for path in (here / "rooms").glob("*/templates")}
    environment_made = Environment(
        loader=ChoiceLoader([FileSystemLoader(here / "templates"), PrefixLoader(of_rooms)]),
        autoescape=True,
        undefined=StrictUndefined,
        extensions=[Unindented],
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment_made.globals.update(face_style=face_style)
    environment_made.filters.update(
        size=size,
        seconds=seconds,
        dur=stamp,
        clock=clock,
        running=running,
        timecode=format_timecode,
        percent=percent,
        share=share,
        canvas=canvas,
    )
    return environment_made


def render(template: str, view: "DataclassInstance | None" = None, **values: Any) -> str:
    """A template drawn with what a view made ready: each field of `view` under its own name, `values` beside them."""
    values_of_view = {view_field.name: getattr(view, view_field.name) for view_field in fields(view)} if view else {}
    return environment().get_template(template).render(**values_of_view, **values)


def page(
    request: Request, template: str, view: "DataclassInstance | None" = None, *, status: int = 200, **values: Any
) -> HTMLResponse:
    """A whole page, or a fragment, as `render` draws it; `request` is known to every template."""
    html = render(template, view, request=request, signed=bool(web(request).passphrase), **values)
    return HTMLResponse(html, status, headers={"cache-control": "no-store"})


def say(request: Request, message: str, status: int) -> HTMLResponse:
    """A message: into the page's report line for a fragment request, as a page of its own otherwise."""
    if request.headers.get("hx-request") or request.headers.get("x-kovel"):
        return HTMLResponse(
            report(message, error=True), status, headers={"hx-reswap": "none", "cache-control": "no-store"}
        )
    return page(request, "message.html", status=status, message=message)


def report(did: str, notes: tuple[str, ...] = (), *, error: bool = False) -> str:
    """The report line, swapped in beside whatever else an answer brings."""
    return render("parts/report.html", did=did, notes=notes, error=error)


def the_recording(request: Request, project: int, recording: int) -> Recording:
    """A recording of this project; `Missing` if it is another one's."""
    this_recording = recordings.get(web(request).data.db, recording)
    if this_recording.project != project:
        raise Missing("There is no such recording in the project.")
    return this_recording


def download(body: str | bytes, name: str, kind: str = "text/plain; charset=utf-8") -> Response:
    """A text, or bytes, as a file to save."""
    plain = safe(name).encode("ascii", "replace").decode().replace("?", "_")
    return Response(body, media_type=kind, headers={"content-disposition": f'attachment; filename="{plain}"'})


def plan_answer(application: Application, plan: Plan, sources: Sources, **more: Any) -> JSONResponse:
    """A plan for the player, with how many pictures the proxies of its recordings have."""
    frames = {
        recording_id: (media_facts(application.data, recording_id) or {}).get("frames") or 1
        for recording_id in plan.seen
    }
    return JSONResponse({**plan.to_json(sources), "frames": frames, **more})


def joined(*parts: str | HTMLResponse, status: int = 200, **headers: str) -> HTMLResponse:
    """Several fragments as one answer."""
    html = "".join(part if isinstance(part, str) else bytes(part.body).decode() for part in parts)
    return HTMLResponse(
        html,
        status,
        headers={"cache-control": "no-store", **{name.replace("_", "-"): header for name, header in headers.items()}},
    )
