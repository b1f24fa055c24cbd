"""Open formats out: OpenTimelineIO and EDL of a story with its cover.

Positions inside recordings are counted from the recording's own start timecode where it has one, read at the
recording's own rate, so that a conform by timecode finds the same frames. Lanes that are muted, or not on solo, are
left out, as in the plan.
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


def _own(recording: Recording, project: Project, frame: int) -> int:
    """A story frame of a recording's clock in its own frames (the nearest)."""
    return recording.rate.seconds_to_frame(project.rate.frame_to_seconds(frame))


def clip_of(
    recording: Recording, project: Project, start: int, length: int, label: str = "", settings: Values = NONE
) -> otio.schema.Clip:
    """Frames [start, start+length) of a recording as a clip that refers to its file. The file's own range is in its
    own frames, what is used of it in the story's. `settings` are those of this use; those of the recording stand
    beside them."""

    def span(a: float, n: int, fps: float) -> otio.opentime.TimeRange:
        return otio.opentime.TimeRange(otio.opentime.RationalTime(a, fps), otio.opentime.RationalTime(n, fps))

    first, own, fps = recording.first, float(recording.rate.fps), float(project.rate.fps)
    whole = span(first, recording.frames, own) if recording.frames is not None else span(0, length, fps)
    media = otio.schema.ExternalReference(Path(recording.path).as_uri(), whole)
    media.name = Path(recording.path).name
    metadata: dict[str, dict[str, Any]] = {"kovel": {"roll": recording.roll, "camera": recording.camera}}
    if settings:
        metadata["kovel"]["settings"] = settings.to_json()
    if recording.settings:
        metadata["kovel"]["recording"] = recording.settings.to_json()
    begin = project.rate.seconds_to_frame(recording.rate.frame_to_seconds(first))
    return otio.schema.Clip(label or recording.name, media, span(begin + start, length, fps), metadata=metadata)


def to_otio(story: Story, name: str, project: Project, recordings: dict[int, Recording]) -> otio.schema.Timeline:
    """A timeline with a track for the dialogue's picture, one for each cover lane, and one for its sound.

    Settings that the standard has no class for are named in the metadata under "kovel", as they are kept: of the
    story on the timeline, of each use and of its recording on the clip.
    """
    fps = float(project.rate.fps)
    sources = {key: recording.source for key, recording in recordings.items()}

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
    for index, piece in enumerate(story.pieces):
        transition = story.transition(index)
        if index and transition.length and transition.blend == "dissolve":
            before = (
                otio.opentime.RationalTime(transition.length // 2, fps),
                otio.opentime.RationalTime(transition.length - transition.length // 2, fps),
            )
            picture.append(otio.schema.Transition("Dissolve", otio.schema.TransitionTypes.SMPTE_Dissolve, *before))
        if piece.source not in recordings or not recordings[piece.source].picture or piece.take == "sound":
            picture.append(card_of(piece, gap(piece.length)))
        else:
            picture.append(
                retimed(
                    clip_of(recordings[piece.source], project, piece.used[0], piece.length, settings=piece.settings),
                    piece,
                )
            )
    tl.tracks.append(picture)
    for lane in sorted({cover.lane for cover in story.covers if f"cover {cover.lane}" not in story.muted}):
        track = otio.schema.Track(f"Cover {lane}", kind=otio.schema.TrackKind.Video)
        t = 0
        there = (
            span
            for span in story.spans
            if span[2].lane == lane and (span[2].source in recordings or span[2].source == TITLE)
        )
        for at, end, cover in sorted(there, key=lambda s: s[0]):
            end = min(end, story.length)
            come = int(cover.settings["appear"])
            if (
                come and t == at and t and story.value(cover, "through", sources) != "black"
            ):  # it comes in where another ends
                part = otio.opentime.RationalTime(0, fps), otio.opentime.RationalTime(come, fps)
                track.append(otio.schema.Transition("Dissolve", otio.schema.TransitionTypes.SMPTE_Dissolve, *part))
            at_place(track, t, at)
            if cover.source == TITLE:
                track.append(title_of(cover, gap(end - at)))
                t = end
                continue
            clip = clip_of(recordings[cover.source], project, cover.start, end - at, settings=cover.settings)
            track.append(retimed(clip, cover))
            t = end
        tl.tracks.append(track)
    sound = otio.schema.Track("Dialogue sound", kind=otio.schema.TrackKind.Audio)
    t = 0
    for index, piece in enumerate(story.pieces):
        if (
            piece.source not in recordings
            or not recordings[piece.source].sound
            or piece.take == "picture"
            or not audible(story, "dialogue")
        ):
            continue
        begin, until = (
            story.starts[index] + story.transition(index).split,
            story.starts[index + 1] + story.transition(index + 1).split,
        )
        at_place(sound, t, begin)
        first = piece.clock.used(piece.start + begin - story.starts[index], until - begin)[0]
        sound.append(
            retimed(clip_of(recordings[piece.source], project, first, until - begin), piece)
            if sounds_on(piece)
            else gap(until - begin)
        )
        t = until
    at_place(sound, t, story.length)
    tl.tracks.append(sound)
    natural = [
        (start, min(end, story.length), cover.source, cover.start, "Natural")
        for start, end, cover in story.spans
        if with_its_sound(story, cover, sources)
        and audible(story, "natural")
        and f"cover {cover.lane}" not in story.muted
    ]
    laid = [
        (
            story.at(sound),
            min(story.at(sound) + sound.length, story.length),
            sound.source,
            sound.start,
            f"Sound {sound.lane}",
        )
        for sound in story.sounds
        if audible(story, sound.kind)
    ]
    rows = sorted(r for r in (*natural, *laid) if r[1] > r[0] and r[2] in recordings)
    for label in sorted({row[4] for row in rows}):
        tracks: list[tuple[otio.schema.Track, int]] = []  # natural sounds may overlap: as many tracks as it takes
        for at, end, source, start, _ in (row for row in rows if row[4] == label):
            k = next((index for index, (_, t) in enumerate(tracks) if t <= at), len(tracks))
            if k == len(tracks):
                tracks.append(
                    (otio.schema.Track(f"{label}{f' {k + 1}' if k else ''}", kind=otio.schema.TrackKind.Audio), 0)
                )
            at_place(tracks[k][0], tracks[k][1], at)
            tracks[k][0].append(clip_of(recordings[source], project, start, end - at))
            tracks[k] = (tracks[k][0], end)
        tl.tracks.extend(x for x, _ in tracks)
    for section in story.sections:
        at = otio.opentime.TimeRange(
            otio.opentime.RationalTime(story.starts[story.index_of(section.piece)], fps),
            otio.opentime.RationalTime(0, fps),
        )
        tl.tracks.markers.append(otio.schema.Marker(section.heading, at))
    tl.metadata["kovel"] = {
        **dict(tl.metadata.get("kovel", {})),
        **described(story, recordings),
        "fingerprint": fingerprint(tl),
    }
    return tl


def title_of(cover: Cover, empty: otio.schema.Gap) -> otio.schema.Clip:
    """A title as a clip that a generator fills, with everything that is set on it."""
    made = otio.schema.GeneratorReference("Title", "Title", parameters=cover.settings.to_json())
    return otio.schema.Clip(
        cover.title.replace("\n", " / "),
        made,
        empty.source_range,
        metadata={"kovel": {"settings": cover.settings.to_json()}},
    )


def card_of(piece: Piece, empty: otio.schema.Gap) -> otio.core.Composable:
    """A card as a clip that a generator fills; anything else without a picture as a gap."""
    if piece.card is None:
        return empty
    made = otio.schema.GeneratorReference(
        "Card", "SolidColor", parameters={"colour": piece.card.colour, "text": piece.card.text}
    )
    return otio.schema.Clip(piece.card.text or "Card", made, empty.source_range)


def to_edl(story: Story, name: str, project: Project, recordings: dict[int, Recording]) -> str:
    """An edit decision list: V is what is seen (cover over dialogue), A the dialogue that is heard. Record times start
    at the project's.

    The common event layout, one event a line: number, reel, track, C, source in and out, record in and out; the
    clip's name and file follow as comments. Source timecode counts the recording's own frames; where more or fewer
    of them pass than the story has, an M2 line says how many a second. What the layout cannot hold is listed at the
    end.
    """
    plan = make_plan(story, {key: recording.source for key, recording in recordings.items()})
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
    for run in plan.pictures:
        seen = [layer for layer in flat(run.layers) if not layer.image.title]
        top, up = _evened(story, seen[-1].image, run.at), seen[-1].opacity
        middle = run.at
        if len(seen) > 1 and up.step:  # a blend is a cut in its middle; of layers that stand, the upper one is listed
            middle = min(max(run.at + (up.of - 1) // 2 - (up.first - 1), run.at), run.end) if up.of > 2 else run.at
            _shown(rows, run.at, middle, run.image)
        _shown(rows, middle, run.end, top.later(middle - run.at))
    for index, piece in enumerate(story.pieces):
        start, until = (
            story.starts[index] + story.transition(index).split,
            story.starts[index + 1] + story.transition(index + 1).split,
        )
        heard = (
            piece.source in recordings
            and recordings[piece.source].sound
            and piece.take != "picture"
            and audible(story, "dialogue")
        )
        if heard and sounds_on(piece):
            rows.append(("A", start, until, _even(piece, start - story.starts[index])))
    rows = [row for row in rows if row[2] > row[1]]
    for number, (track, at, end, image) in enumerate(sorted(rows, key=lambda r: (r[0] != "V", r[1])), 1):
        into = [format_timecode(project.start_frame + t, rate, drop) for t in (at, end)]
        if image.source not in recordings:
            black = [format_timecode(t, rate, drop) for t in (0, end - at)]
            lines.append(f"{number:03d}  BL       {track}     C        {' '.join((*black, *into))}")
            continue
        recording = recordings[image.source]
        first = recording.first + (own_frame(image, 0, rate, recording.rate) if recording.frames is not None else 0)
        p, q_ = image.speed
        speed = recording.rate.fps * p / q_ if recording.frames is not None else rate.fps
        count = int(abs(end - at) * abs(speed) / rate.fps + Fraction(1, 2))
        first = first if speed >= 0 else max(0, first - count + 1)  # what is used of it; M2 says that it runs backwards
        used = [format_timecode(t, recording.rate, recording.drops) for t in (first, first + count)]
        name_ = reel(image.source)
        lines.append(f"{number:03d}  {name_:<8} {track}     C        {' '.join((*used, *into))}")
        if speed != rate.fps:
            lines.append(f"M2   {name_:<8}       {float(speed):05.1f}                {used[0]}")
        lines += [f"* FROM CLIP NAME: {recording.name}", f"* SOURCE FILE: {Path(recording.path).name}"]
    left = not_in_an_edl(story, project, recordings)
    if left:
        lines += ["", "* NOT IN THIS LIST:", *(f"*   {x}" for x in left)]
    return "\n".join(lines) + "\n"


def _evened(story: Story, image: Image, at: int) -> Image:
    """An image as an event of a list has it: of a retimed cover or piece, at the speed it has on average."""
    ramped = (
        (start, cover)
        for start, end, cover in story.spans
        if start <= at < end and cover.source == image.source and not cover.as_shot
    )
    a, cover = max(ramped, key=lambda r: r[1].lane, default=(0, None))
    if cover is not None:
        return _even(cover, at - a)
    index = story.index_at(at)
    piece = story.pieces[index]
    return (
        _even(piece, at - story.starts[index])
        if piece.source == image.source and piece.source and not piece.clock.as_shot
        else image
    )


def _even(clip: Piece | Cover, k: int) -> Image:
    """A piece or a cover from its frame k on, at the speed it has on average."""
    length = clip.length
    if isinstance(clip, Cover):
        first, used, backwards = clip.start, clip.used, bool(clip.settings["backwards"])
    else:
        clock = clip.clock
        if clock.as_shot or clock.held is not None:
            return Image(
                clip.source, clip.moment(0) + (k if clock.as_shot else 0), speed=(1 if clock.as_shot else 0, 1)
            )
        first, backwards = clip.used[0], clock.backwards
        used = max(1, round(abs(Fraction(clock.passing(clip.end)) - clock.passing(clip.start))))
    return (
        Image(clip.source, first, speed=(-used, length), skip=length - 1 - k)
        if backwards
        else Image(clip.source, first, speed=(used, length), skip=k)
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
    held = (
        "span",
        "natural",
        "steps",
        "held",
        "heard",
        *(() if isinstance(item, Sound) or item.clock.ramp else ("speed",)),
    )
    rows = [setting for setting in SETTINGS.values() if kind_of_item(item) in setting.of and setting.name not in held]
    return [
        f"{setting.label.lower()} {setting.says(v)}"
        for setting in rows
        if (v := story.value(item, setting.name, sources)) != setting.default
    ]


def not_in_an_edl(story: Story, project: Project, recordings: dict[int, Recording]) -> list[str]:
    """What of a story an edit decision list cannot hold, each with its place, in words."""
    at = lambda t: format_timecode(project.start_frame + t, project.rate, project.drop)  # noqa: E731
    name = lambda i: recordings[i].name if i in recordings else "a recording"  # noqa: E731
    sources = {key: recording.source for key, recording in recordings.items()}
    out = []
    for transition in story.transitions:
        start = story.starts[story.index_of(transition.right)] if transition.right else story.length
        if transition.length:
            out.append(f"{at(start)} {kind_of(transition)} of {frames_in_words(transition.length)}: written as a cut")
        if transition.cross:
            out.append(f"{at(start)} crossfade of {frames_in_words(transition.cross)}: written as a cut")
    for start, piece in zip(story.starts, story.pieces, strict=False):
        if piece.card is not None:
            out.append(f"{at(start)} card “{piece.card.text or piece.card.colour}”: written as black")
        out += [f"{at(start)} {name(piece.source or 0)}: {x}" for x in set_on(story, piece, sources)]
    for scope, values in story.settings:
        if values["as_one"]:
            of = [
                start
                for start, piece in zip(story.starts, story.pieces, strict=False)
                if scope == f"group {piece.group}"
            ]
            own = ", ".join(
                f"{SETTINGS[name].label.lower()} {SETTINGS[name].says(values[name])}"
                for name in values
                if name in OF_ONE
            )
            out += [f"{at(of[0])} {len(of)} pieces seen as one picture: {own or 'put together first'}"] if of else []
    out += [
        f"{at(story.at(sound))} {sound.kind} “{name(sound.source)}”, {frames_in_words(sound.length)}"
        for sound in story.sounds
        if audible(story, sound.kind)
    ]
    out += [f"{at(a)} title “{c.title}”".replace("\n", " / ") for a, _, c in story.spans if c.source == TITLE]
    pictures = [(a, cover) for a, _, cover in story.spans if cover.source != TITLE]
    out += [f"{at(a)} {name(cover.source)}: {x}" for a, cover in pictures for x in set_on(story, cover, sources)]
    out += [
        f"{at(a)} natural sound of “{name(c.source)}”" for a, _, c in story.spans if story.value(c, "natural", sources)
    ]
    return sorted(out)
