"""The Footage room: bring in, name, order, see what is being prepared."""

import re
import shutil
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BaseModel, ConfigDict
from starlette.concurrency import run_in_threadpool

from kovel.media.files import Unusable
from kovel.store import jobs, projects, recordings
from kovel.store.projects import Invalid
from kovel.store.recordings import Recording
from kovel.web.faces import face_of
from kovel.web.pages import joined, page, report, rooms_state, sent, the_recording, web
from kovel.work.finding import relink, there
from kovel.work.hearing import transcribe
from kovel.work.intake import allowed, bring_in, bring_in_all, files_in, free_name, prepare, safe, twice
from kovel.work.made import set_on_recording
from kovel.work.room import taken_lately
from kovel.work.syncing import apart, nudge, sets, sync_by_sound, sync_by_timecode

router = APIRouter(prefix="/p/{project}")


def _rows(request: Request, project: int) -> dict[str, Any]:
    w = web(request)
    p = projects.get(w.data.db, project)
    state = rooms_state(w, project)
    rows = [
        {
            "r": r,
            "job": state["jobs"].get(r.id),
            "face": face_of(w.data, r, r.length(p.rate) // 3, p.rate),
            "online": there(r),
        }
        for r in state["recordings"]
    ]
    hearing = jobs.latest_of_recordings(w.data.db, project, "transcribe", "align")
    have = recordings.has_words(w.data.db, project)
    for x in rows:
        job = hearing.get(x["r"].id)
        x["hearing"] = job if job and job.state in ("waiting", "working", "failed") else None
        x["words"] = x["r"].id in have
        x["takes"] = taken_lately(w.data.derived(x["r"].id)).all
    busy = any(j and j.state in ("waiting", "working") for x in rows for j in (x["job"], x["hearing"]))
    coming = [x["job"] for x in rows if x["job"] and x["job"].state in ("waiting", "working")]
    running = any(x["hearing"] and x["hearing"].state != "failed" for x in rows)
    silent = sum(1 for x in rows if _speaks(x["r"]) and not x["words"] and not x["hearing"])
    matched = jobs.of_project(w.data.db, project, "sync")
    syncing = [j for j in matched if j.state in ("waiting", "working")]
    newest = max(matched, key=lambda j: j.id, default=None)
    failed = newest.message if newest and newest.state in ("done", "failed") else ""
    return {
        "sets": sets(w.data, project),
        "syncing": syncing[-1] if syncing else None,
        "sync_failed": failed,
        "project": p,
        "rows": rows,
        "busy": busy or bool(syncing),
        "kinds": recordings.KINDS,
        "silent": silent,
        "hearing": running,
        "coming": len([j for j in coming if not j.paused]),
        "held": len([j for j in coming if j.paused]),
        "left": time_left(coming),
        "missing": sum(not x["online"] for x in rows),
    }


def time_left(coming: list[jobs.Job]) -> int | None:
    """Seconds until all that is being prepared is there, by the pace of what is under way; None while that is not known."""

    def to_do(j: jobs.Job) -> float:
        num, den = j.params["rate"]
        return float((j.params["frames"] or 1) * den / num * (1 - j.progress))

    going = [j for j in coming if j.seconds_left is not None]
    known = sum(map(to_do, going))
    if not known:
        return None
    return round(max(j.seconds_left or 0 for j in going) * sum(map(to_do, coming)) / known)


def _speaks(r: Recording) -> bool:
    """Whether somebody is likely to speak in it."""
    return r.kind == "interview" and r.sound and r.ready and not r.aside


@router.get("/footage")
def room(request: Request, project: int) -> HTMLResponse:
    return page(request, "footage.html", room="footage", roots=web(request).roots, **_rows(request, project))


@router.get("/footage/list")
def listing(request: Request, project: int) -> HTMLResponse:
    return page(request, "parts/recordings.html", **_rows(request, project))


@router.post("/footage/transcribe")
def transcribe_all(request: Request, project: int) -> HTMLResponse:
    """Transcribe every interview that has no words yet, one after the other."""
    w = web(request)
    have = recordings.has_words(w.data.db, project)
    done, notes = 0, []
    for r in recordings.of_project(w.data.db, project):
        if _speaks(r) and r.id not in have:
            try:
                transcribe(w.data, r.id)
                done += 1
            except Invalid as e:
                notes.append(str(e))
    if not done:
        raise Invalid("No interview is without words. " + " ".join(notes[:3]))
    return listed(
        request, project, f"{done} recording{'s' if done != 1 else ''} will be transcribed, one after the other.", notes
    )


@router.post("/footage/transcribe/stop")
def transcribe_none(request: Request, project: int) -> HTMLResponse:
    """Stop every transcription of the project."""
    db = web(request).data.db
    stopped = [j for j in jobs.of_project(db, project, "transcribe") if j.state in ("waiting", "working")]
    for j in stopped:
        jobs.end(db, j.id, "cancelled")
    return listed(request, project, f"{len(stopped)} transcription{'s' if len(stopped) != 1 else ''} stopped.")


@router.get("/preparing")
def preparing(request: Request, project: int, seen: int = 0) -> HTMLResponse:
    """How many recordings are still being prepared, for the head of every room; the Story reloads once all are there."""
    db = web(request).data.db
    busy = [j for j in jobs.latest_of_recordings(db, project).values() if j.state in ("waiting", "working")]
    out = page(request, "parts/preparing.html", project=projects.get(db, project), count=len(busy))
    if seen and not busy:
        out.headers["hx-trigger"] = "prepared"
    return out


def listed(request: Request, project: int, did: str, notes: list[str] | None = None, error: bool = False) -> HTMLResponse:
    return joined(listing(request, project), report(did, tuple(notes or ()), error=error))


def _several(request: Request, project: int, paths: list[Path]) -> HTMLResponse:
    w = web(request)
    made, bad = bring_in_all(w.data, project, paths)
    if made:
        w.now.warm()  # somebody will want to see them
    good = len(made)
    did = f"{good} recording{'s' if good != 1 else ''} brought in." if good else "Nothing was brought in."
    return listed(request, project, did, bad, error=not good)


@router.post("/footage/path")
def by_path(request: Request, project: int, path: Annotated[str, Form()] = "") -> HTMLResponse:
    """Bring in a file, or all files of a folder, where they are."""
    w = web(request)
    projects.get(w.data.db, project)
    if not path.strip():
        raise Invalid("Type the path of a file or a folder on this machine.")
    found = files_in(allowed(path, w.roots))
    if not found:
        raise Invalid("There are no files in that folder.")
    return _several(request, project, found)


@router.post("/footage/find")
def find_again(
    request: Request, project: int, path: Annotated[str, Form()] = "", better: Annotated[bool, Form()] = False
) -> HTMLResponse:
    """Look for recordings that are off-line in a folder, by checksum."""
    w = web(request)
    if not path.strip():
        raise Invalid("Type the path of the folder they may be in.")
    done = relink(w.data, project, allowed(path, w.roots), better)
    notes = [f"{name} is at {Path(at).name} now." for name, at in (*done.again, *done.better)]
    return listed(request, project, f"{done.said[0].upper()}{done.said[1:]}.", [*notes, *done.left])


@router.post("/footage/upload")
async def upload(request: Request, project: int, files: list[UploadFile]) -> HTMLResponse:
    """Keep uploaded files in the data folder, then bring them in. One that cannot be used is not kept."""
    w = web(request)
    await run_in_threadpool(projects.get, w.data.db, project)
    done, bad = 0, []
    for f in files:
        name = Path(f.filename or "recording").name
        suffix = Path(name).suffix.lower()
        to = free_name(
            w.data.uploads(project), safe(Path(name).stem), suffix if re.fullmatch(r"\.[a-z0-9]{1,8}", suffix) else ""
        )
        try:
            with to.open("wb") as out:
                while block := await f.read(1 << 20):
                    await run_in_threadpool(out.write, block)
            r = await run_in_threadpool(bring_in, w.data, project, to, name=Path(name).stem)
            bad += twice(r)
            done += 1
        except (Unusable, Invalid, OSError) as e:
            to.unlink(missing_ok=True)
            bad.append(str(e).replace(to.name, name))
    did = f"{done} recording{'s' if done != 1 else ''} brought in." if done else "Nothing was brought in."
    return await run_in_threadpool(listed, request, project, did, bad, not done)


class SettingAsked(BaseModel):
    """A setting of a recording in every story of the project; without a value it is taken back."""

    model_config = ConfigDict(extra="forbid", strict=True)
    setting: str
    value: bool | int | float | str | list[list[float]] | None = None


@router.post("/recordings/{recording}/settings")
def set_value(request: Request, project: int, recording: int, asked: SettingAsked) -> JSONResponse:
    the_recording(request, project, recording)
    r, did = set_on_recording(web(request).data, recording, asked.setting, asked.value)
    return JSONResponse({"did": did, "settings": r.settings.to_json()})


@router.post("/recordings/{recording}")
def change(request: Request, project: int, recording: int, form: Annotated[dict[str, str], Depends(sent)]) -> HTMLResponse:
    the_recording(request, project, recording)
    given: dict[str, str | int] = {k: v for k, v in form.items() if k in ("name", "kind", "roll", "camera", "day")}
    if "aside" in form:
        given["aside"] = int(form["aside"] == "1")
    if not given:
        raise Invalid("There is nothing to change in that request.")
    r = recordings.update(web(request).data.db, recording, **given)
    return listed(request, project, f"{r.name} {'set aside' if given.get('aside') else 'changed'}.")


@router.post("/recordings/{recording}/order")
def order(
    request: Request,
    project: int,
    recording: int,
    before: Annotated[int | None, Form()] = None,
    step: Annotated[int | None, Form()] = None,
) -> HTMLResponse:
    db = web(request).data.db
    the_recording(request, project, recording)
    if step is not None:
        ids = [r.id for r in recordings.of_project(db, project)]
        i = ids.index(recording)
        rest = [x for x in ids if x != recording]
        j = max(0, min(len(rest), i + step))
        before = rest[j] if j < len(rest) else None
    recordings.reorder(db, recording, before)
    return listed(request, project, "Order changed.")


@router.post("/recordings/{recording}/remove")
def remove(request: Request, project: int, recording: int) -> HTMLResponse:
    db = web(request).data.db
    r = the_recording(request, project, recording)
    recordings.remove(db, recording)
    shutil.rmtree(web(request).data.derived(recording), ignore_errors=True)
    return listed(request, project, f"{r.name} taken out of the project. The file itself was not touched.")


@router.post("/recordings/{recording}/cancel")
def cancel(request: Request, project: int, recording: int) -> HTMLResponse:
    db = web(request).data.db
    the_recording(request, project, recording)
    job = jobs.latest_of_recordings(db, project).get(recording)
    if job:
        jobs.end(db, job.id, "cancelled")
    return listed(request, project, "Preparation stopped. “Try again” takes it up.")


@router.post("/recordings/{recording}/retry")
def retry(request: Request, project: int, recording: int) -> HTMLResponse:
    w = web(request)
    r = the_recording(request, project, recording)
    job = jobs.latest_of_recordings(w.data.db, project).get(recording)
    if job and job.state in ("waiting", "working"):
        raise Invalid(f"{r.name} is being prepared already.")
    prepare(w.data, r)
    return listed(request, project, "Preparation begun again.")


@router.post("/footage/sync")
def sync(
    request: Request, project: int, how: Annotated[str, Form()] = "sound", ids: Annotated[list[int] | None, Form()] = None
) -> HTMLResponse:
    """Put the chosen recordings on one clock, by sound or by timecode."""
    data = web(request).data
    if how == "timecode":
        return listed(request, project, sync_by_timecode(data, project, ids or []))
    sync_by_sound(data, project, ids or [])
    return listed(request, project, "Their sound is being matched.")


@router.post("/footage/sync/stop")
def sync_none(request: Request, project: int) -> HTMLResponse:
    db = web(request).data.db
    for j in jobs.of_project(db, project, "sync"):
        if j.state in ("waiting", "working"):
            jobs.end(db, j.id, "cancelled")
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
    data = web(request).data
    r = the_recording(request, project, recording)
    if out:
        apart(data, recording)
        return listed(request, project, f"{r.name} is in no sync set any more.")
    if not abs(ms) <= 60_000 or not abs(frames) <= 10_000:
        raise Invalid("That is further than a nudge goes: at most a minute.")
    nudge(data, recording, ms, frames, projects.get(data.db, project).rate)
    return listed(request, project, f"{r.name} moved by {f'{ms:+g} ms' if ms else f'{frames:+d} frames'}.")
