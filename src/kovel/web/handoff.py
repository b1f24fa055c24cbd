"""The Hand-off room: what to look at before, render with its size and progress, open formats."""

import os
from pathlib import Path
from typing import Annotated, Any

import opentimelineio as otio
from fastapi import APIRouter, Form, Request
from fastapi.responses import FileResponse, HTMLResponse, Response

from kovel.core.plan.plan import make_plan
from kovel.core.story.seams import seams
from kovel.core.time.timecode import stamp
from kovel.exchange.story import not_in_an_edl, to_edl, to_otio
from kovel.store import jobs, projects, recordings, stories
from kovel.store.projects import Missing
from kovel.store.recordings import Recording
from kovel.store.stories import Kept
from kovel.web.faces import face_of
from kovel.web.pages import download, joined, page, report, web
from kovel.work.checking import findings
from kovel.work.folder import Data
from kovel.work.intake import expected_size, start_render

router = APIRouter(prefix="/p/{project}")


def _renders(request: Request, project: int) -> dict[str, Any]:
    db = web(request).data.db
    rows: list[dict[str, Any]] = [
        {"job": j, "name": Path(j.params["out"]).name, "there": os.path.exists(j.params["out"])}
        for j in jobs.of_project(db, project, "render")
    ]
    return {
        "project": projects.get(db, project),
        "renders": rows,
        "busy": any(r["job"].state in ("waiting", "working") for r in rows),
    }


@router.get("/handoff")
def room(request: Request, project: int) -> HTMLResponse:
    w = web(request)
    sid = stories.current(w.data.db, project)
    kept = stories.load(w.data.db, sid)
    sizes = {q: expected_size(w.data, sid, q) for q in ("high", "small")}
    return page(
        request,
        "handoff.html",
        room="handoff",
        kept=kept,
        sizes=sizes,
        findings=findings(w.data, project, kept.story),
        strip=_strip(request, kept),
        facts=_facts(w.data, kept),
        left=not_in_an_edl(kept.story, projects.get(w.data.db, project), _rows(w.data, project)),
        **_renders(request, project),
    )


def _rows(data: Data, project: int) -> dict[int, Recording]:
    return {r.id: r for r in recordings.of_project(data.db, project)}


def _strip(request: Request, kept: Kept, most: int = 10) -> list[dict[str, Any]]:
    """What the story shows at even steps, as small frames; None for black and cards."""
    w = web(request)
    rows = _rows(w.data, kept.project)
    plan = make_plan(kept.story, {i: r.source for i, r in rows.items()})
    n = min(most, kept.story.length)
    out = []
    for k in range(n):
        t = kept.story.length * (2 * k + 1) // (2 * n)
        x = plan.picture_at(t)
        r = rows.get(x.source) if x.source is not None else None
        out.append({"at": t, "face": face_of(w.data, r, x.image.later(t - x.at).start, plan.rate) if r else None})
    return out


def _facts(data: Data, kept: Kept) -> list[tuple[str, str]]:
    """The story in numbers."""
    s = kept.story
    exposed = sum(x.kind == "jump" for x in seams(s, recordings.sources(data.db, kept.project)))
    used = (
        {p.source for p in s.pieces if p.source is not None}
        | {c.source for c in s.covers if c.source}
        | {x.source for x in s.sounds}
    )
    aim = f", aimed at {stamp(s.target, s.rate)}" if s.target else ""
    return [
        ("Length", stamp(s.length, s.rate) + aim),
        ("Pieces", str(len(s.pieces))),
        ("Recordings used", str(len(used))),
        ("Covers", f"{sum(not c.title for c in s.covers)}{f', {len(s.loose)} loose' if s.loose else ''}"),
        ("Titles", str(sum(bool(c.title) for c in s.covers))),
        ("Sounds", str(len(s.sounds))),
        ("Exposed jumps", str(exposed)),
        ("Muted", ", ".join(sorted(s.muted)) or "nothing"),
    ]


@router.get("/handoff/renders")
def renders(request: Request, project: int) -> HTMLResponse:
    return page(request, "parts/renders.html", **_renders(request, project))


@router.post("/handoff/render")
def render(request: Request, project: int, quality: Annotated[str, Form()] = "high") -> HTMLResponse:
    w = web(request)
    job = start_render(w.data, stories.current(w.data.db, project), quality)
    return joined(
        page(request, "parts/renders.html", **_renders(request, project)),
        report(f"Rendering {Path(job.params['out']).name}."),
    )


def _job(request: Request, project: int, job: int) -> jobs.Job:
    j = jobs.get(web(request).data.db, job)
    if j.project != project or j.kind != "render":
        raise Missing("There is no such render.")
    return j


@router.post("/handoff/renders/{job}/cancel")
def cancel(request: Request, project: int, job: int) -> HTMLResponse:
    db = web(request).data.db
    jobs.end(db, _job(request, project, job).id, "cancelled")
    return joined(
        page(request, "parts/renders.html", **_renders(request, project)),
        report("Render stopped. Nothing half made was left behind."),
    )


@router.post("/handoff/renders/{job}/retry")
def retry(request: Request, project: int, job: int) -> HTMLResponse:
    db = web(request).data.db
    jobs.again(db, _job(request, project, job).id)
    return page(request, "parts/renders.html", **_renders(request, project))


@router.get("/handoff/renders/{job}/file")
def file(request: Request, project: int, job: int) -> FileResponse:
    path = _job(request, project, job).params["out"]
    if not os.path.exists(path):
        raise Missing("That file is not there any more. Render again.")
    return FileResponse(path, media_type="video/mp4", filename=Path(path).name)


@router.get("/export/{kind}")
def export(request: Request, project: int, kind: str) -> Response:
    """The story as `otio` or `edl`."""
    db = web(request).data.db
    p = projects.get(db, project)
    kept = stories.load(db, stories.current(db, project))
    rows = {r.id: r for r in recordings.of_project(db, project)}
    if kind == "otio":
        body = otio.adapters.write_to_string(to_otio(kept.story, kept.name, p, rows), "otio_json")
    elif kind == "edl":
        body = to_edl(kept.story, kept.name, p, rows)
    else:
        raise Missing("There is no such format.")
    return download(body, f"{p.name}.{kind}", "application/octet-stream")
