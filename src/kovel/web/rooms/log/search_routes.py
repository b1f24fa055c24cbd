"""Search over all recordings: who said it, by word and by meaning."""

from dataclasses import dataclass, replace
from fractions import Fraction

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse

from kovel.core.story.sync import set_time
from kovel.core.time.rate import SAMPLE_RATE
from kovel.core.words.nearness import Said
from kovel.services.log.sentence_meaning import Hit, meant, more_like
from kovel.services.log.sentence_meaning import search as search_meaning
from kovel.store import projects, recordings, transcripts
from kovel.store.projects import Project
from kovel.web.pages import page, web
from kovel.web.small_frames import Face, face_of

router = APIRouter(prefix="/p/{project}")


@dataclass(frozen=True, slots=True)
class Found:
    """A sentence that a search found: its frame, its text in parts (each found or not), and who else heard it."""

    f: transcripts.Found
    name: str
    frame: int
    parts: list[tuple[str, bool]]
    also: str = ""


@dataclass(frozen=True, slots=True)
class FoundSentences:
    """What a search found."""

    project: Project
    rows: list[Found]
    q: str


@router.get("/search")
def search(request: Request, project: int, q: str = "") -> HTMLResponse:
    """Who said it: sentences of all recordings, with the words found marked. What two cameras hear is said once."""
    application = web(request)
    this_project = projects.get(application.data.db, project)
    names = {recording.id: recording.name for recording in recordings.of_project(application.data.db, project)}
    found_sentences: list[Found] = []
    sources = recordings.sources(application.data.db, project)
    heard_times: dict[tuple[int, int], int] = {}  # by sync set and second: the row that says it
    for found_sentence in transcripts.search(application.data.db, project, q, 60):
        sync = sources[found_sentence.recording].sync
        if sync is not None:
            second = round(set_time(sync, Fraction(found_sentence.start, SAMPLE_RATE)))
            same = next(
                (
                    heard_times[sync.set, near_second]
                    for near_second in (second, second - 1, second + 1)
                    if (sync.set, near_second) in heard_times
                ),
                None,
            )
            if same is not None and found_sentences[same].f.recording != found_sentence.recording:
                found_sentences[same] = replace(found_sentences[same], also=names[found_sentence.recording])
                continue
            heard_times[sync.set, second] = len(found_sentences)
        parts = [
            (chunk, index % 2 == 1)
            for index, chunk in enumerate(found_sentence.text.replace("\x03", "\x02").split("\x02"))
        ]
        found_sentences.append(
            Found(
                found_sentence,
                names[found_sentence.recording],
                this_project.rate.sample_to_frame(found_sentence.start),
                parts,
            )
        )
    return page(request, "log/found.html", FoundSentences(project=this_project, rows=found_sentences, q=q))


@dataclass(frozen=True, slots=True)
class Near:
    """A sentence that is near in meaning, and the frame it is said at."""

    said: Said
    name: str
    frame: int
    face: Face | None


@dataclass(frozen=True, slots=True)
class NearSentences:
    """What means nearly the same."""

    project: Project
    rows: list[Near]
    title: str


def _near(request: Request, project: int, hits: list[Hit], title: str) -> HTMLResponse:
    application = web(request)
    this_project = projects.get(application.data.db, project)
    rs = {recording.id: recording for recording in recordings.of_project(application.data.db, project)}
    near_sentences = []
    for hit in hits:
        recording, frame = rs[hit.said.recording], this_project.rate.sample_to_frame(hit.said.start)
        near_sentences.append(
            Near(hit.said, recording.name, frame, face_of(application.data, recording, frame, this_project.rate))
        )
    return page(request, "log/near.html", NearSentences(project=this_project, rows=near_sentences, title=title))


@router.get("/search/meaning")
def by_meaning(request: Request, project: int, q: str = "") -> HTMLResponse:
    """Sentences that are near a question in meaning, whatever their words and its language."""
    data_folder = web(request).data
    projects.get(data_folder.db, project)
    hits = (
        [hit for hit in search_meaning(data_folder, project, q, 40) if hit.how == "meaning"][:12] if q.strip() else []
    )
    title = "Nearby in meaning" if hits else "Nothing nearby in meaning"
    return _near(
        request, project, hits, f"{title}; more is being worked out" if meant(data_folder, project).lacking else title
    )


@router.get("/search/like")
def alike(
    request: Request, project: int, recording: int, start: int | None = None, frame: int | None = None
) -> HTMLResponse:
    """Sentences that mean what another one means: one that is heard at a sample (`start`), or at a frame of the
    project's clock."""
    clock = projects.get(web(request).data.db, project).rate
    start = clock.frame_to_sample(max(0, min(frame or 0, 1 << 40))) if start is None else start
    return _near(request, project, more_like(web(request).data, project, recording, start), "More like this")
