"""Times as editors type them: what is understood, for the line beside the field."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse

from kovel.core.errors import Invalid
from kovel.core.story.settings import SETTINGS
from kovel.core.story.typed_values import ValueTyped, typed_number, typed_value
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, format_timecode, parse_entry, parse_length, parse_seconds, stamp
from kovel.store import projects
from kovel.web.pages import web

router = APIRouter()
Kind = Literal["moment", "length", "delta", "minutes", "seconds"]


def understood(
    text: str, frame_rate: Rate, kind: Kind, now: int = 0, start: int = 0, drop: bool = False
) -> tuple[int, str]:
    """The frame a text means, and what was understood, in words; `TimeError` if it is no time of that kind."""
    if kind == "seconds":
        seconds = parse_seconds(text, frame_rate)
        frame = frame_rate.seconds_to_frame(Fraction(seconds))
        return frame, f"{seconds:g} s, {_frames(frame)}"
    if kind in ("length", "minutes"):
        frame = parse_length(text, frame_rate, minutes=kind == "minutes")
    else:
        frame = parse_entry(text, frame_rate, now=now if kind == "moment" else 0, drop=drop, start=start)
    if kind == "moment" and frame < 0:
        raise TimeError(f"“{text.strip()[:40]}” lies before the beginning.")
    way = "" if kind != "delta" else " later" if frame >= 0 else " earlier"
    return frame, f"{stamp(frame, frame_rate)}, {_frames(frame)}{way}"


def _frames(n: int) -> str:
    return f"{abs(n)} frame{'s' if abs(n) != 1 else ''}"


@router.get("/p/{project}/time")
def time(
    request: Request, project: int, text: str, now: int = 0, kind: Kind = "moment", start: int = 0
) -> JSONResponse:
    """A time as editors type it -> {"frame", "said"} at the project's rate: a moment, a length, a step either way, the
    length of a film in minutes and seconds, or seconds. `said` is what was understood."""
    this_project = projects.get(web(request).data.db, project)
    try:
        frame, said_time = understood(text, this_project.rate, kind, now, start, this_project.drop)
    except TimeError as error:
        raise Invalid(str(error)) from None
    return JSONResponse({"frame": frame, "said": said_time})


@router.get("/p/{project}/value")
def value(request: Request, project: int, text: str, setting: str = "") -> JSONResponse:
    """A number as editors type it -> {"value"}, for a setting in its unit; of a zoom from one to another {"ends"}."""
    frame_rate = projects.get(web(request).data.db, project).rate
    if setting and setting not in SETTINGS:
        raise Invalid("There is no such setting.")
    try:
        read = typed_value(setting, text, frame_rate) if setting else typed_number(text)
    except ValueTyped as error:
        raise Invalid(str(error)) from None
    return JSONResponse({"ends": read} if isinstance(read, tuple) else {"value": read})


@router.get("/timecode")
def timecode(text: str, rate: str = "25", drop: bool = False) -> JSONResponse:
    """The timecode a new project would begin with, before there is a project."""
    try:
        film_rate = Rate.parse(rate)
        frame = parse_entry(text, film_rate, drop=drop)
        if frame < 0:
            raise TimeError("A film cannot begin before 00:00:00:00.")
    except ValueError as error:
        raise Invalid(str(error)) from None
    return JSONResponse({"frame": frame, "said": format_timecode(frame, film_rate, drop)})
