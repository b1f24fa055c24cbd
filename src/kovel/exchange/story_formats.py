"""Open formats out: OpenTimelineIO and EDL of a story with its cover.

Positions inside recordings are counted from the recording's own start timecode where it has one, read at the recording's
own rate, so that a conform by timecode finds the same frames. Lanes that are muted, or not on solo, are left out, as in the
plan.
"""

from fractions import Fraction
from pathlib import Path
from typing import Any

import opentimelineio as otio

from kovel.core.plan.layers import Image, flat, own_frame
from kovel.core.plan.plan import make_plan
from kovel.core.plan.sounds import audible, sounds_on, with_its_sound
from kovel.core.story.edit_rules import frames_in_words
from kovel.core.story.fitted_transitions import kind_of
from kovel.core.story.model import TITLE, Cover, Item, Piece, Sound, Sources, Story
from kovel.core.story.model import kind_of as kind_of_item
from kovel.core.story.settings import NONE, OF_ONE, SETTINGS, Values
from kovel.core.time.timecode import format_timecode
from kovel.exchange.otio_in import described
from kovel.exchange.sent_files import fingerprint
from kovel.exchange.uses import reel_of
from kovel.store.projects import Project
from kovel.store.recordings import Recording


def _own(r: Recording, project: Project, frame: int) -> int:
    """A story frame of a recording's clock in its own frames (the nearest)."""
    return r.rate.seconds_to_frame(project.rate.frame_to_seconds(frame))


def clip_of(
    r: Recording, project: Project, start: int, length: int, label: str = "", settings: Values = NONE
) -> otio.schema.Clip:
    """Frames [start, start+length) of a recording as a clip that refers to its file. The file's own range is in its own
    frames, what is used of it in the story's. `settings` are those of this use; those of the recording stand beside them."""

    def span(a: float, n: int, fps: float) -> otio.opentime.TimeRange:
        return otio.opentime.TimeRange(otio.opentime.RationalTime(a, fps), otio.opentime.RationalTime(n, fps))

    first, own, fps = r.first, float(r.rate.fps), float(project.rate.fps)
    whole = span(first, r.frames, own) if r.frames is not None else span(0, length, fps)
    media = otio.schema.ExternalReference(Path(r.path).as_uri(), whole)
    media.name = Path(r.path).name
    metadata: dict[str, dict[str, Any]] = {"kovel": {"roll": r.roll, "camera": r.camera}}
    if settings:
        metadata["kovel"]["settings"] = settings.to_json()
    if r.settings:
        metadata["kovel"]["recording"] = r.settings.to_json()
    begin = project.rate.seconds_to_frame(r.rate.frame_to_seconds(first))
    return otio.schema.Clip(label or r.name, media, span(begin + start, length, fps), metadata=metadata)


def to_otio(story: Story, name: str, project: Project, recordings: dict[int, Recording]) -> otio.schema.Timeline:
    """A timeline with a track for the dialogue's picture, one for each cover lane, and one for its sound.

    Settings that the standard has no class for are named in the metadata under "kovel", as they are kept: of the story on
    the timeline, of each use and of its recording on the clip.
    """
    fps = float(project.rate.fps)
    sources = {i: r.source for i, r in recordings.items()}

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
    if story.settings:
        tl.metadata["kovel"] = {"settings": {scope: values.to_json() for scope, values in story.settings}}
    picture = otio.schema.Track("Dialogue", kind=otio.schema.TrackKind.Video)
    for i, p in enumerate(story.pieces):
        j = story.transition(i)
        if i and j.length and j.blend == "dissolve":
            before = otio.opentime.RationalTime(j.length // 2, fps), otio.opentime.RationalTime(j.length - j.length // 2, fps)
            picture.append(otio.schema.Transition("Dissolve", otio.schema.TransitionTypes.SMPTE_Dissolve, *before))
        if p.source not in recordings or not recordings[p.source].picture or p.take == "sound":
            picture.append(card_of(p, gap(p.length)))
        else:
            picture.append(retimed(clip_of(recordings[p.source], project, p.used[0], p.length, settings=p.settings), p))
    tl.tracks.append(picture)
    for lane in sorted({c.lane for c in story.covers if f"cover {c.lane}" not in story.muted}):
        track = otio.schema.Track(f"Cover {lane}", kind=otio.schema.TrackKind.Video)
        t = 0
        there = (s for s in story.spans if s[2].lane == lane and (s[2].source in recordings or s[2].source == TITLE))
        for at, end, c in sorted(there, key=lambda s: s[0]):
            end = min(end, story.length)
            come = int(c.settings["appear"])
            if come and t == at and t and story.value(c, "through", sources) != "black":  # it comes in where another ends
                part = otio.opentime.RationalTime(0, fps), otio.opentime.RationalTime(come, fps)
                track.append(otio.schema.Transition("Dissolve", otio.schema.TransitionTypes.SMPTE_Dissolve, *part))
            at_place(track, t, at)
            if c.source == TITLE:
                track.append(title_of(c, gap(end - at)))
                t = end
                continue
            clip = clip_of(recordings[c.source], project, c.start, end - at, settings=c.settings)
            track.append(retimed(clip, c))
            t = end
        tl.tracks.append(track)
    sound = otio.schema.Track("Dialogue sound", kind=otio.schema.TrackKind.Audio)
    t = 0
    for i, p in enumerate(story.pieces):
        if (
            p.source not in recordings
            or not recordings[p.source].sound
            or p.take == "picture"
            or not audible(story, "dialogue")
        ):
            continue
        a, b = story.starts[i] + story.transition(i).split, story.starts[i + 1] + story.transition(i + 1).split
        at_place(sound, t, a)
        first = p.clock.used(p.start + a - story.starts[i], b - a)[0]
        sound.append(retimed(clip_of(recordings[p.source], project, first, b - a), p) if sounds_on(p) else gap(b - a))
        t = b
    at_place(sound, t, story.length)
    tl.tracks.append(sound)
    natural = [
        (a, min(b, story.length), c.source, c.start, "Natural")
        for a, b, c in story.spans
        if with_its_sound(story, c, sources) and audible(story, "natural") and f"cover {c.lane}" not in story.muted
    ]
    laid = [
        (story.at(x), min(story.at(x) + x.length, story.length), x.source, x.start, f"Sound {x.lane}")
        for x in story.sounds
        if audible(story, x.kind)
    ]
    rows = sorted(r for r in (*natural, *laid) if r[1] > r[0] and r[2] in recordings)
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
    tl.metadata["kovel"] = {
        **dict(tl.metadata.get("kovel", {})), **described(story, recordings), "fingerprint": fingerprint(tl)
    }  # fmt: skip
    return tl


def title_of(c: Cover, empty: otio.schema.Gap) -> otio.schema.Clip:
    """A title as a clip that a generator fills, with everything that is set on it."""
    made = otio.schema.GeneratorReference("Title", "Title", parameters=c.settings.to_json())
    return otio.schema.Clip(
        c.title.replace("\n", " / "), made, empty.source_range, metadata={"kovel": {"settings": c.settings.to_json()}}
    )


def card_of(p: Piece, empty: otio.schema.Gap) -> otio.core.Composable:
    """A card as a clip that a generator fills; anything else without a picture as a gap."""
    if p.card is None:
        return empty
    made = otio.schema.GeneratorReference("Card", "SolidColor", parameters={"colour": p.card.colour, "text": p.card.text})
    return otio.schema.Clip(p.card.text or "Card", made, empty.source_range)


def to_edl(story: Story, name: str, project: Project, recordings: dict[int, Recording]) -> str:
    """An edit decision list: V is what is seen (cover over dialogue), A the dialogue that is heard. Record times start at
    the project's.

    The common event layout, one event a line: number, reel, track, C, source in and out, record in and out; the clip's
    name and file follow as comments. Source timecode counts the recording's own frames; where more or fewer of them pass
    than the story has, an M2 line says how many a second. What the layout cannot hold is listed at the end.
    """
    plan = make_plan(story, {i: r.source for i, r in recordings.items()})
    rate, drop = project.rate, project.drop
    lines = [f"TITLE: {project.name} - {name}", f"FCM: {'DROP FRAME' if drop else 'NON-DROP FRAME'}", ""]
    reels: dict[int, str] = {}

    def reel(source: int) -> str:
        if source not in reels:
            base = reel_of(recordings[source])[:8] or "REEL"
            taken = set(reels.values())
            reels[source] = base if base not in taken else f"{base[:5]}{source:03d}"
        return reels[source]

    rows: list[tuple[str, int, int, Image]] = []
    for x in plan.pictures:
        seen = [y for y in flat(x.layers) if not y.image.title]
        top, up = _evened(story, seen[-1].image, x.at), seen[-1].opacity
        middle = x.at
        if len(seen) > 1 and up.step:  # a blend is a cut in its middle; of layers that stand, the upper one is listed
            middle = min(max(x.at + (up.of - 1) // 2 - (up.first - 1), x.at), x.end) if up.of > 2 else x.at
            _shown(rows, x.at, middle, x.image)
        _shown(rows, middle, x.end, top.later(middle - x.at))
    for i, q in enumerate(story.pieces):
        a, b = story.starts[i] + story.transition(i).split, story.starts[i + 1] + story.transition(i + 1).split
        heard = q.source in recordings and recordings[q.source].sound and q.take != "picture" and audible(story, "dialogue")
        if heard and sounds_on(q):
            rows.append(("A", a, b, _even(q, a - story.starts[i])))
    rows = [r for r in rows if r[2] > r[1]]
    for number, (track, at, end, image) in enumerate(sorted(rows, key=lambda r: (r[0] != "V", r[1])), 1):
        into = [format_timecode(project.start_frame + t, rate, drop) for t in (at, end)]
        if image.source not in recordings:
            black = [format_timecode(t, rate, drop) for t in (0, end - at)]
            lines.append(f"{number:03d}  BL       {track}     C        {' '.join((*black, *into))}")
            continue
        r = recordings[image.source]
        first = r.first + (own_frame(image, 0, rate, r.rate) if r.frames is not None else 0)
        p, q_ = image.speed
        speed = r.rate.fps * p / q_ if r.frames is not None else rate.fps
        count = int(abs(end - at) * abs(speed) / rate.fps + Fraction(1, 2))
        first = first if speed >= 0 else max(0, first - count + 1)  # what is used of it; M2 says that it runs backwards
        used = [format_timecode(t, r.rate, r.drops) for t in (first, first + count)]
        name_ = reel(image.source)
        lines.append(f"{number:03d}  {name_:<8} {track}     C        {' '.join((*used, *into))}")
        if speed != rate.fps:
            lines.append(f"M2   {name_:<8}       {float(speed):05.1f}                {used[0]}")
        lines += [f"* FROM CLIP NAME: {r.name}", f"* SOURCE FILE: {Path(r.path).name}"]
    left = not_in_an_edl(story, project, recordings)
    if left:
        lines += ["", "* NOT IN THIS LIST:", *(f"*   {x}" for x in left)]
    return "\n".join(lines) + "\n"


def _evened(story: Story, image: Image, at: int) -> Image:
    """An image as an event of a list has it: of a retimed cover or piece, at the speed it has on average."""
    ramped = ((a, c) for a, b, c in story.spans if a <= at < b and c.source == image.source and not c.as_shot)
    a, c = max(ramped, key=lambda r: r[1].lane, default=(0, None))
    if c is not None:
        return _even(c, at - a)
    i = story.index_at(at)
    p = story.pieces[i]
    return _even(p, at - story.starts[i]) if p.source == image.source and p.source and not p.clock.as_shot else image


def _even(x: Piece | Cover, k: int) -> Image:
    """A piece or a cover from its frame k on, at the speed it has on average."""
    n = x.length
    if isinstance(x, Cover):
        first, used, backwards = x.start, x.used, bool(x.settings["backwards"])
    else:
        clock = x.clock
        if clock.as_shot or clock.held is not None:
            return Image(x.source, x.moment(0) + (k if clock.as_shot else 0), speed=(1 if clock.as_shot else 0, 1))
        first, backwards = x.used[0], clock.backwards
        used = max(1, round(abs(Fraction(clock.passing(x.end)) - clock.passing(x.start))))
    return (
        Image(x.source, first, speed=(-used, n), skip=n - 1 - k)
        if backwards
        else Image(x.source, first, speed=(used, n), skip=k)
    )


def retimed(clip: otio.schema.Clip, x: Piece | Cover) -> otio.schema.Clip:
    """A clip with its speed, where it has one, as the standard's own effects say it: on average, where it changes."""
    if isinstance(x, Piece):
        clock = x.clock
        if clock.held is not None:
            clip.effects.append(otio.schema.FreezeFrame())
        elif not clock.as_shot:
            scalar = float(clock.passing(x.end) - clock.passing(x.start)) / x.length
            clip.effects.append(otio.schema.LinearTimeWarp(time_scalar=scalar))
    elif not x.as_shot:
        scalar = x.used / x.length * (-1 if x.settings["backwards"] else 1)
        clip.effects.append(otio.schema.LinearTimeWarp(time_scalar=scalar))
    return clip


def _shown(rows: list[tuple[str, int, int, Image]], at: int, end: int, image: Image) -> None:
    """One more event of what is seen; none where the one before only runs on (under a title, into a dissolve)."""
    if end <= at:
        return
    if rows and rows[-1][2] == at and rows[-1][3].later(at - rows[-1][1]) == image:
        rows[-1] = ("V", rows[-1][1], end, rows[-1][3])
    else:
        rows.append(("V", at, end, image))


def set_on(story: Story, item: Item, sources: Sources) -> list[str]:
    """The settings of a piece or cover that an edit list has no place for, in words."""
    held = ("span", "natural", "steps", "held", "heard", *(() if isinstance(item, Sound) or item.clock.ramp else ("speed",)))
    rows = [s for s in SETTINGS.values() if kind_of_item(item) in s.of and s.name not in held]
    return [f"{s.label.lower()} {s.says(v)}" for s in rows if (v := story.value(item, s.name, sources)) != s.default]


def not_in_an_edl(story: Story, project: Project, recordings: dict[int, Recording]) -> list[str]:
    """What of a story an edit decision list cannot hold, each with its place, in words."""
    at = lambda t: format_timecode(project.start_frame + t, project.rate, project.drop)  # noqa: E731
    name = lambda i: recordings[i].name if i in recordings else "a recording"  # noqa: E731
    sources = {i: r.source for i, r in recordings.items()}
    out = []
    for j in story.transitions:
        t = story.starts[story.index_of(j.right)] if j.right else story.length
        if j.length:
            out.append(f"{at(t)} {kind_of(j)} of {frames_in_words(j.length)}: written as a cut")
        if j.cross:
            out.append(f"{at(t)} crossfade of {frames_in_words(j.cross)}: written as a cut")
    for t, p in zip(story.starts, story.pieces, strict=False):
        if p.card is not None:
            out.append(f"{at(t)} card “{p.card.text or p.card.colour}”: written as black")
        out += [f"{at(t)} {name(p.source or 0)}: {x}" for x in set_on(story, p, sources)]
    for scope, v in story.settings:
        if v["as_one"]:
            of = [t for t, p in zip(story.starts, story.pieces, strict=False) if scope == f"group {p.group}"]
            own = ", ".join(f"{SETTINGS[n].label.lower()} {SETTINGS[n].says(v[n])}" for n in v if n in OF_ONE)
            out += [f"{at(of[0])} {len(of)} pieces seen as one picture: {own or 'put together first'}"] if of else []
    out += [
        f"{at(story.at(x))} {x.kind} “{name(x.source)}”, {frames_in_words(x.length)}"
        for x in story.sounds
        if audible(story, x.kind)
    ]
    out += [f"{at(a)} title “{c.title}”".replace("\n", " / ") for a, _, c in story.spans if c.source == TITLE]
    pictures = [(a, c) for a, _, c in story.spans if c.source != TITLE]
    out += [f"{at(a)} {name(c.source)}: {x}" for a, c in pictures for x in set_on(story, c, sources)]
    out += [f"{at(a)} natural sound of “{name(c.source)}”" for a, _, c in story.spans if story.value(c, "natural", sources)]
    return sorted(out)
