"""Footage in order: bins, what is set on many at once, names by a pattern, the frame that stands for a recording."""

from dataclasses import dataclass
from typing import Annotated, Literal

from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import HTMLResponse

from kovel.core.errors import Invalid
from kovel.core.time.timecode import stamp
from kovel.services.footage import binning
from kovel.services.log.recording_languages import code_of
from kovel.store import bin_rows, projects, recordings, steps
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.web.forms import Sent, sent
from kovel.web.pages import joined, page, report, the_recording, web
from kovel.web.rooms.footage.routes import listed

router = APIRouter(prefix="/p/{project}")
Ids = Annotated[list[int] | None, Form()]


def _of(request: Request, project: int, ids: list[int] | None) -> list[int]:
    """The recordings that were chosen, as far as they are of the project; `Invalid` if none was."""
    for recording_id in ids or ():
        projects.belongs(web(request).data.db, project, "recording", recording_id)
    if not ids:
        raise Invalid("Choose one or more recordings first.")
    return list(dict.fromkeys(ids))


@dataclass(frozen=True, slots=True)
class ChosenRecordings:
    """How many recordings are chosen, and how long they are in all."""

    project: Project
    count: int
    total: str


@router.get("/footage/chosen")
def chosen(request: Request, project: int, ids: Annotated[list[int] | None, Query()] = None) -> HTMLResponse:
    """How many are chosen and how long they are together."""
    this_project = projects.get(web(request).data.db, project)
    chosen_recordings = [
        recording
        for recording in recordings.of_project(web(request).data.db, project)
        if recording.id in set(ids or ())
    ]
    total = stamp(
        sum(recording.length(this_project.rate) for recording in chosen_recordings if recording.frames is not None),
        this_project.rate,
    )
    return page(
        request,
        "footage/chosen.html",
        ChosenRecordings(project=this_project, count=len(chosen_recordings), total=total),
    )


class ToAll(Sent):
    """What is to be set on all that are chosen; an empty field leaves theirs."""

    kind: str = ""
    day: str = ""
    roll: str = ""
    camera: str = ""
    aside: Literal["", "0", "1"] = ""
    language: str = ""

    @property
    def filled(self) -> dict[str, str | int]:
        """What is filled in."""
        texts = {name: value.strip() for name, value in self.given("kind", "day", "roll", "camera").items()}
        filled_texts: dict[str, str | int] = {name: text for name, text in texts.items() if text}
        if self.aside:
            filled_texts["aside"] = int(self.aside)
        return filled_texts | ({"language": code_of(self.language)} if self.language else {})


@router.post("/footage/set")
def set_all(request: Request, project: int, asked: Annotated[ToAll, sent(ToAll)], ids: Ids = None) -> HTMLResponse:
    """Kind, day, roll, camera, language and aside of all that are chosen, as far as they were filled in."""
    chosen_recordings = _of(request, project, ids)
    return listed(request, project, f"{binning.set_all(web(request).data, chosen_recordings, asked.filled)}.")


@dataclass(frozen=True, slots=True)
class NamesToBe:
    """What recordings would be called by a pattern."""

    project: Project
    would: list[tuple[Recording, str]]
    pattern: str


@router.post("/footage/names")
def names(
    request: Request,
    project: int,
    pattern: Annotated[str, Form()] = "",
    ids: Ids = None,
    sure: Annotated[bool, Form()] = False,
) -> HTMLResponse:
    """Names by a pattern: shown first, done when it is sure."""
    data_folder = web(request).data
    chosen_recordings = _of(request, project, ids)
    order = {
        recording.id: index
        for index, recording in enumerate(
            binning.chosen(
                data_folder,
                project,
                recordings.of_project(data_folder.db, project),
                binning.shown(request.headers.get("x-shown", "")),
            )
        )
    }
    chosen_recordings.sort(key=lambda i: order.get(i, len(order)))
    if sure:
        return listed(request, project, f"{binning.rename(data_folder, project, chosen_recordings, pattern)}.")
    would = binning.names(data_folder, project, chosen_recordings, pattern)
    return page(
        request,
        "footage/names.html",
        NamesToBe(project=projects.get(data_folder.db, project), would=would, pattern=pattern),
    )


@router.post("/footage/bins")
def make(request: Request, project: int, name: Annotated[str, Form()] = "", ids: Ids = None) -> HTMLResponse:
    """A new bin with what is chosen in it."""
    chosen_recordings = _of(request, project, ids) if ids else []
    folder = bin_rows.make(web(request).data.db, project, name, chosen_recordings)
    return listed(request, project, f"Bin {folder.name} made, with {len(folder.recordings)} in it.")


@router.post("/footage/bins/put")
def put(
    request: Request, project: int, to: Annotated[int, Form()], ids: Ids = None, out: Annotated[bool, Form()] = False
) -> HTMLResponse:
    """What is chosen into a bin, or out of it."""
    folder = bin_rows.put(web(request).data.db, project, to, _of(request, project, ids), out)
    return listed(
        request, project, f"{'Out of' if out else 'In'} {folder.name}: {len(folder.recordings)} are in it now."
    )


@router.post("/footage/bins/{number}/name")
def rename(request: Request, project: int, number: int, name: Annotated[str, Form()] = "") -> HTMLResponse:
    folder = bin_rows.rename(web(request).data.db, project, number, name)
    return listed(request, project, f"The bin is called {folder.name}.")


@router.post("/footage/bins/{number}/remove")
def remove(request: Request, project: int, number: int) -> HTMLResponse:
    folder = bin_rows.remove(web(request).data.db, project, number)
    return listed(request, project, f"Bin {folder.name} taken away; its recordings stay.")


@router.post("/footage/undo")
def undo(request: Request, project: int, redo: Annotated[bool, Form()] = False) -> HTMLResponse:
    """The last step of the log, which footage is part of, taken back or done again."""
    summary, _ = steps.undo_or_redo(web(request).data.db, project, redo)
    return listed(request, project, f"{'Done again' if redo else 'Undone'}: {summary}.")


@router.post("/recordings/{recording}/poster")
def poster(request: Request, project: int, recording: int, frame: Annotated[int, Form()]) -> HTMLResponse:
    """The frame at the playhead stands for the recording in lists."""
    database = web(request).data.db
    this_recording = the_recording(request, project, recording)
    total = this_recording.length(projects.get(database, project).rate)
    if not this_recording.picture:
        raise Invalid(f"{this_recording.name} has no picture.")
    recordings.update(database, recording, poster=max(0, min(total - 1, frame)))
    return joined(report("This frame stands for it in lists now."))
