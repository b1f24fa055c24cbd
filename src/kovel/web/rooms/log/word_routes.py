"""Words in the Log room: recognised, taken from a file, corrected, named, found and replaced, saved."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

from fastapi import APIRouter, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse, Response
from starlette.concurrency import run_in_threadpool

from kovel.core.errors import Invalid, Missing
from kovel.core.sound.pauses import VOICE
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.core.words.transcript import Word, corrected, joined, replaced
from kovel.services.footage.binning import set_all
from kovel.services.footage.intake import allowed
from kovel.services.log.recording_languages import choices, code_of
from kovel.services.log.speaker_separation import tell_apart
from kovel.services.log.transcription import WORD_JOBS, align, set_model, take_words, transcribe, transcript
from kovel.services.received_files import text_of
from kovel.store import jobs, kept_settings, projects, recordings, transcripts
from kovel.store.jobs import JobState
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.web import pages
from kovel.web.pages import page, render, report, the_recording, web

router = APIRouter(prefix="/p/{project}")


@dataclass(frozen=True, slots=True)
class SaidWord:
    """A word of the transcript: frames [frame, end), the sample it begins at, and how it looks (a voice without
    words, unsure)."""

    text: str
    frame: int
    end: int
    sample: int
    look: str


@dataclass(frozen=True, slots=True)
class Turn:
    """Words of one speaker; where they begin, in frames and in samples; whether somebody else spoke `before`."""

    speaker: str
    start: int
    first: int
    changes: bool
    words: list[SaidWord]


def turns(words: Sequence[Word], frame_rate: Rate, before: str = "") -> list[Turn]:
    """Words by speaker's turn, broken also at pauses over a second; `before` them somebody spoke already."""
    all_turns: list[Turn] = []
    last: Word | None = None
    for word in words:
        frame, end = word.frames(frame_rate)
        if last is None or last.speaker != word.speaker or word.start - last.end > SAMPLE_RATE:
            all_turns.append(
                Turn(
                    word.speaker,
                    frame,
                    word.start,
                    bool(word.speaker) and word.speaker != (last.speaker if last else before),
                    [],
                )
            )
        look = (" voice" if word.text == VOICE else "") + (" unsure" if word.sure < transcripts.UNSURE else "")
        all_turns[-1].words.append(SaidWord(word.text, frame, end, word.start, look))
        last = word
    return all_turns


FIRST = 2500  # words sent with the page; the rest follows by itself


def words_part(request: Request, recording: Recording, *, oob: bool = False) -> str:
    """The transcript as a fragment; of a long one the beginning, which fetches the rest."""
    application = web(request)
    project = projects.get(application.data.db, recording.project)
    said_words = transcripts.words_at(application.data.db, recording.id, 0, FIRST + 1)
    return render(
        "log/words.html",
        project=project,
        r=recording,
        turns=turns(said_words[:FIRST], project.rate),
        more=FIRST if len(said_words) > FIRST else 0,
        speakers=transcripts.speakers(application.data.db, recording.id),
        hearing=hearing(request, recording),
        model=kept_settings.get(application.data.db, "model"),
        oob=oob,
        seen=len(said_words),
        languages=choices(recording),
    )


@dataclass(frozen=True, slots=True)
class Hearing:
    """A job on a recording's words, and what is said of it."""

    job: jobs.Job
    doing: str
    failed: str
    again: str  # the route that begins it once more

    @property
    def open(self) -> bool:
        """Whether it is under way."""
        return self.job.is_open


SAID_OF = {
    "transcribe": ("Transcribing", "It could not be transcribed.", "transcribe"),
    "align": ("Putting the text to the sound", "The text could not be put to the sound.", "transcribe"),
    "voices": ("Telling the voices apart", "The voices could not be told apart.", "voices"),
}


def hearing(request: Request, recording: Recording) -> Hearing | None:
    """The newest job on a recording's words, if it runs or ended otherwise than well."""
    job = jobs.latest_of_recordings(web(request).data.db, recording.project, *WORD_JOBS).get(recording.id)
    return Hearing(job, *SAID_OF[job.kind]) if job and ((job.is_open or job.has_failed) or job.message) else None


MOST_TEXT = 20_000_000


def _shown(request: Request, recording: Recording, did: str, notes: tuple[str, ...] = ()) -> HTMLResponse:
    return pages.joined(words_part(request, recording), report(did, notes))


@router.post("/recordings/{recording}/words")
async def words_in(request: Request, project: int, recording: int, transcript_file: UploadFile) -> HTMLResponse:
    """Take a transcript: WebVTT, SRT, JSON with times; plain text is put to the sound by a job."""
    application = web(request)
    name = transcript_file.filename or "transcript"
    raw = await transcript_file.read(MOST_TEXT)
    text = await run_in_threadpool(text_of, name, raw)
    this_recording = await run_in_threadpool(the_recording, request, project, recording)

    def take() -> HTMLResponse:
        if not text.strip() or "\x00" in text:
            raise Invalid(
                f"{name} is {'empty' if not text.strip() else 'not a text file'}. "
                f"The words of {this_recording.name} are as they were."
            )
        if "-->" not in text and not name.lower().endswith((".json", ".vtt", ".srt")):
            align(application.data, recording, text)
            return _shown(request, this_recording, f"{name} is being put to the sound of {this_recording.name}.")
        count, left_out = take_words(application.data, this_recording, name, text)
        return _shown(request, this_recording, f"{count} words taken from {name}.", tuple(left_out[:8]))

    return await run_in_threadpool(take)


@router.get("/recordings/{recording}/words.{kind}")
def words_out(request: Request, project: int, recording: int, kind: str) -> Response:
    database = web(request).data.db
    if kind not in ("vtt", "srt", "json", "txt"):
        raise Missing("There is no such format.")
    this_recording = the_recording(request, project, recording)
    return pages.download(transcript(transcripts.words(database, recording), kind), f"{this_recording.name}.{kind}")


@router.post("/recordings/{recording}/transcribe")
def start(request: Request, project: int, recording: int) -> HTMLResponse:
    this_recording = the_recording(request, project, recording)
    transcribe(web(request).data, recording)
    return _shown(request, this_recording, f"{this_recording.name} is being transcribed on this machine.")


@router.post("/recordings/{recording}/voices")
def voices(request: Request, project: int, recording: int) -> HTMLResponse:
    """Tell the voices of a recording apart, and name who says what."""
    this_recording = the_recording(request, project, recording)
    tell_apart(web(request).data, recording)
    return _shown(request, this_recording, f"The voices of {this_recording.name} are being told apart.")


@router.post("/recordings/{recording}/language")
def in_language(request: Request, project: int, recording: int, language: Annotated[str, Form()] = "") -> HTMLResponse:
    """Which language a recording is in; none: it is found when it is transcribed."""
    this_recording = the_recording(request, project, recording)
    summary = set_all(web(request).data, [recording], {"language": code_of(language)})
    again = (
        " Transcribe it anew to have it heard so."
        if transcripts.words_at(web(request).data.db, recording, 0, 1)
        else ""
    )
    return _shown(request, recordings.get(web(request).data.db, this_recording.id), f"{summary}.{again}")


@dataclass(frozen=True, slots=True)
class HowFar:
    """How far a recording is transcribed, and how many of its words the page has."""

    project: Project
    r: Recording
    hearing: Hearing
    seen: int


@router.get("/recordings/{recording}/hearing")
def how_far(request: Request, project: int, recording: int, seen: int = 0) -> HTMLResponse:
    """How far a transcription is, with the words that came after those `seen`; all of them once it is done."""
    this_recording = the_recording(request, project, recording)
    now = hearing(request, this_recording)
    if now and now.open:
        database = web(request).data.db
        this_project = projects.get(database, project)
        new = transcripts.words_at(database, recording, seen, 8000)
        far = page(
            request,
            "log/hearing.html",
            HowFar(project=this_project, r=this_recording, hearing=now, seen=seen + len(new)),
        )
        if not new:
            return far
        came = render(
            "log/turns.html", project=this_project, r=this_recording, turns=turns(new, this_project.rate), more=0
        )
        return pages.joined(far, f'<div hx-swap-oob="beforebegin:#words-end">{came}</div>')
    return pages.joined(words_part(request, this_recording), hx_retarget="#words", hx_reswap="outerHTML")


@router.post("/recordings/{recording}/hearing/cancel")
def cancel(request: Request, project: int, recording: int) -> HTMLResponse:
    this_recording = the_recording(request, project, recording)
    database = web(request).data.db
    job = jobs.latest_of_recordings(database, project, *WORD_JOBS).get(recording)
    if job:
        jobs.end(database, job.id, JobState.CANCELLED)
    return _shown(request, this_recording, f"Stopped. The words of {this_recording.name} are as they were.")


@router.post("/recordings/{recording}/hearing/dismiss")
def dismiss(request: Request, project: int, recording: int) -> HTMLResponse:
    """The remark on the last transcription was read."""
    this_recording = the_recording(request, project, recording)
    database = web(request).data.db
    job = jobs.latest_of_recordings(database, project, *WORD_JOBS).get(recording)
    if job:
        jobs.forget_message(database, job.id)
    return pages.joined(words_part(request, this_recording))


@router.get("/recordings/{recording}/unsure")
def unsure(request: Request, project: int, recording: int, frame: int = 0, back: bool = False) -> JSONResponse:
    """The next word (or the one before) that the recogniser was unsure of, from a frame of the project's clock on."""
    database = web(request).data.db
    this_recording = the_recording(request, project, recording)
    clock = projects.get(database, project).rate
    total = max(0, min(frame, this_recording.length(clock)))
    word, unsure_left = transcripts.next_unsure(database, recording, clock.frame_to_sample(total + (not back)), back)
    if word is None:
        return JSONResponse(
            {"frame": None, "said": f"No {'earlier' if back else 'later'} word is unsure; {unsure_left} in all."}
        )
    said_word = f"“{word.text}”: {word.sure:.0%} sure; {unsure_left} in all. E corrects it."
    return JSONResponse({"frame": word.frames(clock)[0], "said": said_word})


@dataclass(frozen=True, slots=True)
class MoreTurns:
    """The words that follow, and where those after them begin; 0: nowhere."""

    project: Project
    r: Recording
    turns: list[Turn]
    more: int


@router.get("/recordings/{recording}/words/more")
def more(request: Request, project: int, recording: int, at: int) -> HTMLResponse:
    """The turns from word `at` on."""
    database = web(request).data.db
    this_recording = the_recording(request, project, recording)
    this_project = projects.get(database, project)
    said_words = transcripts.words_at(database, recording, max(1, at) - 1, 8001)
    return page(
        request,
        "log/turns.html",
        MoreTurns(
            project=this_project,
            r=this_recording,
            turns=turns(said_words[1:], this_project.rate, said_words[0].speaker if said_words else ""),
            more=at + 8000 if len(said_words) > 8000 else 0,
        ),
    )


@router.post("/recordings/{recording}/words/correct")
def correct(
    request: Request,
    project: int,
    recording: int,
    start: Annotated[int, Form()],
    was: Annotated[str, Form()],
    first: Annotated[int, Form()],
    count: Annotated[int, Form()],
    text: Annotated[str, Form()] = "",
    how: Annotated[str, Form()] = "correct",
) -> HTMLResponse:
    """Other text for a word (several words share its time; none takes it out), or the word and the next one as one.

    `first` and `count` say which words the turn has that the word stands in; that turn comes back.
    """
    database = web(request).data.db
    this_recording = the_recording(request, project, recording)
    first_word, near = transcripts.words_from(database, recording, start, 2)
    if not near or near[0].text != was:
        raise Invalid("That word was changed elsewhere meanwhile. Reload the page, then correct it.")
    word, rest = near[0], near[1:]
    if how == "join":
        if not rest:
            raise Invalid("There is no word after this one to join it with.")
        old, new = [word, *rest], [joined([word, *rest])]
        summary = f"“{was}” joined with “{rest[0].text}”."
    else:
        old, new = [word], corrected(word, text[:200])
        summary = f"“{was}” is “{' '.join(w.text for w in new)}” now." if new else f"“{was}” taken out of the words."
    transcripts.change_words(database, recording, first_word, old, new, f"“{was}” corrected")
    this_project = projects.get(database, project)
    at = first_word if first == start else transcripts.words_from(database, recording, first, 1)[0]
    said_words = transcripts.words_at(database, recording, at, count + len(new) - len(old))
    before = transcripts.words_at(database, recording, at - 1, 1) if at else []
    part = render(
        "log/turns.html",
        project=this_project,
        r=this_recording,
        turns=turns(said_words, this_project.rate, before[0].speaker if before else ""),
        more=0,
    )
    return pages.joined(part, report(summary))


@router.post("/recordings/{recording}/words/speaker")
def speaker(
    request: Request,
    project: int,
    recording: int,
    start: Annotated[int, Form()],
    count: Annotated[int, Form()],
    name: Annotated[str, Form()] = "",
    everywhere: Annotated[bool, Form()] = False,
) -> HTMLResponse:
    """Who says these words; or, everywhere, the name that stood here replaced by another one."""
    database = web(request).data.db
    this_recording = the_recording(request, project, recording)
    said_words = transcripts.words(database, recording)
    word_index = next((index for index, word in enumerate(said_words) if word.start == start), None)
    if word_index is None or count < 1:
        raise Invalid("Those words were changed elsewhere meanwhile. Reload the page, then name the speaker.")
    name = " ".join(name.split())[:40]
    old = said_words[word_index].speaker
    begin, end = (0, len(said_words)) if everywhere else (word_index, min(len(said_words), word_index + count))
    new = [
        replace(word, speaker=name) if not everywhere or word.speaker == old else word for word in said_words[begin:end]
    ]
    transcripts.change_words(database, recording, begin, said_words[begin:end], new, f"speaker {name or 'unnamed'}")
    return _shown(
        request,
        this_recording,
        f"{name or 'Nobody'} says this{' wherever it was ' + (old or 'nobody') if everywhere else ''}.",
    )


@router.post("/recordings/{recording}/words/replace")
def find_and_replace(
    request: Request,
    project: int,
    recording: int,
    find: Annotated[str, Form()] = "",
    put: Annotated[str, Form()] = "",
    everywhere: Annotated[bool, Form()] = False,
) -> HTMLResponse:
    """Replace words in this recording, or in all of the project."""
    database = web(request).data.db
    this_recording = the_recording(request, project, recording)
    if not find.strip():
        raise Invalid("Type what to find.")
    total = 0
    where: list[str] = []
    for recording_there in recordings.of_project(database, project) if everywhere else [this_recording]:
        said_words = transcripts.words(database, recording_there.id)
        new, n = replaced(said_words, find, put)
        if n:
            transcripts.change_words(
                database, recording_there.id, 0, said_words, new, f"“{find.strip()}” replaced by “{put.strip()}”"
            )
            total, where = total + n, [*where, recording_there.name]
    if not total:
        raise Invalid(
            f"“{find.strip()[:60]}” does not stand {'anywhere' if everywhere else f'in {this_recording.name}'}."
        )
    return _shown(
        request, this_recording, f"Replaced {total} time{'s' if total != 1 else ''}, in {', '.join(where[:4])}."
    )


@router.post("/recogniser")
def recogniser(request: Request, project: int, model: Annotated[str, Form()] = "") -> HTMLResponse:
    """Which recogniser model to use; empty for the bundled one."""
    application = web(request)
    folder = str(allowed(model, application.roots)) if model.strip() else ""
    set_model(application.data, folder)
    return pages.joined(
        report(f"The model in {folder} is used from now on." if folder else "The bundled model is used."),
        hx_reswap="none",
    )


@router.get("/recordings/{recording}/words/near")
def near(request: Request, project: int, recording: int, at: int) -> JSONResponse:
    """Words within half a minute of a frame: [first frame, end, text]."""
    this_recording = the_recording(request, project, recording)
    database = web(request).data.db
    frame_rate = projects.get(database, project).rate
    begin, end = (frame_rate.frame_to_sample(max(0, at + side_step * 30 * frame_rate.nominal)) for side_step in (-1, 1))
    return JSONResponse(
        [
            [*word.frames(frame_rate), word.text]
            for word in transcripts.words_between(database, this_recording.id, begin, end)
        ]
    )
