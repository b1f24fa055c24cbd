"""Shot view: b-roll as rows of frames, with what each shot is like and its best few seconds."""

from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np
from fastapi import APIRouter, Query, Request
from fastapi.responses import HTMLResponse

from kovel.core.picture.shots import best_stretch, look
from kovel.store import projects, recordings, subclips
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.store.subclips import Subclip
from kovel.web.pages import page, web
from kovel.web.small_frames import Face, face_of

router = APIRouter(prefix="/p/{project}")
POINTS = 160  # of a curve
FACES = 10


def _curve(values: np.ndarray, wide: float = 1000, high: float = 40) -> str:
    """An SVG polyline's points for values 0 to 1."""
    if not len(values):
        return ""
    parts = np.array_split(values, min(POINTS, len(values)))
    y = [float(part.mean()) for part in parts]
    return " ".join(
        f"{wide * (index + 0.5) / len(y):.0f},{high * (1 - min(1.0, value)):.1f}" for index, value in enumerate(y)
    )


@dataclass(frozen=True, slots=True)
class Shot:
    """What parts/shot.html draws of one shot; frames are the project's, curves are points of an SVG line."""

    r: Recording
    total: int
    seconds: float
    faces: list[Face | None]
    clips: list[Subclip]
    steady: str = ""
    bright: str = ""
    steadiness: int = 0  # percent, in the mean
    brightness: int = 0
    best: tuple[int, int] | None = None  # frames [a, b) worth a look first
    best_length: int = 0


def shot(request: Request, project: Project, recording: Recording) -> Shot:
    application = web(request)
    total = recording.length(project.rate)
    faces = [
        face_of(application.data, recording, total * (2 * face_index + 1) // (2 * FACES), project.rate)
        for face_index in range(FACES)
    ]
    shown_shot = Shot(
        recording,
        total,
        total / float(project.rate.fps),
        faces,
        subclips.of_recording(application.data.db, recording.id),
    )
    try:
        motion_rows = np.load(application.data.derived(recording.id) / "motion.npy")
    except (OSError, ValueError):
        return shown_shot
    if not len(motion_rows) or recording.frames is None:
        return shown_shot
    fps = float(recording.rate.fps)
    seen = look(motion_rows, fps)
    shown_shot = replace(
        shown_shot,
        steady=_curve(seen.steady),
        bright=_curve(seen.bright),
        steadiness=round(100 * float(seen.steady.mean())),
        brightness=round(100 * float(seen.bright.mean())),
    )
    if best := best_stretch(seen, fps):
        frame_ratio = float(project.rate.fps) / fps
        start, end = round(best[0] * frame_ratio), min(total, round(best[1] * frame_ratio))
        shown_shot = replace(shown_shot, best=(start, end), best_length=end - start)
    return shown_shot


WINDOW = 24  # shots that come at once


@dataclass(frozen=True, slots=True)
class Some:
    """WINDOW shots of a project, and where the next ones begin."""

    project: Project
    shots: list[Shot]
    next: int | None


def _some(request: Request, project: int, start: int) -> Some:
    database = web(request).data.db
    this_project = projects.get(database, project)
    shot_recordings = [
        recording
        for recording in recordings.of_project(database, project)
        if recording.kind in ("b-roll", "still") and not recording.aside and recording.ready
    ]
    end = start + WINDOW
    return Some(
        this_project,
        [shot(request, this_project, recording) for recording in shot_recordings[start:end]],
        end if end < len(shot_recordings) else None,
    )


@router.get("/log/shots")
def room(request: Request, project: int) -> HTMLResponse:
    """Every shot of the project as a row; they come as they scroll into view."""
    return page(request, "log/shots.html", _some(request, project, 0), room="log")


@router.get("/log/shots/more")
def more(request: Request, project: int, start: Annotated[int, Query(ge=0)] = 0) -> HTMLResponse:
    return page(request, "log/shot_rows.html", _some(request, project, start))
