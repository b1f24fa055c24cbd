"""Around the lined page: the seam desk, the checks, the stories of a project, copying, finding, comparing."""

from dataclasses import dataclass
from typing import Annotated, Literal

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response

from kovel.core.checks.findings import Finding
from kovel.core.checks.offers import Offer, angles, pauses_between
from kovel.core.errors import Missing
from kovel.core.plan.pictures import Seen
from kovel.core.plan.plan import size_of
from kovel.core.story.compare import Difference, compare
from kovel.core.story.fitted_transitions import longest
from kovel.core.story.model import Piece, Source, Sources, Story, Transition
from kovel.core.story.paste import copied, copied_clips
from kovel.core.story.removals import taken_out
from kovel.core.story.seams import Seam
from kovel.core.time.rate import Rate
from kovel.services.log.proposing import other_tellings
from kovel.services.story.closest_poses import offered
from kovel.services.story.cover_offers import covers
from kovel.services.story.story_checks import findings, offers_for, strength_of, the_seam, words_around
from kovel.store import projects, recordings, stories
from kovel.store.projects import Project
from kovel.store.stories import Kept
from kovel.web.forms import ids_in
from kovel.web.open_story import opened
from kovel.web.pages import page, web
from kovel.web.rooms.story.selection_bar import SelectionBar, of_clips, of_range
from kovel.web.small_frames import Face, face_of

router = APIRouter(prefix="/p/{project}")


@dataclass(frozen=True, slots=True)
class Side:
    """One side of a seam: the piece, where it is cut (frames of its recording), and the frame that is seen there."""

    which: Literal["out", "in"]
    piece: Piece
    source: Source | None
    name: str
    edge: int
    shown: int
    total: int | None  # frames of the recording
    handle: int  # frames beyond the edge
    layer: list[object]


def _side(story: Story, sources: Sources, piece: Piece, which: Literal["out", "in"], edge: int) -> Side:
    src = sources.get(piece.source) if piece.source is not None else None
    total = src.length(story.rate) if src else None
    last = which == "out"
    return Side(
        which,
        piece,
        src,
        src.name if src else "card" if piece.card else "space",
        edge,
        edge - 1 if last else edge,
        total,
        (total or edge) - edge if last else edge,
        Seen(story, sources).piece(piece, piece.length - 1 if last else 0)[-1].to_json({})[4:],
    )


@dataclass(frozen=True, slots=True)
class Change:
    """Where the sound changes in a picture of 50 frames on each side, and how wide it is before and after."""

    at: int
    before: int
    after: int


@dataclass(frozen=True, slots=True)
class SeamDesk:
    """The seam desk: both sides of a seam, what joins them, and what is offered."""

    project: Project
    frame: tuple[int, int]
    s: Seam
    sides: list[Side]
    join: Transition
    sound: Change
    most: dict[str, int]
    strength: int | None
    offers: list[Offer]
    angles: list[Offer]
    number: int
    of: int
    rate: Rate


@router.get("/story/seam")
def seam(request: Request, project: int, piece: int) -> HTMLResponse:
    """The seam before a piece: both sides, what can be set, and for an exposed jump what is offered."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    story, sources = kept_story.story, recordings.sources(data_folder.db, project)
    seam_there = the_seam(story, sources, piece)
    index = story.index_of(piece)
    sides = [
        _side(story, sources, seam_there.left, "out", seam_there.ends[0]),
        _side(story, sources, seam_there.right, "in", seam_there.ends[1]),
    ]
    of = projects.get(data_folder.db, project)
    width, height = size_of(story, of.width, of.height)
    return page(
        request,
        "story/seam.html",
        SeamDesk(
            project=of,
            frame=(480, round(480 * height / width)) if width >= height else (round(360 * width / height), 360),
            s=seam_there,
            sides=sides,
            join=story.transition(index),
            sound=_sound_of(story.transition(index).split),
            most={b: longest(story, sources, index, b) for b in ("dissolve", "dip")},
            strength=strength_of(data_folder, sources, story.rate)(seam_there) if seam_there.kind == "jump" else None,
            offers=[
                *offered(data_folder, project, story, seam_there),
                *offers_for(data_folder, project, story, seam_there),
            ]
            if seam_there.kind == "jump"
            else [],
            angles=[]
            if seam_there.kind == "jump"
            else angles(
                story,
                sources,
                seam_there.at,
                pauses_between(
                    words_around(data_folder, story, seam_there.at, seam_there.at + 14 * story.rate.nominal)
                ),
            ),
            number=index,
            of=len(story.pieces) - 1,
            rate=story.rate,
        ),
    )


def _sound_of(split: int) -> Change:
    at = max(-50, min(50, split))
    return Change(at, at + 50, 50 - at)


@router.get("/story/angles")
def other_cameras(request: Request, project: int, at: int) -> JSONResponse:
    """Cutaways to the other cameras of the sync set at the playhead, ending at the next pause after 5 s."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    frame_rate = kept_story.story.rate
    ends = pauses_between(words_around(data_folder, kept_story.story, at, at + 14 * frame_rate.nominal))
    angles_found = angles(kept_story.story, recordings.sources(data_folder.db, project), at, ends)
    return JSONResponse(
        [
            {"name": offer.name, "why": offer.why, "command": offer.command, "params": dict(offer.params)}
            for offer in angles_found
        ]
    )


@router.get("/story/tellings")
def tellings(request: Request, project: int, at: int) -> JSONResponse:
    """The same told elsewhere, to stand in the place of the piece at the playhead."""
    tellings_found = other_tellings(web(request).data, project, opened(request, project).story, at)
    return JSONResponse(
        [
            {"name": offer.name, "why": offer.why, "command": offer.command, "params": dict(offer.params)}
            for offer in tellings_found
        ]
    )


@dataclass(frozen=True, slots=True)
class Offered:
    """A shot that is offered, with the frame it would begin on."""

    o: Offer
    face: Face | None


@dataclass(frozen=True, slots=True)
class CoversHere:
    """Shots that could cover a stretch."""

    project: Project
    rows: list[Offered]
    said: str
    length: int
    rate: Rate


@router.get("/story/covers")
def covers_here(request: Request, project: int, at: int, until: int | None = None) -> HTMLResponse:
    """Shots that could cover a stretch of the story, or the sentence at a frame of it."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    this_project = projects.get(data_folder.db, project)
    covers_found = covers(data_folder, project, kept_story.story, at, until)
    names = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    offered_covers = [
        Offered(offer, face_of(data_folder, names[offer.params["source"]], offer.params["start"], this_project.rate))
        for offer in covers_found.offers
    ]
    return page(
        request,
        "story/covers.html",
        CoversHere(
            project=this_project,
            rows=offered_covers,
            said=covers_found.said,
            length=covers_found.b - covers_found.a,
            rate=this_project.rate,
        ),
    )


@dataclass(frozen=True, slots=True)
class ChecksDrawn:
    """What the checks found, and what was taken out."""

    project: Project
    findings: list[Finding]
    gone: list[tuple[int, Piece, int]]
    rate: Rate
    names: dict[int, str]


@router.get("/story/checks")
def checks(request: Request, project: int) -> HTMLResponse:
    """What to look at, worst first; and what was taken out, to be put back."""
    data_folder = web(request).data
    kept_story = opened(request, project)
    gone = taken_out(kept_story.story, recordings.sources(data_folder.db, project))
    return page(
        request,
        "story/checks.html",
        ChecksDrawn(
            project=projects.get(data_folder.db, project),
            findings=findings(data_folder, project, kept_story.story),
            gone=gone,
            rate=kept_story.story.rate,
            names={recording.id: recording.name for recording in recordings.of_project(data_folder.db, project)},
        ),
    )


@router.get("/story/selection")
def selection(
    request: Request,
    project: int,
    items: str = "",
    stretch: str = "",
    marks: str = "",
    marked: str = "",
    seam: str = "",
) -> HTMLResponse:
    """The bar of what is selected: clips by their ids, words or marks by their frames; `marked`: the marks were set
    last, so edits are about them."""
    data_folder = web(request).data
    story = opened(request, project).story
    ids = ids_in(items)
    selected, marked_stretch = _stretch(stretch, story), _stretch(marks, story)
    if seam:
        bar = SelectionBar("A seam is selected: the seam desk below is for it. Esc clears the selection.")
    elif selected:
        said = "" if marked else " ".join(word.text for _, _, word in words_around(data_folder, story, *selected))
        note = "the marks were set last: edits are about them, not about the selection" if marked and ids else ""
        bar = of_range(story, *selected, said, note)
    else:
        names = {recording.id: recording.name for recording in recordings.of_project(data_folder.db, project)}
        note = "selected last, so edits leave the marks alone" if marked_stretch and ids else ""
        bar = of_clips(story, recordings.sources(data_folder.db, project), names, ids, note)
    return page(request, "story/selection_bar.html", bar=bar)


def _stretch(text: str, story: Story) -> tuple[int, int] | None:
    """`120-480` as story frames inside the story; None where there are none."""
    ends = ids_in(text.replace("-", ","))
    return (ends[0], ends[1]) if len(ends) == 2 and ends[0] < ends[1] <= story.length else None


@router.get("/story/copy")
def copy(request: Request, project: int, a: int = 0, b: int = 0, items: str = "") -> JSONResponse:
    """A stretch of the story, or these clips (ids, comma between), as plain values, to be pasted here or into another
    story."""
    story = opened(request, project).story
    ids = ids_in(items)
    return JSONResponse(copied_clips(story, ids) if ids else copied(story, a, b))


@router.get("/story/find")
def find(request: Request, project: int, text: str = "") -> JSONResponse:
    """Where in the story something is said: [first frame, end, words], in order."""
    kept_story = opened(request, project)
    want = text.lower().split()
    if not want:
        return JSONResponse([])
    words = words_around(web(request).data, kept_story.story, 0, kept_story.story.length)
    said_texts = [word.text.lower().strip(".,;:!?…“”\"'") for _, _, word in words]
    hits = [
        [
            words[word_index][0],
            words[word_index + len(want) - 1][1],
            " ".join(word.text for _, _, word in words[word_index : word_index + len(want)]),
        ]
        for word_index in range(len(words) - len(want) + 1)
        if said_texts[word_index : word_index + len(want) - 1] == want[:-1]
        and said_texts[word_index + len(want) - 1].startswith(want[-1])
    ]
    return JSONResponse(hits)


@router.post("/stories")
def create(
    request: Request, project: int, name: Annotated[str, Form()] = "", of: Annotated[int | None, Form()] = None
) -> Response:
    """A new story, or a copy of one; it is opened."""
    stories.create(web(request).data.db, project, name, of)
    return _again(project)


def _its(request: Request, project: int, story: int) -> Kept:
    """A story of this project; `Missing` if it is another one's."""
    kept_story = stories.load(web(request).data.db, story)
    if kept_story.project != project:
        raise Missing("There is no such story in the project.")
    return kept_story


def _again(project: int) -> Response:
    return Response(status_code=204, headers={"hx-redirect": f"/p/{project}/story"})


@router.post("/stories/{story}/open")
def open_story(request: Request, project: int, story: int) -> Response:
    stories.open_story(web(request).data.db, project, story)
    return _again(project)


@router.post("/stories/{story}/name")
def rename(request: Request, project: int, story: int, name: Annotated[str, Form()] = "") -> Response:
    stories.rename(web(request).data.db, _its(request, project, story).id, name)
    return _again(project)


@router.post("/stories/{story}/delete")
def delete(request: Request, project: int, story: int) -> Response:
    stories.delete(web(request).data.db, project, story)
    return _again(project)


@dataclass(frozen=True, slots=True)
class StoriesCompared:
    """Two stories beside each other."""

    rows: list[Difference]
    names: dict[int, str]
    kept: Kept
    other: Kept
    rate: Rate


@router.get("/story/compare")
def compared(request: Request, project: int, story: int) -> HTMLResponse:
    """What the open story has that another one has not, and the other way round."""
    data_folder = web(request).data
    kept_story, other = opened(request, project), _its(request, project, story)
    compared_rows = compare(other.story, kept_story.story)
    names = {recording.id: recording.name for recording in recordings.of_project(data_folder.db, project)}
    return page(
        request,
        "story/compared.html",
        StoriesCompared(rows=compared_rows, names=names, kept=kept_story, other=other, rate=kept_story.story.rate),
    )
