"""The Log room's desk: one recording, its words, in and out, markers and slices, and what was kept of it."""

import contextlib
from dataclasses import dataclass
from fractions import Fraction
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BeforeValidator

from kovel.core.plan.plan import window_plan
from kovel.core.sound.pauses import VOICE, nearest_pause
from kovel.core.story.sync import set_time
from kovel.core.story.usage import ranges_used, uses
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.core.time.timecode import TimeError, parse_entry
from kovel.core.words.transcript import Word
from kovel.store import jobs, markers, projects, recordings, settings, steps, stories, subclips
from kovel.store.projects import Invalid, Missing
from kovel.store.recordings import Recording
from kovel.store.subclips import Subclip
from kovel.web.faces import face_of
from kovel.web.forms import Sent, sent
from kovel.web.making import making_values
from kovel.web.pages import joined, page, plan_answer, render, report, the_recording, web
from kovel.web.shots import shot
from kovel.work.made import want_cleaned
from kovel.work.meaning import Hit, meant, more_like
from kovel.work.meaning import search as search_meaning
from kovel.work.speaking import found_pauses
from kovel.work.tongues import choices

router = APIRouter(prefix="/p/{project}")
PULL = 48_000 * 3 // 2  # samples a mark may be pulled


def turns(words: list[Word], rate: Rate) -> list[dict[str, Any]]:
    """Words by speaker's turn, broken also at pauses over a second; each word with its first and last frame."""
    out: list[dict[str, Any]] = []
    for w in words:
        last = out[-1] if out else None
        if not last or last["speaker"] != w.speaker or w.start - last["words"][-1][2].end > 48000:
            out.append({"speaker": w.speaker, "start": w.frames(rate)[0], "first": w.start, "words": []})
        out[-1]["words"].append((*w.frames(rate), w))
    return out


FIRST = 2500  # words sent with the page; the rest follows by itself


def words_part(request: Request, r: Recording, *, oob: bool = False) -> str:
    """The transcript as a fragment; of a long one the beginning, which fetches the rest."""
    w = web(request)
    p = projects.get(w.data.db, r.project)
    said = recordings.words_at(w.data.db, r.id, 0, FIRST + 1)
    return render(
        "parts/words.html", project=p, r=r, turns=turns(said[:FIRST], p.rate), more=FIRST if len(said) > FIRST else 0, voice=VOICE,
        speakers=recordings.speakers(w.data.db, r.id), hearing=hearing(request, r), model=settings.get(w.data.db, "model"), before="",
        oob=oob, seen=len(said), languages=choices(r),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Hearing:
    """A job on a recording's words, and what is said of it."""

    job: jobs.Job
    doing: str
    failed: str
    again: str  # the route that begins it once more

    @property
    def open(self) -> bool:
        return self.job.state in ("waiting", "working")


SAID_OF = {
    "transcribe": ("Transcribing", "It could not be transcribed.", "transcribe"),
    "align": ("Putting the text to the sound", "The text could not be put to the sound.", "transcribe"),
    "voices": ("Telling the voices apart", "The voices could not be told apart.", "voices"),
}


def hearing(request: Request, r: Recording) -> Hearing | None:
    """The newest job on a recording's words, if it runs or ended otherwise than well."""
    job = jobs.latest_of_recordings(web(request).data.db, r.project, *jobs.ON_WORDS).get(r.id)
    return Hearing(job, *SAID_OF[job.kind]) if job and (job.state in ("waiting", "working", "failed") or job.message) else None


def _clips(request: Request, project: int, recording: int) -> dict[str, Any]:
    w = web(request)
    p = projects.get(w.data.db, project)
    r = the_recording(request, project, recording)
    clips = subclips.of_recording(w.data.db, recording)
    rows = [{"c": c, "face": face_of(w.data, r, c.start, p.rate)} for c in clips]
    return {
        "project": p, "r": r, "clips": rows, "total": r.length(p.rate), "markers": markers.of_recording(w.data.db, recording),
        "unjudged": sum(1 for c in clips if not c.verdict), "oob": False,
    }  # fmt: skip


def _listed(request: Request, project: int, recording: int, did: str, notes: tuple[str, ...] = ()) -> HTMLResponse:
    return joined(render("parts/clips.html", **_clips(request, project, recording)), report(did, notes))


@router.get("/log")
def room(request: Request, project: int, rec: int | None = None) -> HTMLResponse:
    w = web(request)
    p = projects.get(w.data.db, project)
    rows = [r for r in recordings.of_project(w.data.db, project) if not r.aside]
    chosen = next((r for r in rows if r.id == rec), None) or next(
        (r for r in rows if r.kind == "interview"), rows[0] if rows else None
    )
    faces = {r.id: face_of(w.data, r, r.face(p.rate), p.rate) for r in rows}
    base: dict[str, Any] = {"room": "log", "project": p, "rows": rows, "faces": faces}
    if chosen is None:
        return page(request, "log.html", **base, r=None)
    names = sorted({t for c in subclips.of_project(w.data.db, project) for t in c.tags})
    is_shot = chosen.kind in ("b-roll", "still") and chosen.ready
    return page(
        request, "log.html", **{**base, **_clips(request, project, chosen.id)}, tags=names,
        words=words_part(request, chosen), making=render("parts/making.html", **making_values(request, chosen)), shot=shot(request, p, chosen) if is_shot else None,
    )  # fmt: skip


@router.get("/recordings/{recording}/plan")
def plan(request: Request, project: int, recording: int) -> JSONResponse:
    """The whole recording as a plan for the player."""
    w = web(request)
    p = projects.get(w.data.db, project)
    src = the_recording(request, project, recording).source
    return plan_answer(w, window_plan(p.rate, src), {src.id: src})


@router.get("/recordings/{recording}/marks")
def marks(request: Request, project: int, recording: int) -> JSONResponse:
    """What is drawn along the recording's line, in frames: who speaks, pauses, and what the story uses."""
    w = web(request)
    p = projects.get(w.data.db, project)
    the_recording(request, project, recording)
    f = p.rate.sample_to_frame
    speakers = [(f(a), f(b), who) for a, b, who in recordings.turns(w.data.db, recording, 96_000)]
    story = stories.load(w.data.db, stories.current(w.data.db, project)).story
    pauses = [[f(x.start), f(x.end)] for x in found_pauses(w.data, recording)]
    return JSONResponse({"speakers": speakers, "pauses": pauses, "used": ranges_used(uses(story), recording)})


@router.get("/search")
def search(request: Request, project: int, q: str = "") -> HTMLResponse:
    """Who said it: sentences of all recordings, with the words found marked."""
    w = web(request)
    p = projects.get(w.data.db, project)
    names = {r.id: r.name for r in recordings.of_project(w.data.db, project)}
    rows: list[dict[str, Any]] = []
    sources = recordings.sources(w.data.db, project)
    heard: dict[tuple[int, int], dict[str, Any]] = {}  # by sync set and second: what two cameras hear is said once
    for f in recordings.search(w.data.db, project, q, 60):
        sync = sources[f.recording].sync
        if sync is not None:
            second = round(set_time(sync, Fraction(f.start, SAMPLE_RATE)))
            same = next((heard[sync.set, s] for s in (second, second - 1, second + 1) if (sync.set, s) in heard), None)
            if same is not None and same["f"].recording != f.recording:
                same["also"] = names[f.recording]
                continue
        parts = [(chunk, i % 2 == 1) for i, chunk in enumerate(f.text.replace("\x03", "\x02").split("\x02"))]
        rows.append({"f": f, "name": names[f.recording], "frame": p.rate.sample_to_frame(f.start), "parts": parts, "also": ""})
        if sync is not None:
            heard[sync.set, second] = rows[-1]
    return page(request, "parts/found.html", project=p, rows=rows, q=q)


def _near(request: Request, project: int, hits: list[Hit], title: str) -> HTMLResponse:
    w = web(request)
    p = projects.get(w.data.db, project)
    rs = {r.id: r for r in recordings.of_project(w.data.db, project)}
    rows = [
        {
            "said": h.said,
            "name": rs[h.said.recording].name,
            "frame": (f := p.rate.sample_to_frame(h.said.start)),
            "face": face_of(w.data, rs[h.said.recording], f, p.rate),
        }
        for h in hits
    ]
    return page(request, "parts/near.html", project=p, rows=rows, title=title)


@router.get("/search/meaning")
def by_meaning(request: Request, project: int, q: str = "") -> HTMLResponse:
    """Sentences that are near a question in meaning, whatever their words and its language."""
    data = web(request).data
    projects.get(data.db, project)
    hits = [h for h in search_meaning(data, project, q, 40) if h.how == "meaning"][:12] if q.strip() else []
    title = "Nearby in meaning" if hits else "Nothing nearby in meaning"
    return _near(request, project, hits, f"{title}; more is being worked out" if meant(data, project).lacking else title)


@router.get("/search/like")
def alike(request: Request, project: int, recording: int, start: int | None = None, frame: int | None = None) -> HTMLResponse:
    """Sentences that mean what another one means: one that is heard at a sample (`start`), or at a frame of the project's clock."""
    clock = projects.get(web(request).data.db, project).rate
    start = clock.frame_to_sample(max(0, min(frame or 0, 1 << 40))) if start is None else start
    return _near(request, project, more_like(web(request).data, project, recording, start), "More like this")


def typed(text: str, rate: Rate, what: str, now: int = 0) -> int:
    """A time as editors type it; `Invalid`, naming the field, if it is none."""
    try:
        return parse_entry(text, rate, now=now)
    except TimeError as e:
        raise Invalid(f"{what}: {e}") from None


@router.post("/recordings/{recording}/subclips")
def keep(
    request: Request, project: int, recording: int, start: Annotated[str, Form()] = "", end: Annotated[str, Form()] = "", name: Annotated[str, Form()] = "",
    note: Annotated[str, Form()] = "", tags: Annotated[str, Form()] = "", verdict: Annotated[str, Form()] = "keep",
    again: Annotated[Literal["", "change", "both"], Form()] = "",
) -> HTMLResponse:  # fmt: skip
    """Keep in to out; with the verdict `open` it is a slice that waits to be judged. Where the name is kept already, the page
    is asked first (202) whether the one there is to be changed, or both kept (`again`)."""
    verdict = "" if verdict == "open" else verdict
    db = web(request).data.db
    p = projects.get(db, project)
    the_recording(request, project, recording)
    if not start or not end:
        raise Invalid("Set an in and an out point first: I and O, or drag over words.")
    a, b = typed(start, p.rate, "In"), typed(end, p.rate, "Out")
    called = " ".join(name.split()).casefold()
    old = next((c for c in subclips.of_recording(db, recording) if called and c.name.casefold() == called), None)
    if old and not again and (old.start, old.end) != (a, b):
        return HTMLResponse("", 202, headers={"hx-reswap": "none", "x-again": str(old.id)})
    if old and again != "both":
        change_: dict[str, Any] = {"start": a, "length": b - a, "verdict": verdict}
        change_ |= {k: v for k, v in (("note", note), ("tags", tags)) if v.strip()}
        (c,) = subclips.update(db, [old.id], **change_)
        return _listed(request, project, recording, f"“{c.name}” is this range now.")
    c = subclips.add(db, recording, a, b, name=name, note=note, tags=tags, verdict=verdict)
    return _listed(request, project, recording, f"Kept “{c.name}”." if verdict else f"Slice kept as “{c.name}”.")


def of_project(request: Request, project: int, ids: list[int]) -> list[Subclip]:
    """These subclips; `Missing` if one belongs elsewhere."""
    db = web(request).data.db
    found = [subclips.get(db, i) for i in ids]
    for c in found:
        if recordings.get(db, c.recording).project != project:
            raise Missing("That subclip is not in this project.")
    return found


class Changed(Sent):
    """What is changed on a subclip: texts, a verdict (`open`: none yet), a new in or out point as typed."""

    name: str = ""
    note: str = ""
    tags: str = ""
    verdict: Annotated[str, BeforeValidator(lambda v: "" if v == "open" else v)] = ""
    start: str = ""
    end: str = ""

    def changes(self, old: Subclip, rate: Rate) -> dict[str, Any]:
        out = self.given("name", "note", "tags", "verdict")
        if self.start or self.end:
            a = typed(self.start, rate, "In", old.start) if self.start else old.start
            b = typed(self.end, rate, "Out", old.end) if self.end else old.end
            out |= {"start": a, "length": b - a}
        return out


def change_one(request: Request, project: int, subclip: int, asked: Changed) -> Subclip:
    db = web(request).data.db
    (old,) = of_project(request, project, [subclip])
    (c,) = subclips.update(db, [subclip], **asked.changes(old, projects.get(db, project).rate))
    return c


@router.post("/subclips/{subclip}")
def change(request: Request, project: int, subclip: int, asked: Annotated[Changed, sent(Changed)]) -> HTMLResponse:
    c = change_one(request, project, subclip, asked)
    return _listed(request, project, c.recording, f"“{c.name}” changed.")


@router.post("/subclips/{subclip}/remove")
def remove(request: Request, project: int, subclip: int) -> HTMLResponse:
    of_project(request, project, [subclip])
    (c,) = subclips.remove(web(request).data.db, [subclip])
    return _listed(
        request,
        project,
        c.recording,
        f"“{c.name}” is no longer in the log. The recording was not touched. Ctrl Z brings it back.",
    )


@router.post("/subclips/{subclip}/to-story")
def to_story(request: Request, project: int, subclip: int) -> HTMLResponse:
    db = web(request).data.db
    (c,) = of_project(request, project, [subclip])
    asked = {"source": c.recording, "start": c.start, "length": c.length}
    _, done = stories.edit(db, stories.current(db, project), None, "add_at_end", asked)
    return joined(report(f"“{c.name}” is in the story, at the end.", done.notes), hx_reswap="none")


@router.post("/recordings/{recording}/markers")
def mark(
    request: Request, project: int, recording: int, frame: Annotated[int, Form()], name: Annotated[str, Form()] = ""
) -> HTMLResponse:
    the_recording(request, project, recording)
    markers.add(web(request).data.db, recording, frame, name)
    return _listed(request, project, recording, "Marker set. Name it in the list when there is time.")


@router.post("/markers/{marker}")
def name_marker(request: Request, project: int, marker: int, name: Annotated[str, Form()] = "") -> HTMLResponse:
    db = web(request).data.db
    the_recording(request, project, markers.get(db, marker).recording)
    m = markers.rename(db, marker, name)
    return _listed(request, project, m.recording, f"Marker named “{m.name}”." if m.name else "Marker without a name.")


@router.post("/markers/{marker}/remove")
def remove_marker(request: Request, project: int, marker: int) -> HTMLResponse:
    db = web(request).data.db
    the_recording(request, project, markers.get(db, marker).recording)
    m = markers.remove(db, marker)
    return _listed(request, project, m.recording, "Marker taken away.")


def _pulled(request: Request, p: projects.Project, recording: int, frame: int) -> int | None:
    at = nearest_pause(found_pauses(web(request).data, recording), p.rate.frame_to_sample(frame), PULL)
    return None if at is None else p.rate.sample_to_frame(at)


@router.get("/recordings/{recording}/pull")
def pull(request: Request, project: int, recording: int, start: int | None = None, end: int | None = None) -> JSONResponse:
    """Marks at the nearest pause: frames; a mark with no pause within 1.5 s stays."""
    p = projects.get(web(request).data.db, project)
    the_recording(request, project, recording)
    a = None if start is None else _pulled(request, p, recording, start)
    b = None if end is None else _pulled(request, p, recording, end)
    return JSONResponse(
        {"start": start if a is None else a, "end": end if b is None else b, "found": [a is not None, b is not None]}
    )


@router.post("/recordings/{recording}/pull")
def pull_slices(request: Request, project: int, recording: int) -> HTMLResponse:
    """Every slice that is not judged yet: both edges to the nearest pause."""
    db = web(request).data.db
    p = projects.get(db, project)
    total = the_recording(request, project, recording).length(p.rate)
    rows: list[tuple[int, int, int]] = []
    for c in subclips.of_recording(db, recording):
        if c.verdict:
            continue
        a, b = (_pulled(request, p, recording, f) for f in (c.start, c.end))
        new = (max(0, c.start if a is None else a), min(total, c.end if b is None else b))
        if new[0] < new[1] and new != (c.start, c.end):
            rows.append((c.id, *new))
    if not rows:
        raise Invalid("No slice is near a pause that was found. They stay as they are; set their edges by ear.")
    subclips.reshape(db, project, rows, "slices pulled to pauses")
    return _listed(
        request, project, recording, f"{len(rows)} slice{'s' if len(rows) != 1 else ''} pulled to the nearest pauses."
    )


@router.post("/recordings/{recording}/keep-used")
def keep_used(request: Request, project: int, recording: int) -> HTMLResponse:
    """Every range of this recording that the story uses becomes a subclip named by its first words."""
    count = keep_all_used(request, project, recording)
    return _listed(request, project, recording, f"{count} range{'s' if count != 1 else ''} the story uses kept as subclips.")


def keep_all_used(request: Request, project: int, only: int | None = None) -> int:
    """Ranges the story uses that are in the log under no subclip yet, kept in one step; how many."""
    db = web(request).data.db
    p = projects.get(db, project)
    found = uses(stories.load(db, stories.current(db, project)).story)
    new = []
    for r in recordings.of_project(db, project):
        if only not in (None, r.id):
            continue
        have = {(c.start, c.end) for c in subclips.of_recording(db, r.id)}
        for a, b in ranges_used(found, r.id):
            if (a, b) not in have:
                said = recordings.words_between(db, r.id, p.rate.frame_to_sample(a), p.rate.frame_to_sample(b))
                name = " ".join(w.text for w in said if w.text != VOICE and w.start >= p.rate.frame_to_sample(a) - 4800)
                new.append(
                    subclips.New(r.id, a, min(b, r.length(p.rate)), name[:48].rsplit(" ", 1)[0] if len(name) > 48 else name)
                )
    if not new:
        raise Invalid("The story uses no range here that is not in the log already.")
    return len(subclips.add_all(db, project, new, "used ranges kept"))


@router.post("/log/undo")
def undo(request: Request, project: int, rec: int | None = None, redo: bool = False) -> HTMLResponse:
    """Undo or redo the last step of the log, wherever it was made; the shown recording is drawn anew."""
    db = web(request).data.db
    did, touched = steps.turn(db, project, redo)
    for i in touched:
        with contextlib.suppress(Invalid):
            want_cleaned(web(request).data, i)  # a setting that came back may need a sound made
    said = report(f"{'Done again' if redo else 'Undone'}: {did}.")
    if rec is None:
        return joined(said, hx_refresh="true")
    r = the_recording(request, project, rec)
    if rec not in touched:
        names = ", ".join(x.name for x in recordings.of_project(db, project) if x.id in touched)
        return joined(report(f"{'Done again' if redo else 'Undone'}, in {names}: {did}."))
    return joined(
        render("parts/clips.html", **{**_clips(request, project, rec), "oob": True}), words_part(request, r, oob=True), said
    )
