"""Shot view: b-roll as rows of frames, with what each shot is like and its best few seconds."""

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Query, Request
from fastapi.responses import HTMLResponse

from kovel.core.picture.shots import best_stretch, look
from kovel.store import projects, recordings, subclips
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.web.faces import face_of
from kovel.web.pages import page, web

router = APIRouter(prefix="/p/{project}")
POINTS = 160  # of a curve
FACES = 10


def _curve(values: np.ndarray, wide: float = 1000, high: float = 40) -> str:
    """An SVG polyline's points for values 0 to 1."""
    if not len(values):
        return ""
    parts = np.array_split(values, min(POINTS, len(values)))
    y = [float(p.mean()) for p in parts]
    return " ".join(f"{wide * (i + 0.5) / len(y):.0f},{high * (1 - min(1.0, v)):.1f}" for i, v in enumerate(y))


def shot(request: Request, p: Project, r: Recording) -> dict[str, Any]:
    """All that parts/shot.html draws of one shot; frames are the project's."""
    w = web(request)
    total = r.length(p.rate)
    faces = [face_of(w.data, r, total * (2 * i + 1) // (2 * FACES), p.rate) for i in range(FACES)]
    out: dict[str, Any] = {
        "r": r,
        "total": total,
        "faces": faces,
        "steady": "",
        "bright": "",
        "best": None,
        "best_length": 0,
        "marks": {},
        "seconds": total / float(p.rate.fps),
    }
    try:
        rows = np.load(w.data.derived(r.id) / "motion.npy")
    except (OSError, ValueError):
        rows = np.zeros((0, 4), np.float16)
    if len(rows) and r.frames is not None:
        fps = float(r.rate.fps)
        seen = look(rows, fps)
        out["steady"], out["bright"] = _curve(seen.steady), _curve(seen.bright)
        out["marks"] = {"steady": round(100 * float(seen.steady.mean())), "bright": round(100 * float(seen.bright.mean()))}
        if best := best_stretch(seen, fps):
            k = float(p.rate.fps) / fps
            out["best"] = (round(best[0] * k), min(total, round(best[1] * k)))
            out["best_length"] = out["best"][1] - out["best"][0]
    out["clips"] = subclips.of_recording(w.data.db, r.id)
    return out


WINDOW = 24  # shots that come at once


def _some(request: Request, project: int, start: int) -> dict[str, Any]:
    """WINDOW shots of a project from the `start`-th on, and where the next ones begin."""
    db = web(request).data.db
    p = projects.get(db, project)
    rows = [r for r in recordings.of_project(db, project) if r.kind in ("b-roll", "still") and not r.aside and r.ready]
    end = start + WINDOW
    some = [shot(request, p, r) for r in rows[start:end]]
    return {"project": p, "shots": some, "next": end if end < len(rows) else None}


@router.get("/log/shots")
def room(request: Request, project: int) -> HTMLResponse:
    """Every shot of the project as a row; they come as they scroll into view."""
    return page(request, "shots.html", room="log", **_some(request, project, 0))


@router.get("/log/shots/more")
def more(request: Request, project: int, start: Annotated[int, Query(ge=0)] = 0) -> HTMLResponse:
    return page(request, "parts/shots.html", **_some(request, project, start))
