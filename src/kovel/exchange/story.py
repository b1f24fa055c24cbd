"""Open formats out: OpenTimelineIO and EDL of a story with its cover.

Positions inside recordings are written at the story's rate, counted from the recording's own start timecode where it
has one, so that a conform by timecode finds the same frames.
"""

from pathlib import Path

import opentimelineio as otio

from kovel.core.plan import make_plan
from kovel.core.story import Piece, Story
from kovel.core.timecode import TimeError, format_timecode, parse_entry
from kovel.store.projects import Project
from kovel.store.recordings import Recording


def _first_frame(r: Recording, project: Project) -> int:
    """The recording's start timecode as frames of the project's rate; 0 where there is none."""
    if not r.start_timecode:
        return 0
    try:
        return parse_entry(r.start_timecode, project.rate, drop=";" in r.start_timecode)
    except TimeError:
        return 0


def clip_of(r: Recording, project: Project, start: int, length: int, label: str = "") -> otio.schema.Clip:
    """Frames [start, start+length) of a recording as a clip that refers to its file."""
    fps = float(project.rate.fps)

    def span(a: int, n: int) -> otio.opentime.TimeRange:
        return otio.opentime.TimeRange(otio.opentime.RationalTime(a, fps), otio.opentime.RationalTime(n, fps))

    first = _first_frame(r, project)
    media = otio.schema.ExternalReference(Path(r.path).as_uri(), span(first, r.length(project.rate)))
    media.name = Path(r.path).name
    metadata = {"kovel": {"roll": r.roll, "camera": r.camera}}
    return otio.schema.Clip(label or r.name, media, span(first + start, length), metadata=metadata)


def to_otio(story: Story, name: str, project: Project, recordings: dict[int, Recording]) -> otio.schema.Timeline:
    """A timeline with a track for the dialogue's picture, one for each cover lane, and one for its sound."""
    fps = float(project.rate.fps)

    def gap(n: int) -> otio.schema.Gap:
        return otio.schema.Gap(
            source_range=otio.opentime.TimeRange(otio.opentime.RationalTime(0, fps), otio.opentime.RationalTime(n, fps))
        )

    def at_place(track: otio.schema.Track, t: int, at: int) -> None:
        if at > t:
            track.append(gap(at - t))

    tl = otio.schema.Timeline(
        f"{project.name} - {name}", global_start_time=otio.opentime.RationalTime(project.start_frame, fps)
    )
    picture = otio.schema.Track("Dialogue", kind=otio.schema.TrackKind.Video)
    for i, p in enumerate(story.pieces):
        j = story.join(i)
        if i and j.length and j.blend == "dissolve":
            before = otio.opentime.RationalTime(j.length // 2, fps), otio.opentime.RationalTime(j.length - j.length // 2, fps)
            picture.append(otio.schema.Transition("Dissolve", otio.schema.TransitionTypes.SMPTE_Dissolve, *before))
        if p.source is None or not recordings[p.source].picture or p.take == "sound":
            picture.append(card_of(p, gap(p.length)))
        else:
            picture.append(clip_of(recordings[p.source], project, p.start, p.length))
    tl.tracks.append(picture)
    for lane in sorted({c.lane for c in story.covers}):
        track = otio.schema.Track(f"Cover {lane}", kind=otio.schema.TrackKind.Video)
        t = 0
        for at, end, c in sorted((s for s in story.spans if s[2].lane == lane), key=lambda s: s[0]):
            end = min(end, story.length)
            at_place(track, t, at)
            clip = clip_of(recordings[c.source], project, c.start, end - at)
            if c.span:
                clip.effects.append(otio.schema.LinearTimeWarp(time_scalar=c.span / c.length))
            track.append(clip)
            t = end
        tl.tracks.append(track)
    sound = otio.schema.Track("Dialogue sound", kind=otio.schema.TrackKind.Audio)
    t = 0
    for i, p in enumerate(story.pieces):
        if p.source is None or not recordings[p.source].sound or p.take == "picture":
            continue
        a, b = story.starts[i] + story.join(i).split, story.starts[i + 1] + story.join(i + 1).split
        at_place(sound, t, a)
        sound.append(clip_of(recordings[p.source], project, p.start + a - story.starts[i], b - a))
        t = b
    at_place(sound, t, story.length)
    tl.tracks.append(sound)
    natural = [(a, min(b, story.length), c.source, c.start, "Natural") for a, b, c in story.spans if c.natural and not c.span]
    laid = [
        (story.at(x), min(story.at(x) + x.length, story.length), x.source, x.start, f"Sound {x.lane}") for x in story.sounds
    ]
    rows = sorted(r for r in (*natural, *laid) if r[1] > r[0])
    for label in sorted({r[4] for r in rows}):
        tracks: list[tuple[otio.schema.Track, int]] = []  # natural sounds may overlap: as many tracks as it takes
        for at, end, source, start, _ in (r for r in rows if r[4] == label):
            k = next((k for k, (_, t) in enumerate(tracks) if t <= at), len(tracks))
            if k == len(tracks):
                tracks.append((otio.schema.Track(f"{label}{f' {k + 1}' if k else ''}", kind=otio.schema.TrackKind.Audio), 0))
            at_place(tracks[k][0], tracks[k][1], at)
            tracks[k][0].append(clip_of(recordings[source], project, start, end - at))
            tracks[k] = (tracks[k][0], end)
        tl.tracks.extend(x for x, _ in tracks)
    for s in story.sections:
        at = otio.opentime.TimeRange(
            otio.opentime.RationalTime(story.starts[story.index_of(s.piece)], fps), otio.opentime.RationalTime(0, fps)
        )
        tl.tracks.markers.append(otio.schema.Marker(s.heading, at))
    return tl


def card_of(p: Piece, empty: otio.schema.Gap) -> otio.core.Composable:
    """A card as a clip that a generator fills; anything else without a picture as a gap."""
    if p.card is None:
        return empty
    made = otio.schema.GeneratorReference("Card", "SolidColor", parameters={"colour": p.card.colour, "text": p.card.text})
    return otio.schema.Clip(p.card.text or "Card", made, empty.source_range)


def to_edl(story: Story, name: str, project: Project, recordings: dict[int, Recording]) -> str:
    """An edit decision list: V is what is seen (cover over dialogue), A what is heard. Record times start at the project's.

    The common event layout, one event a line: number, reel, track, C, source in and out, record in and out; the clip's
    name and file follow as comments. Source timecode is at the project's rate, as the layout knows only one.
    """
    plan = make_plan(story, {i: r.source for i, r in recordings.items()})
    rate, drop = project.rate, project.drop
    lines = [f"TITLE: {project.name} - {name}", f"FCM: {'DROP FRAME' if drop else 'NON-DROP FRAME'}", ""]
    reels: dict[int, str] = {}

    def reel(source: int) -> str:
        if source not in reels:
            r = recordings[source]
            base = (
                "".join(ch for ch in (r.roll + r.camera or Path(r.path).stem).upper() if ch.isascii() and ch.isalnum())[:8]
                or "REEL"
            )
            taken = set(reels.values())
            reels[source] = base if base not in taken else f"{base[:5]}{source:03d}"
        return reels[source]

    def tc(frame: int) -> str:
        return format_timecode(frame, rate, drop)

    rows = []
    for x in plan.pictures:
        rows.append(("V", x.at, x.end, x.source, x.start))
        if x.mix:  # the layout's dissolves are read differently from place to place: cut at the seam, and said so
            middle = x.at + x.mix.of // 2 - x.mix.first if x.mix.of > 1 else x.at
            middle = min(max(middle, x.at), x.end)
            rows[-1:] = [
                ("V", x.at, middle, x.source, x.start),
                ("V", middle, x.end, x.mix.to.source, x.mix.to.start + middle - x.at),
            ]
    for i, q in enumerate(story.pieces):
        a, b = story.starts[i] + story.join(i).split, story.starts[i + 1] + story.join(i + 1).split
        heard = q.source is not None and recordings[q.source].sound and q.take != "picture"
        rows.append(("A", a, b, q.source if heard else None, q.start + a - story.starts[i]))
    rows = [r for r in rows if r[2] > r[1]]
    number = 0
    for track, at, end, source, start in sorted(rows, key=lambda r: (r[0] != "V", r[1])):
        if source is None and track == "A":
            continue
        number += 1
        if source is None:
            lines.append(
                f"{number:03d}  BL       {track}     C        {tc(0)} {tc(end - at)} {tc(project.start_frame + at)} {tc(project.start_frame + end)}"
            )
            continue
        r = recordings[source]
        first = _first_frame(r, project) + start
        lines.append(
            f"{number:03d}  {reel(source):<8} {track}     C        {tc(first)} {tc(first + end - at)} {tc(project.start_frame + at)} {tc(project.start_frame + end)}"
        )
        lines.append(f"* FROM CLIP NAME: {r.name}")
        lines.append(f"* SOURCE FILE: {Path(r.path).name}")
    return "\n".join(lines) + "\n"
