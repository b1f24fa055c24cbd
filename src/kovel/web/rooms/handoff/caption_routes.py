"""The captions of a story: read, judged, changed in place; files in and out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import APIRouter, File, Form, Query, Request, UploadFile
from fastapi.responses import HTMLResponse, Response

from kovel.core.errors import Invalid, Missing
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp
from kovel.core.words.subtitles import CHARS, Cue
from kovel.exchange.caption_formats import CAPTION_FORMATS, CaptionFormat
from kovel.services.handoff.captioning import bring, caption_file, captions_of, change, too_fast
from kovel.store import caption_rows, projects
from kovel.store.projects import Project
from kovel.store.stories import Kept
from kovel.web.open_story import opened
from kovel.web.pages import download, joined, page, render, report, web

router = APIRouter(prefix="/p/{project}")
BIGGEST = 4_000_000


@dataclass(frozen=True, slots=True)
class Row:
    """One caption as the page shows it."""

    at: int
    begins: str
    lasts: str
    text: str
    speaker: str
    key: str
    edited: bool
    pace: int
    trouble: str
    tall: int


def _row(cue: Cue, frame_rate: Rate) -> Row:
    return Row(
        cue.at,
        stamp(cue.at, frame_rate),
        f"{float((cue.end - cue.at) / frame_rate.fps):.1f} s",
        "\n".join(cue.lines),
        cue.speaker,
        f"{cue.key[0]}-{cue.key[1]}",
        cue.edited,
        cue.pace(frame_rate),
        too_fast(cue, frame_rate),
        max(1, len(cue.lines)),
    )


@router.get("/captions")
def room(request: Request, project: int) -> HTMLResponse:
    return _list(request, project, "handoff/captions.html")


@dataclass(frozen=True, slots=True)
class CaptionList:
    """The captions of a story, and the formats they go out in."""

    project: Project
    kept: Kept
    rows: list[Row]
    hard: int
    file: str | None
    formats: list[CaptionFormat]
    read_suffixes: str
    undo_redo: tuple[bool, bool]


def _list(request: Request, project: int, template: str = "handoff/caption_rows.html") -> HTMLResponse:
    data_folder = web(request).data
    kept_story = opened(request, project)
    cue_views = [_row(cue, kept_story.story.rate) for cue in captions_of(data_folder, kept_story)]
    file = caption_rows.brought(data_folder.db, kept_story.id)
    hard = sum(bool(cue_view.trouble) for cue_view in cue_views)
    return page(
        request,
        template,
        CaptionList(
            project=projects.get(data_folder.db, project),
            kept=kept_story,
            rows=cue_views,
            hard=hard,
            file=file and file[0],
            formats=[
                caption_format
                for caption_format in CAPTION_FORMATS.values()
                if kept_story.story.sections or not caption_format.is_chapters
            ],
            read_suffixes=",".join(
                caption_format.suffix for caption_format in CAPTION_FORMATS.values() if caption_format.is_read
            ),
            undo_redo=caption_rows.can(data_folder.db, kept_story.id),
        ),
        room="handoff",
    )


@router.post("/captions/{key}")
def type_(request: Request, project: int, key: str, text: Annotated[str, Form()] = "") -> HTMLResponse:
    """Type what a caption says; nothing: as its words say."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    try:
        recording, sample = map(int, key.split("-"))
    except ValueError:
        raise Missing("There is no such caption.") from None
    cue = change(data_folder, kept_story, (recording, sample), text)
    this_project = projects.get(data_folder.db, project)
    can = render(
        "handoff/caption_undo.html",
        project=this_project,
        undo_redo=caption_rows.can(data_folder.db, kept_story.id),
        oob=True,
    )
    return joined(render("handoff/caption.html", r=_row(cue, kept_story.story.rate), project=this_project), can)


@router.post("/captions.in")
def file_in(request: Request, project: int, file: Annotated[UploadFile, File()]) -> HTMLResponse:
    """A caption file to stand for this story."""
    body = file.file.read(BIGGEST + 1)
    if len(body) > BIGGEST:
        raise Invalid("That file is too large to be captions.")
    n, notes = bring(web(request).data, opened(request, project), file.filename or "The file", body)
    return joined(
        _list(request, project),
        report(f"{n} captions brought in. They stand instead of those that follow the words.", tuple(notes)),
    )


@router.post("/captions.words")
def words_again(request: Request, project: int) -> HTMLResponse:
    """Captions that follow the words again."""
    kept_story = opened(request, project)
    caption_rows.bring(web(request).data.db, kept_story.id, "", None)
    return joined(_list(request, project), report("The captions follow the words again."))


@router.post("/captions.undo")
def undo(request: Request, project: int, redo: Annotated[bool, Form()] = False) -> HTMLResponse:
    """The last change of the captions taken back, or done again."""
    summary = caption_rows.undo_or_redo(web(request).data.db, opened(request, project).id, redo)
    return joined(_list(request, project), report(f"{'Done again' if redo else 'Undone'}: {summary}."))


@router.get("/captions.{kind}")
def file_out(request: Request, project: int, kind: str, chars: Annotated[int, Query(ge=20, le=80)] = CHARS) -> Response:
    """The captions, or the headings as chapters, in one of CAPTION_FORMATS."""
    data_folder = web(request).data
    format = CAPTION_FORMATS.get(kind)
    if format is None:
        raise Missing(f"Captions are written as {', '.join(CAPTION_FORMATS)}.")
    body, _ = caption_file(data_folder, opened(request, project), format, chars)
    return download(body, f"{projects.get(data_folder.db, project).name}{format.suffix}", format.media_type)
