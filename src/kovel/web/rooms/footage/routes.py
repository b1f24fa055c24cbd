"""The Footage room: bring in, name, order, see what is being prepared."""

import re
from pathlib import Path
from secrets import token_hex
from typing import Annotated

from fastapi import APIRouter, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BaseModel, ConfigDict
from starlette.concurrency import run_in_threadpool

from kovel.core.errors import Invalid, Missing
from kovel.data_folder import media_facts
from kovel.media.files import Unusable
from kovel.services.footage.disk_space import empty
from kovel.services.footage.intake import (
    allowed,
    bring_in,
    bring_in_all,
    choose_microphones,
    files_in,
    prepare,
    put_under_free_name,
    safe,
    twice,
)
from kovel.services.footage.relinking import search, take_as_it_is
from kovel.services.footage.syncing import apart, nudge, sync_by_sound, sync_by_timecode
from kovel.services.footage.verifying import verify
from kovel.services.log.transcription import transcribe
from kovel.services.sound.derived_sounds import set_on_recording
from kovel.store import jobs, projects, recordings, transcripts
from kovel.store.jobs import JobState
from kovel.web.forms import Sent, Ticked, sent
from kovel.web.pages import joined, page, report, size, the_recording, web
from kovel.web.rooms.footage.recording_list import footage, searching_of, speaks

router = APIRouter(prefix="/p/{project}")


@router.get("/footage")
def room(request: Request, project: int) -> HTMLResponse:
    return page(request, "footage/room.html", footage(request, project), room="footage", roots=web(request).roots)


@router.get("/footage/list")
def listing(request: Request, project: int) -> HTMLResponse:
    return page(request, "footage/recordings.html", footage(request, project))


@router.post("/footage/transcribe")
def transcribe_all(request: Request, project: int) -> HTMLResponse:
    """Transcribe every interview that has no words yet, one after the other."""
    application = web(request)
    have = transcripts.has_words(application.data.db, project)
    done, notes = 0, []
    for recording in recordings.of_project(application.data.db, project):
        if speaks(recording) and recording.id not in have:
            try:
                transcribe(application.data, recording.id)
                done += 1
            except Invalid as error:
                notes.append(str(error))
    if not done:
        raise Invalid("No interview is without words. " + " ".join(notes[:3]))
    return listed(
        request, project, f"{done} recording{'s' if done != 1 else ''} will be transcribed, one after the other.", notes
    )


@router.post("/footage/transcribe/stop")
def transcribe_none(request: Request, project: int) -> HTMLResponse:
    """Stop every transcription of the project."""
    database = web(request).data.db
    stopped = [job for job in jobs.of_project(database, project, "transcribe") if job.is_open]
    for job in stopped:
        jobs.end(database, job.id, JobState.CANCELLED)
    return listed(request, project, f"{len(stopped)} transcription{'s' if len(stopped) != 1 else ''} stopped.")


@router.get("/preparing")
def preparing(request: Request, project: int, seen: int = 0) -> HTMLResponse:
    """How many recordings are still being prepared, for the head of every room; the Story reloads once all are
    there."""
    database = web(request).data.db
    busy = [job for job in jobs.latest_of_recordings(database, project).values() if job.is_open]
    preparing_page = page(request, "footage/preparing.html", project=projects.get(database, project), count=len(busy))
    if seen and not busy:
        preparing_page.headers["hx-trigger"] = "prepared"
    return preparing_page


def listed(
    request: Request, project: int, did: str, notes: list[str] | None = None, error: bool = False
) -> HTMLResponse:
    return joined(listing(request, project), report(did, tuple(notes or ()), error=error))


def _several(request: Request, project: int, paths: list[Path]) -> HTMLResponse:
    application = web(request)
    new_recordings, bad = bring_in_all(application.data, project, paths)
    if new_recordings:
        application.now.warm()  # somebody will want to see them
    good = len(new_recordings)
    summary = f"{good} recording{'s' if good != 1 else ''} brought in." if good else "Nothing was brought in."
    return listed(request, project, summary, bad, error=not good)


@router.post("/footage/path")
def by_path(request: Request, project: int, path: Annotated[str, Form()] = "") -> HTMLResponse:
    """Bring in a file, or all files of a folder, where they are."""
    application = web(request)
    projects.get(application.data.db, project)
    if not path.strip():
        raise Invalid("Type the path of a file or a folder on this machine.")
    files_found = files_in(allowed(path, application.roots))
    if not files_found:
        raise Invalid("There are no files in that folder.")
    return _several(request, project, files_found)


@router.post("/footage/find")
def find_again(
    request: Request, project: int, path: Annotated[str, Form()] = "", better: Annotated[bool, Form()] = False
) -> HTMLResponse:
    """Look for recordings that are off-line in a folder, by checksum."""
    application = web(request)
    if not path.strip():
        raise Invalid("Type the path of the folder they may be in.")
    folder = allowed(path, application.roots)
    search(application.data, project, folder, better)
    return listed(request, project, f"{folder.name} is being looked through.")


@router.post("/footage/verify")
def verify_all(request: Request, project: int) -> HTMLResponse:
    """Read every recording again and compare it with what was brought in."""
    verify(web(request).data, project)
    return listed(request, project, "Every recording is being read.")


@router.post("/footage/find/stop")
def stop_finding(request: Request, project: int) -> HTMLResponse:
    """Stop looking; or put away what it said."""
    database = web(request).data.db
    job = searching_of(database, project)
    if job is None:
        raise Missing("Nothing is being looked for.")
    jobs.end(database, job.id, JobState.CANCELLED)
    jobs.forget_message(database, job.id)
    return listed(request, project, "Stopped." if job.is_open else "Put away.")


@router.post("/footage/upload")
async def upload(request: Request, project: int, files: list[UploadFile]) -> HTMLResponse:
    """Keep uploaded files in the data folder, then bring them in. One that cannot be used is not kept."""
    application = web(request)
    await run_in_threadpool(projects.get, application.data.db, project)
    done, bad = 0, []
    for sent_file in files:
        name = Path(sent_file.filename or "recording").name
        suffix = Path(name).suffix.lower()
        folder, to = application.data.uploads(project), Path(name)
        folder.mkdir(parents=True, exist_ok=True)
        part = folder / f".{token_hex(8)}.part"
        try:
            with part.open("xb") as upload_file:
                while block := await sent_file.read(1 << 20):
                    await run_in_threadpool(upload_file.write, block)
            ending = suffix if re.fullmatch(r"\.[a-z0-9]{1,8}", suffix) else ""
            to = await run_in_threadpool(put_under_free_name, part, folder, safe(Path(name).stem), ending)
            recording = await run_in_threadpool(bring_in, application.data, project, to, name=Path(name).stem)
            bad += twice(recording)
            done += 1
        except (Unusable, Invalid, OSError) as error:
            if to.is_absolute():
                to.unlink(missing_ok=True)
            bad.append(str(error).replace(to.name, name))
        finally:
            part.unlink(missing_ok=True)
    summary = f"{done} recording{'s' if done != 1 else ''} brought in." if done else "Nothing was brought in."
    return await run_in_threadpool(listed, request, project, summary, bad, not done)


class SettingAsked(BaseModel):
    """A setting of a recording in every story of the project; without a value it is taken back."""

    model_config = ConfigDict(extra="forbid", strict=True)
    setting: str
    value: bool | int | float | str | list[list[float]] | None = None


@router.post("/recordings/{recording}/settings")
def set_value(request: Request, project: int, recording: int, asked: SettingAsked) -> JSONResponse:
    the_recording(request, project, recording)
    this_recording, summary = set_on_recording(web(request).data, recording, asked.setting, asked.value)
    return JSONResponse({"did": summary, "settings": this_recording.settings.to_json()})


class About(Sent):
    """What is written beside a recording."""

    name: str = ""
    kind: str = ""
    roll: str = ""
    camera: str = ""
    day: str = ""
    aside: Ticked = False


@router.post("/recordings/{recording}")
def change(request: Request, project: int, recording: int, asked: Annotated[About, sent(About)]) -> HTMLResponse:
    the_recording(request, project, recording)
    given = asked.given(*About.model_fields)
    if not given:
        raise Invalid("There is nothing to change in that request.")
    this_recording = recordings.update(web(request).data.db, recording, **given)
    return listed(request, project, f"{this_recording.name} {'set aside' if given.get('aside') else 'changed'}.")


@router.post("/recordings/{recording}/hear")
def hear_others(request: Request, project: int, recording: int, heard: Annotated[str, Form()] = "") -> HTMLResponse:
    """Which one or two microphones of the recording are heard: `0`, `0 2`."""
    numbers = heard.split()
    if not all(number.isdecimal() and len(number) < 4 for number in numbers):
        raise Invalid("Choose one or two microphones.")
    this_recording = choose_microphones(web(request).data, recording, [int(number) for number in numbers])
    names = " and ".join(this_recording.microphones[int(number)] for number in numbers)
    return listed(
        request,
        project,
        f"{this_recording.name}: {names} {'is' if len(numbers) == 1 else 'are'} heard; its sound is made anew.",
    )


@router.post("/recordings/{recording}/order")
def order(
    request: Request,
    project: int,
    recording: int,
    before: Annotated[int | None, Form()] = None,
    step: Annotated[int | None, Form()] = None,
) -> HTMLResponse:
    database = web(request).data.db
    the_recording(request, project, recording)
    if step is not None:
        ids = [recording.id for recording in recordings.of_project(database, project)]
        index = ids.index(recording)
        rest = [recording_id for recording_id in ids if recording_id != recording]
        new_index = max(0, min(len(rest), index + step))
        before = rest[new_index] if new_index < len(rest) else None
    recordings.reorder(database, recording, before)
    return listed(request, project, "Order changed.")


@router.post("/recordings/{recording}/remove")
def remove(request: Request, project: int, recording: int) -> HTMLResponse:
    database = web(request).data.db
    this_recording = the_recording(request, project, recording)
    recordings.remove(database, recording)
    return listed(
        request,
        project,
        f"{this_recording.name} taken out of the project. It can be brought back below; its file was not touched.",
    )


@router.post("/footage/back/{gone}")
def bring_back(request: Request, project: int, gone: int) -> HTMLResponse:
    """A recording that was taken out is here again, with its words and subclips."""
    data_folder = web(request).data
    if gone not in {recording.id for recording in recordings.taken_out(data_folder.db, project)}:
        raise Missing("That recording was not taken out of this project, or went for good.")
    recording = recordings.bring_back(data_folder.db, gone)
    if media_facts(data_folder, recording.id) is None or not recording.ready:
        prepare(data_folder, recording)
    return listed(request, project, f"{recording.name} is back.")


@router.post("/footage/empty")
def empty_out(request: Request, project: int) -> HTMLResponse:
    """What was taken out goes for good."""
    freed = empty(web(request).data, project)
    return listed(request, project, f"What was taken out is gone; {size(freed)} freed.")


@router.post("/recordings/{recording}/take")
def take(request: Request, project: int, recording: int) -> HTMLResponse:
    """The file that is at its path now is the recording from now on."""
    this_recording = take_as_it_is(web(request).data, recording)
    return listed(request, project, f"{this_recording.name} is the file that is there now; it is being prepared.")


@router.post("/recordings/{recording}/cancel")
def cancel(request: Request, project: int, recording: int) -> HTMLResponse:
    database = web(request).data.db
    the_recording(request, project, recording)
    job = jobs.latest_of_recordings(database, project).get(recording)
    if job:
        jobs.end(database, job.id, JobState.CANCELLED)
    return listed(request, project, "Preparation stopped. “Try again” takes it up.")


@router.post("/recordings/{recording}/retry")
def retry(request: Request, project: int, recording: int) -> HTMLResponse:
    application = web(request)
    this_recording = the_recording(request, project, recording)
    job = jobs.latest_of_recordings(application.data.db, project).get(recording)
    if job and job.is_open:
        raise Invalid(f"{this_recording.name} is being prepared already.")
    prepare(application.data, this_recording)
    return listed(request, project, "Preparation begun again.")


@router.post("/footage/sync")
def sync(
    request: Request,
    project: int,
    how: Annotated[str, Form()] = "sound",
    ids: Annotated[list[int] | None, Form()] = None,
) -> HTMLResponse:
    """Put the chosen recordings on one clock, by sound or by timecode."""
    data_folder = web(request).data
    if how == "timecode":
        return listed(request, project, sync_by_timecode(data_folder, project, ids or []))
    sync_by_sound(data_folder, project, ids or [])
    return listed(request, project, "Their sound is being matched.")


@router.post("/footage/sync/stop")
def sync_none(request: Request, project: int) -> HTMLResponse:
    database = web(request).data.db
    for job in jobs.of_project(database, project, "sync"):
        if job.is_open:
            jobs.end(database, job.id, JobState.CANCELLED)
    return listed(request, project, "Matching stopped.")


@router.post("/recordings/{recording}/sync")
def sync_by_hand(
    request: Request,
    project: int,
    recording: int,
    ms: Annotated[float, Form()] = 0,
    frames: Annotated[int, Form()] = 0,
    out: Annotated[str, Form()] = "",
) -> HTMLResponse:
    """Nudge a recording in its sync set by milliseconds or frames, or take it out of the set."""
    data_folder = web(request).data
    this_recording = the_recording(request, project, recording)
    if out:
        apart(data_folder, recording)
        return listed(request, project, f"{this_recording.name} is in no sync set any more.")
    if not abs(ms) <= 60_000 or not abs(frames) <= 10_000:
        raise Invalid("That is further than a nudge goes: at most a minute.")
    nudge(data_folder, recording, ms, frames, projects.get(data_folder.db, project).rate)
    return listed(request, project, f"{this_recording.name} moved by {f'{ms:+g} ms' if ms else f'{frames:+d} frames'}.")
