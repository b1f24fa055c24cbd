"""Open formats out: OpenTimelineIO and EDL of a story with its cover.

Positions inside recordings are written at the story's rate, counted from the recording's own start timecode where it
has one, so that a conform by timecode finds the same frames.
"""

from pathlib import Path

import opentimelineio as otio

from kovel.core.plan import make_plan
from kovel.core.story import Story
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

    tl = otio.schema.Timeline(
        f"{project.name} - {name}", global_start_time=otio.opentime.RationalTime(project.start_frame, fps)
    )
    picture = otio.schema.Track("Dialogue", kind=otio.schema.TrackKind.Video)
    sound = otio.schema.Track("Dialogue sound", kind=otio.schema.TrackKind.Audio)
    for p in story.pieces:
        for track, has in ((picture, "picture"), (sound, "sound")):
            if p.source is None or not getattr(recordings[p.source], has):
                track.append(gap(p.length))
            else:
                track.append(clip_of(recordings[p.source], project, p.start, p.length))
    tl.tracks.append(picture)
    for lane in sorted({c.lane for c in story.covers}):
        track = otio.schema.Track(f"Cover {lane}", kind=otio.schema.TrackKind.Video)
        t = 0
        for at, end, c in sorted((s for s in story.spans if s[2].lane == lane), key=lambda s: s[0]):
            end = min(end, story.length)
            if at > t:
                track.append(gap(at - t))
            track.append(clip_of(recordings[c.source], project, c.start, end - at))
            t = end
        tl.tracks.append(track)
    tl.tracks.append(sound)
    return tl


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

    rows = [("V", p.at, p.end, p.source, p.start) for p in plan.pictures]
    t = 0
    for q in story.pieces:
        rows.append(("A", t, t + q.length, q.source if q.source is not None and recordings[q.source].sound else None, q.start))
        t += q.length
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
