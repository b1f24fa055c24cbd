"""The Sound room: the strip of the story, what is set on its sound, cleaning, and what is worked out for the whole."""

from dataclasses import asdict, dataclass
from typing import Annotated, Any, Literal

from fastapi import APIRouter, File, Form, Query, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from kovel.core.checks.mix_loudness import mixed, target_of
from kovel.core.errors import Invalid
from kovel.core.plan.plan import make_plan
from kovel.core.sound.ducking import Ducking
from kovel.core.sound.loudness import WEIGHTING, integrated, loudness_range, sliding
from kovel.core.story.model import Refused
from kovel.services.sound import derived_sounds, mixing, voice_over
from kovel.services.story.story_checks import powers, words_around
from kovel.services.tighten.quick_cuts import beats_of
from kovel.store import jobs, projects, recordings
from kovel.store.projects import Project
from kovel.store.stories import Kept
from kovel.web.forms import ids_in
from kovel.web.open_story import Named, edited, named, opened
from kovel.web.pages import page, web
from kovel.web.rooms.sound.strip import strip
from kovel.web.rooms.sound.views import PanelView, cleaned_of
from kovel.web.settings_panel import about, panel_of, scopes_of
from kovel.web.small_frames import face_of

router = APIRouter(prefix="/p/{project}/sound")
TARGETS = ((-23.0, "EBU R 128, broadcast"), (-16.0, "web and podcasts"), (-14.0, "loud web"))


@dataclass(frozen=True, slots=True)
class SoundRoom:
    """The Sound room."""

    project: Project
    kept: Kept
    target: float
    targets: tuple[tuple[float, str], tuple[float, str], tuple[float, str]]
    weighting: tuple[tuple[float, ...], tuple[float, ...]]
    stories: list[Named]


@router.get("")
def room(request: Request, project: int) -> HTMLResponse:
    data_folder = web(request).data
    kept_story = opened(request, project)
    return page(
        request,
        "sound/room.html",
        SoundRoom(
            project=projects.get(data_folder.db, project),
            kept=kept_story,
            target=target_of(kept_story.story),
            targets=TARGETS,
            weighting=WEIGHTING,
            stories=named(data_folder, project, kept_story),
        ),
        room="sound",
    )


@router.get("/strip")
def the_strip(request: Request, project: int) -> JSONResponse:
    """Everything on the strip but words, frames and waveforms."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    sources = recordings.sources(data_folder.db, project)
    drawn = strip(kept_story.story, sources, beats_of(data_folder, kept_story.story))
    return JSONResponse(
        {
            **drawn,
            "revision": kept_story.revision,
            "story": kept_story.id,
            "undo": kept_story.can_undo,
            "redo": kept_story.can_redo,
            "target": target_of(kept_story.story),
        }
    )


@router.get("/words")
def the_words(
    request: Request, project: int, a: Annotated[int, Query(ge=0)], b: Annotated[int, Query(ge=0)]
) -> JSONResponse:
    """The words of the dialogue that begin in story frames [a, b): [frame, end, text]."""
    kept_story = opened(request, project)
    words_there = words_around(web(request).data, kept_story.story, a, min(b, a + 5_000))
    return JSONResponse([[word_start, word_end, word.text] for word_start, word_end, word in words_there])


@router.get("/faces")
def faces(request: Request, project: int, at: str) -> JSONResponse:
    """Small frames of what is seen at story frames `at` (comma between): [frame, its address and size]."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    plan = make_plan(kept_story.story, {key: recording.source for key, recording in recordings_by_id.items()})
    wanted = ids_in(at)[:200]
    drawn_faces: list[Any] = []
    for t in wanted:
        if 0 <= t < kept_story.story.length:
            run = plan.picture_at(t)
            recording = recordings_by_id.get(run.source) if run.source is not None else None
            face = face_of(data_folder, recording, run.image.later(t - run.at).start, plan.rate) if recording else None
            drawn_faces.append([t, asdict(face) if face else None])
    return JSONResponse(drawn_faces)


@router.get("/loudness")
def loudness(request: Request, project: int) -> JSONResponse:
    """Loudness as it is worked out of what was measured of each recording: momentary, short-term, of the whole, its
    range."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    plan = make_plan(kept_story.story, recordings.sources(data_folder.db, project))
    mix = mixed(plan, powers(data_folder, plan))
    whole, lra = integrated(mix.power), loudness_range(mix.power)
    return JSONResponse(
        {
            "momentary": [round(float(loudness_block), 1) for loudness_block in sliding(mix.power, 4)],
            "short": [round(float(loudness_block), 1) for loudness_block in sliding(mix.power, 30)],
            "whole": None if whole is None else round(whole, 1),
            "range": None if lra is None else round(lra, 1),
            "target": target_of(kept_story.story),
        }
    )


@router.get("/panel")
def panel(request: Request, project: int, items: str = "", scope: str = "items") -> HTMLResponse:
    """What is set on what is chosen at the scope that was picked, and how its recording is cleaned."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    sources = recordings.sources(data_folder.db, project)
    try:
        chosen = [kept_story.story.item(item_id) for item_id in ids_in(items)[:2_000]]
    except Refused:
        chosen = []
    if not chosen:
        return page(request, "sound/panel.html", chosen=None)
    scopes = scopes_of(kept_story.story, sources, chosen)
    scope = scope if scope in {scope.key for scope in scopes} else "items"
    return page(
        request,
        "sound/panel.html",
        PanelView(
            ",".join(str(clip.id) for clip in chosen),
            chosen[0].source,
            scopes,
            scope,
            panel_of(kept_story.story, sources, chosen, scope),
            about(kept_story.story, sources, chosen),
            cleaned_of(data_folder, project, chosen[0].source),
        ),
    )


class _Asked(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)
    revision: int | None = None


class DuckAsked(_Asked):
    """Ducking of what is chosen (nothing: all music): how far down, and its times in frames."""

    items: list[int] = []
    depth: float = Field(-12.0, ge=-60, le=-1)
    down: int = Field(8, ge=0, le=2_000)
    hold: int = Field(25, ge=0, le=20_000)
    back: int = Field(25, ge=0, le=20_000)


class EvenAsked(_Asked):
    apart: Literal["speaker", "piece"] = "speaker"


class TargetAsked(_Asked):
    target: float | None = None  # none: what the story aims at already


class FitAsked(_Asked):
    sound: int
    until: int | None = None


@router.post("/duck")
def duck(request: Request, project: int, asked: DuckAsked) -> JSONResponse:
    """Music goes down where somebody speaks: one edit."""
    story = opened(request, project).story
    how = Ducking(asked.depth, asked.down, asked.hold, asked.back)
    return edited(request, project, asked.revision, mixing.duck(web(request).data, project, story, asked.items, how))


@router.post("/even")
def even(request: Request, project: int, asked: EvenAsked) -> JSONResponse:
    """All voices to one loudness: one edit; and what each was."""
    story = opened(request, project).story
    edit, levels_found = mixing.even_voices(web(request).data, project, story, asked.apart)
    target = target_of(story)
    was = [
        {"name": voice.name, "loudness": round(voice.loudness, 1), "set": round(target - voice.loudness, 1)}
        for voice in levels_found
    ]
    return edited(request, project, asked.revision, edit, voices=was)


@router.post("/target")
def target(request: Request, project: int, asked: TargetAsked) -> JSONResponse:
    """The whole to its loudness, peaks tamed: one edit."""
    edit, measured = mixing.to_target(web(request).data, project, opened(request, project).story, asked.target)
    return edited(request, project, asked.revision, edit, **measured)


@router.post("/fit")
def fit(request: Request, project: int, asked: FitAsked) -> JSONResponse:
    """Music fitted by bars so that it ends with the pictures: one edit; and its seams."""
    edit, fit_found = mixing.fit_music(
        web(request).data, project, opened(request, project).story, asked.sound, asked.until
    )
    return edited(request, project, asked.revision, edit, seams=fit_found)


class SpreadAsked(_Asked):
    sound: int
    bars: int = Field(1, ge=1, le=16)


@router.post("/spread")
def spread(request: Request, project: int, asked: SpreadAsked) -> JSONResponse:
    """Bites along the music, each on a bar: one edit."""
    edit = mixing.spread(web(request).data, opened(request, project).story, asked.sound, asked.bars)
    return edited(request, project, asked.revision, edit)


@router.post("/tone")
def tone(request: Request, project: int, asked: _Asked) -> JSONResponse:
    """Room tone under every space: one edit."""
    edit = mixing.lay_room_tone(web(request).data, project, opened(request, project).story)
    return edited(request, project, asked.revision, edit)


@router.get("/measured")
def measured(request: Request, project: int) -> JSONResponse:
    """The mix measured sample by sample: loudness, range, true peak."""
    measured_mix = mixing.measure(web(request).data, project, opened(request, project).story)
    return JSONResponse({"whole": measured_mix.loudness, "range": measured_mix.range, "peak": measured_mix.peak})


class HearAsked(BaseModel):
    """Samples [a, b) of a recording as these settings would clean it."""

    model_config = ConfigDict(extra="forbid", strict=True)
    a: int
    b: int
    settings: dict[str, bool | int | str]


@router.post("/recordings/{recording}/hear")
def hear(request: Request, project: int, recording: int, asked: HearAsked) -> Response:
    """A stretch as it would be cleaned, as raw 16-bit samples."""
    data_folder = derived_sounds.hear(web(request).data, recording, asked.a, asked.b, asked.settings)
    return Response(data_folder, media_type="application/octet-stream", headers={"cache-control": "no-store"})


@router.post("/recordings/{recording}/again")
def clean_again(request: Request, project: int, recording: int) -> JSONResponse:
    """A clean-up that failed or was stopped is tried again."""
    data_folder = web(request).data
    job = jobs.latest_of_recordings(data_folder.db, project, "clean").get(recording)
    if job and job.can_be_tried_again:
        jobs.again(data_folder.db, job.id)
    else:
        derived_sounds.want_cleaned(data_folder, recording)
    return JSONResponse({"did": "Cleaning begun again."})


@router.post("/voice")
def take_voice_over(
    request: Request,
    project: int,
    at: Annotated[int, Form(ge=0)],
    sound: Annotated[UploadFile, File()],
    late: Annotated[int, Form()] = 0,
) -> JSONResponse:
    """A voice-over that was spoken from story frame `at` on: becomes a recording and lies where it was spoken."""
    if sound.size is not None and sound.size > voice_over.MOST:
        raise Invalid("That take is longer than an hour. Speak it in parts.")
    data_folder = web(request).data
    recording, offset_asked = voice_over.take_in(
        data_folder, project, opened(request, project).story, sound.file, at, late
    )
    return edited(request, project, None, offset_asked, recording=recording.id)
