"""Framing on faces: what is chosen sits on the speaker's face, jumps are punched in on it, a story in another shape
keeps it."""

from __future__ import annotations

import json
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.picture import faces as paths
from kovel.core.plan.geometry import standing
from kovel.core.plan.layers import WHOLE, Layer
from kovel.core.plan.pictures import Seen
from kovel.core.plan.plan import size_of
from kovel.core.story.catalogue import run
from kovel.core.story.model import Cover, Piece, Refused, Report, Sources, Story
from kovel.core.story.settings import SHAPES
from kovel.data_folder import DataFolder
from kovel.media.face_finding import faces_in
from kovel.media.proxy import GOP
from kovel.media.whole_files import keep
from kovel.services.footage.thumbnails import colours, near
from kovel.services.sound.mixing import Asked
from kovel.store import projects, recordings, stories
from kovel.store.recordings import Recording

MOST = 14  # small frames that are looked at in one piece
OFTEN = {"interview": 0.2}  # of them in which a face must be found to be one; elsewhere in most
Rows = list[list[Any]]
Found = list[tuple[int, float, float]]  # (frame of the recording, across, down)
ALL = 0.999  # of a side: so much of it seen is all of it


def face_path(
    data_folder: DataFolder, recording: Recording, clip: Piece | Cover, story: Story
) -> list[tuple[int, float, float]]:
    """Where the face is while a piece or cover is seen, or where there is none, what moves: (frame of its recording,
    x, y); empty where neither is found. What was found is kept beside the recording."""
    a, n = clip.start, clip.used if isinstance(clip, Cover) else clip.length
    moments = (
        [a]
        if recording.frames is None
        else sorted({a + n * (2 * piece_number + 1) // (2 * MOST) for piece_number in range(MOST)})
    )
    pixels = [
        (moment, pixels)
        for moment in moments
        if (pixels := colours(data_folder, recording, moment, story.rate)) is not None
    ]
    kept_at = data_folder.derived(recording.id) / "faces.json"
    try:
        kept: dict[str, list[list[float]]] = json.loads(kept_at.read_text())
    except (OSError, ValueError):
        kept = {}
    unknown = {str(moment // GOP): moment for moment, _ in pixels if str(moment // GOP) not in kept}
    for (name, moment), picture in zip(
        unknown.items(), near(data_folder, recording, list(unknown.values()), story.rate), strict=True
    ):
        kept[name] = [[face.x, face.y, face.size] for face in faces_in(picture, moment)] if picture is not None else []
    found_faces = [[paths.Face(moment, *face_row) for face_row in kept[str(moment // GOP)]] for moment, _ in pixels]
    if unknown:
        keep(kept_at, kept)
    track = paths.track(found_faces)
    if len(track) >= max(min(2, len(found_faces)), OFTEN.get(recording.kind, 0.6) * len(found_faces)):
        return paths.path(track)
    return paths.moving([pixels_there.mean(-1) for _, pixels_there in pixels], a)


def on_faces(data_folder: DataFolder, project: int, story: Story, items: list[Piece | Cover]) -> tuple[Rows, list[str]]:
    """Rows for `set_several` that frame these on the speaker's face or on what moves, and the names of those with
    neither."""
    this_project = projects.get(data_folder.db, project)
    rows_of = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    sources = {key: recording.source for key, recording in rows_of.items()}
    picture = size_of(story, this_project.width, this_project.height)
    seen = Seen(story, sources)
    framing_rows: Rows = []
    lacking: list[str] = []
    for clip in items:
        recording = rows_of.get(clip.source) if clip.source is not None else None
        if recording is None or not recording.picture or (isinstance(clip, Piece) and clip.take == "sound"):
            continue
        layer = (seen.piece(clip) if isinstance(clip, Piece) else seen.cover(clip))[-1]
        window = _window(layer, (recording.width or 16, recording.height or 9), picture)
        if min(window) >= ALL:
            continue  # all of it is seen
        if faces_found := face_path(data_folder, recording, clip, story):
            framing_rows += _framed_on(clip, faces_found, window)
        else:
            lacking.append(recording.name)
    return framing_rows, lacking


def _window(layer: Layer, image: tuple[int, int], picture: tuple[int, int]) -> tuple[float, float]:
    """How much of an image's width and height is seen at its closest, 0 to 1 and more."""
    part = layer.part
    zoom = max([move[1] for move in part.moves], default=part.zoom)
    scale = standing(image, picture, WHOLE if part.fit == "whole" else part, layer.place).matrix
    size = (abs(scale[0]) + abs(scale[1])) * (zoom / part.at(0)[0] if part.fit != "whole" else zoom / 100)
    return layer.place.w * picture[0] / (image[0] * size), layer.place.h * picture[1] / (image[1] * size)


def _framed_on(clip: Piece | Cover, found: Found, window: tuple[float, float]) -> Rows:
    """Rows that keep what was found in the window: one value where it hardly moves, else a line."""
    across = [[moment, paths.across_for(px, window[0])] for moment, px, _ in found]
    down = [[moment, paths.down_for(py, window[1])] for moment, _, py in found]
    setting_rows: Rows = []
    for name, line, share in (("across", across, window[0]), ("down", down, window[1])):
        if share < ALL:
            values = [value for _, value in line]
            still = max(values) - min(values) < 2
            setting_rows.append([clip.id, name, line[len(line) // 2][1] if still else line])
    return setting_rows


def _told(did: str, lacking: list[str]) -> str:
    if not lacking:
        return did
    names = list(dict.fromkeys(lacking))
    return (
        f"{did}; no face and nothing that moves in {', '.join(names[:3])}{' and others' if len(names) > 3 else ''}: "
        "framed on the middle"
    )


def sit_on_faces(data_folder: DataFolder, project: int, story: Story, items: list[int]) -> Asked:
    """One edit that frames what is chosen on the speaker's face."""
    xs = [clip for clip in (story.item(item) for item in items) if isinstance(clip, (Piece, Cover))]
    if not any(clip.source for clip in xs):
        raise Invalid("There is no picture to frame: choose a piece or a cover first.")
    setting_rows, lacking = on_faces(data_folder, project, story, xs)
    if not setting_rows:
        why = f"No face is found in {lacking[0]}, and nothing moves" if lacking else "All of the picture is seen"
        raise Invalid(f"{why}: {'frame it by hand' if lacking else 'zoom in first, then it can sit on the face'}.")
    return "set_several", {"rows": setting_rows, "did": _told("Framed on the face", lacking)}


def punch_in(data_folder: DataFolder, project: int, story: Story, zoom: float) -> tuple[Asked, Report]:
    """One edit that punches in on every second exposed jump, on the speaker's face; and what there is to judge of
    it."""
    sources: Sources = recordings.sources(data_folder.db, project)
    new, report = run(story, sources, "punch_in_jumps", {"zoom": zoom})
    changed = [new.piece(piece_id) for piece_id in report.made]
    setting_rows, lacking = on_faces(data_folder, project, new, list(changed))
    zooms: Rows = [[piece.id, "zoom", piece.settings["zoom"]] for piece in changed]
    return ("set_several", {"rows": [*zooms, *setting_rows], "did": _told(report.did, lacking)}), report


def other_shape(data_folder: DataFolder, project: int, shape: str) -> tuple[int, str]:
    """A copy of the story in another shape, every piece framed on its face: its number, and what was done."""
    if shape not in SHAPES or not SHAPES[shape]:
        raise Invalid(f"A shape is one of: {', '.join(shape for shape in SHAPES if SHAPES[shape])}.")
    kept_story = stories.load(data_folder.db, stories.current(data_folder.db, project))
    if not kept_story.story.length:
        raise Refused("The story is empty: there is nothing to frame yet.")
    sources = recordings.sources(data_folder.db, project)
    wide: Rows = [["story", "shape", shape], ["story", "fit", "filled"]]
    try:
        new = run(kept_story.story, sources, "set_several", {"rows": wide})[0]
    except Refused:
        raise Invalid(f"This story has the shape {shape} already.") from None
    xs: list[Piece | Cover] = [*new.pieces]
    xs += [cover for cover in new.covers if cover.source in sources]
    setting_rows, lacking = on_faces(data_folder, project, new, xs)
    name = f"{kept_story.name} {shape.replace(':', ' to ')}"
    there = {kept.name for kept in stories.of_project(data_folder.db, project)}
    name = next(
        name for name in (name, *(f"{name} ({name_number})" for name_number in range(2, 100))) if name not in there
    )
    story_id = stories.create(data_folder.db, project, name, of=kept_story.id)
    summary = _told(
        f"{name}: framed on {len({setting_row[0] for setting_row in setting_rows})} of {len(xs)} pieces and covers",
        lacking,
    )
    stories.edit(data_folder.db, story_id, None, "set_several", {"rows": [*wide, *setting_rows], "did": summary})
    return story_id, summary
