"""The Log room: one recording, its words, in and out, and what was kept of it."""

from typing import Annotated

from fastapi import APIRouter, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse, Response
from starlette.concurrency import run_in_threadpool

from kovel.core.plan import window_plan
from kovel.core.rate import Rate
from kovel.core.timecode import TimeError, parse_entry
from kovel.core.words import Word
from kovel.store import projects, recordings, stories, subclips
from kovel.store.projects import Invalid, Missing
from kovel.web.pages import page, report, small, web
from kovel.work.intake import media_facts, safe, take_words, transcript

router = APIRouter(prefix="/p/{project}")


def _turns(words: list[Word], rate: Rate) -> list[dict]:
    """Words by speaker's turn, broken also at pauses over a second; each word with its first and last frame."""
    turns: list[dict] = []
    for w in words:
        last = turns[-1] if turns else None
        if not last or last["speaker"] != w.speaker or w.start - last["words"][-1][2].end > 48000:
            turns.append({"speaker": w.speaker, "start": w.frames(rate)[0], "words": []})
        turns[-1]["words"].append((*w.frames(rate), w))
    return turns


def _clips(request: Request, project: int, recording: int) -> dict:
    w = web(request)
    p = projects.get(w.data.db, project)
    r = recordings.get(w.data.db, recording)
    rows = [{"c": c, "face": small(w, r, c.start, p.rate)} for c in subclips.of_recording(w.data.db, recording)]
    return {"project": p, "r": r, "clips": rows, "total": r.length(p.rate)}


@router.get("/log")
def room(request: Request, project: int, rec: int | None = None) -> HTMLResponse:
    w = web(request)
    p = projects.get(w.data.db, project)
    rows = [r for r in recordings.of_project(w.data.db, project) if not r.aside]
    chosen = next((r for r in rows if r.id == rec), None) or next(
        (r for r in rows if r.kind == "interview"), rows[0] if rows else None
    )
    faces = {r.id: small(w, r, r.length(p.rate) // 3, p.rate) for r in rows}
    base = {"room": "log", "project": p, "rows": rows, "faces": faces}
    if chosen is None:
        return page(request, "log.html", **base, r=None)
    turns = _turns(recordings.words(w.data.db, chosen.id), p.rate)
    names = sorted({t for c in subclips.of_project(w.data.db, project) for t in c.tags})
    return page(request, "log.html", **{**base, **_clips(request, project, chosen.id)}, turns=turns, tags=names)


@router.get("/recordings/{recording}/plan")
def plan(request: Request, project: int, recording: int) -> JSONResponse:
    """The whole recording as a plan for the player."""
    w = web(request)
    p = projects.get(w.data.db, project)
    src = recordings.get(w.data.db, recording).source
    facts = media_facts(w.data, recording) or {}
    out = window_plan(p.rate, src).to_json({src.id: src})
    return JSONResponse({**out, "frames": {src.id: facts.get("frames") or 1}})


@router.get("/search")
def search(request: Request, project: int, q: str = "") -> HTMLResponse:
    """Who said it: sentences of all recordings, with the words found marked."""
    w = web(request)
    p = projects.get(w.data.db, project)
    names = {r.id: r.name for r in recordings.of_project(w.data.db, project)}
    rows = []
    for f in recordings.search(w.data.db, project, q, 60):
        parts = [(chunk, i % 2 == 1) for i, chunk in enumerate(f.text.replace("\x03", "\x02").split("\x02"))]
        rows.append({"f": f, "name": names[f.recording], "frame": p.rate.sample_to_frame(f.start), "parts": parts})
    return page(request, "parts/found.html", project=p, rows=rows, q=q)


@router.post("/recordings/{recording}/words")
async def words_in(request: Request, project: int, recording: int, transcript_file: UploadFile) -> HTMLResponse:
    """Take a transcript with times: WebVTT, SRT, JSON."""
    w = web(request)
    name = transcript_file.filename or "transcript"
    raw = await transcript_file.read(20_000_000)
    r = await run_in_threadpool(recordings.get, w.data.db, recording)
    count, left = await run_in_threadpool(take_words, w.data, r, name, raw.decode("utf-8-sig", "replace"))
    headers = {"hx-redirect": f"/p/{project}/log?rec={recording}"} if not left else {"hx-reswap": "none"}
    return HTMLResponse(
        report(f"{count} words taken from {name}. Reload to see them." if left else f"{count} words taken.", tuple(left[:8])),
        headers=headers,
    )


@router.get("/recordings/{recording}/words.{kind}")
def words_out(request: Request, project: int, recording: int, kind: str) -> Response:
    db = web(request).data.db
    if kind not in ("vtt", "srt", "json"):
        raise Missing("There is no such format.")
    r = recordings.get(db, recording)
    body = transcript(recordings.words(db, recording), kind)
    name = safe(r.name).encode("ascii", "replace").decode().replace("?", "_")
    return Response(
        body, media_type="text/plain; charset=utf-8", headers={"content-disposition": f'attachment; filename="{name}.{kind}"'}
    )


@router.get("/time")
def time(request: Request, project: int, text: str, now: int = 0) -> JSONResponse:
    """A time as editors type it -> {"frame"}, at the project's rate."""
    p = projects.get(web(request).data.db, project)
    return JSONResponse({"frame": _time(text, p.rate, "That time", now)})


def _time(text: str, rate: Rate, what: str, now: int = 0) -> int:
    try:
        return parse_entry(text, rate, now=now)
    except TimeError as e:
        raise Invalid(f"{what}: {e}") from None


@router.post("/recordings/{recording}/subclips")
def keep(
    request: Request, project: int, recording: int, start: Annotated[str, Form()] = "", end: Annotated[str, Form()] = "", name: Annotated[str, Form()] = "",
    note: Annotated[str, Form()] = "", tags: Annotated[str, Form()] = "", verdict: Annotated[str, Form()] = "keep",
) -> HTMLResponse:  # fmt: skip
    w = web(request)
    p = projects.get(w.data.db, project)
    if not start or not end:
        raise Invalid("Set an in and an out point first: I and O, or drag over words.")
    c = subclips.add(
        w.data.db,
        recording,
        _time(start, p.rate, "In"),
        _time(end, p.rate, "Out"),
        name=name,
        note=note,
        tags=tags,
        verdict=verdict,
    )
    html = page(request, "parts/clips.html", **_clips(request, project, recording))
    return HTMLResponse(html.body.decode() + report(f"Kept “{c.name}”."))


@router.post("/subclips/{subclip}")
def change(
    request: Request, project: int, subclip: int, name: Annotated[str | None, Form()] = None, note: Annotated[str | None, Form()] = None,
    tags: Annotated[str | None, Form()] = None, verdict: Annotated[str | None, Form()] = None,
) -> HTMLResponse:  # fmt: skip
    given = {"name": name, "note": note, "tags": tags, "verdict": verdict}
    c = subclips.update(web(request).data.db, subclip, **{k: v for k, v in given.items() if v is not None})
    html = page(request, "parts/clips.html", **_clips(request, project, c.recording))
    return HTMLResponse(html.body.decode() + report(f"“{c.name}” changed."))


@router.post("/subclips/{subclip}/remove")
def remove(request: Request, project: int, subclip: int) -> HTMLResponse:
    c = subclips.remove(web(request).data.db, subclip)
    html = page(request, "parts/clips.html", **_clips(request, project, c.recording))
    return HTMLResponse(html.body.decode() + report(f"“{c.name}” is no longer in the log. The recording was not touched."))


@router.post("/subclips/{subclip}/to-story")
def to_story(request: Request, project: int, subclip: int) -> HTMLResponse:
    db = web(request).data.db
    c = subclips.get(db, subclip)
    if recordings.get(db, c.recording).project != project:
        raise Missing("That subclip is not in this project.")
    _, done = stories.edit(
        db, stories.first_of(db, project), None, "add_at_end", {"source": c.recording, "start": c.start, "length": c.length}
    )
    return HTMLResponse(report(f"“{c.name}” is in the story, at the end.", done.notes), headers={"hx-reswap": "none"})
