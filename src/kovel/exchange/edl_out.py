"""Stories out as an edit decision list, and what such a list cannot hold.

    001  MARENA   V     C        01:00:04:00 01:00:06:00 00:00:00:00 00:00:02:00
    M2   MARENA       050.0                01:00:04:00
    * FROM CLIP NAME: Maren

V is what is seen (cover over dialogue), A the dialogue that is heard. Source timecode counts the recording's own
frames, from its own start timecode where it has one.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import NamedTuple

from kovel.core.plan.layers import Image, Run, flat, own_frame
from kovel.core.plan.plan import make_plan
from kovel.core.plan.sounds import audible, sounds_on
from kovel.core.story.edit_rules import frames_in_words
from kovel.core.story.fitted_transitions import kind_of
from kovel.core.story.model import TITLE, Cover, Item, Piece, Sound, Sources, Story, Transition
from kovel.core.story.model import kind_of as kind_of_item
from kovel.core.story.settings import OF_ONE, SETTINGS
from kovel.core.time.timecode import format_timecode
from kovel.exchange.uses import reel_of
from kovel.store.projects import Project
from kovel.store.recordings import Recording

Recordings = dict[int, Recording]


class _Event(NamedTuple):
    """One event: what track V or A shows or plays at story frames [at, end)."""

    track: str
    at: int
    end: int
    image: Image


@dataclass
class _Reels:
    """The names of reels: of at most eight letters, each for one recording."""

    recordings: Recordings
    names: dict[int, str] = field(default_factory=dict)

    def of(self, source: int) -> str:
        """The reel of a recording: roll and camera, numbered where another has that name already."""
        if source not in self.names:
            reel_name = reel_of(self.recordings[source])[:8] or "REEL"
            self.names[source] = reel_name if reel_name not in self.names.values() else f"{reel_name[:5]}{source:03d}"
        return self.names[source]


def to_edl(story: Story, name: str, project: Project, recordings: Recordings) -> str:
    """An edit decision list. Record times start at the project's.

    The common event layout, one event a line: number, reel, track, C, source in and out, record in and out; the
    clip's name and file follow as comments. Where more or fewer frames pass than the story has, an M2 line says how
    many a second. What the layout cannot hold is listed at the end.
    """
    reels = _Reels(recordings)
    lines = [f"TITLE: {project.name} - {name}", f"FCM: {'DROP FRAME' if project.drop else 'NON-DROP FRAME'}", ""]
    events = [*_seen(story, recordings), *_heard(story, recordings)]
    events.sort(key=lambda event: (event.track != "V", event.at))
    for number, event in enumerate((event for event in events if event.end > event.at), 1):
        lines += _event_lines(number, event, project, recordings, reels)
    if left_lines := not_in_an_edl(story, project, recordings):
        lines += ["", "* NOT IN THIS LIST:", *(f"*   {left_line}" for left_line in left_lines)]
    return "\n".join(lines) + "\n"


def _seen(story: Story, recordings: Recordings) -> list[_Event]:
    """The events of the picture: of a blend the cut in its middle, of layers that stand the upper one."""
    plan = make_plan(story, {key: recording.source for key, recording in recordings.items()})
    events: list[_Event] = []
    for run in plan.pictures:
        layers = [layer for layer in flat(run.layers) if not layer.image.title]
        top = _evened(story, layers[-1].image, run.at)
        middle = _middle(run) if len(layers) > 1 and layers[-1].opacity.step else run.at
        _shown(events, run.at, middle, run.image)
        _shown(events, middle, run.end, top.later(middle - run.at))
    return events


def _middle(run: Run) -> int:
    """The story frame in the middle of the blend that a run is a part of, as far as it lies in it."""
    blend = next(layer for layer in reversed(list(flat(run.layers))) if not layer.image.title).opacity
    if blend.of <= 2:
        return run.at
    return min(max(run.at + (blend.of - 1) // 2 - (blend.first - 1), run.at), run.end)


def _heard(story: Story, recordings: Recordings) -> list[_Event]:
    """The events of the dialogue that is heard."""
    if not audible(story, "dialogue"):
        return []
    events = []
    for index, piece in enumerate(story.pieces):
        recording = recordings.get(piece.source or 0)
        if recording is not None and recording.sound and piece.take != "picture" and sounds_on(piece):
            begin, until = story.sound_span(index)
            events.append(_Event("A", begin, until, _even(piece, begin - story.starts[index])))
    return events


def _event_lines(number: int, event: _Event, project: Project, recordings: Recordings, reels: _Reels) -> list[str]:
    """The lines of one event."""
    frame_rate, drop = project.rate, project.drop
    record = [format_timecode(project.start_frame + frame, frame_rate, drop) for frame in (event.at, event.end)]
    recording = recordings.get(event.image.source or 0)
    if recording is None:
        black = [format_timecode(frame, frame_rate, drop) for frame in (0, event.end - event.at)]
        return [f"{number:03d}  BL       {event.track}     C        {' '.join((*black, *record))}"]
    moves = recording.frames is not None
    first = recording.first + (own_frame(event.image, 0, frame_rate, recording.rate) if moves else 0)
    speed = recording.rate.fps * Fraction(*event.image.speed) if moves else frame_rate.fps
    count = int(abs(event.end - event.at) * abs(speed) / frame_rate.fps + Fraction(1, 2))
    first = first if speed >= 0 else max(0, first - count + 1)  # what is used of it; M2 says that it runs backwards
    used = [format_timecode(frame, recording.rate, recording.drops) for frame in (first, first + count)]
    reel = reels.of(recording.id)
    lines = [f"{number:03d}  {reel:<8} {event.track}     C        {' '.join((*used, *record))}"]
    if speed != frame_rate.fps:
        lines.append(f"M2   {reel:<8}       {float(speed):05.1f}                {used[0]}")
    return [*lines, f"* FROM CLIP NAME: {recording.name}", f"* SOURCE FILE: {Path(recording.path).name}"]


def _shown(events: list[_Event], at: int, end: int, image: Image) -> None:
    """One more event of what is seen; none where the one before only runs on (under a title, into a dissolve)."""
    if end <= at:
        return
    last = events[-1] if events else None
    if last and last.end == at and last.image.later(at - last.at) == image:
        events[-1] = last._replace(end=end)
    else:
        events.append(_Event("V", at, end, image))


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
    shown_settings = [
        setting for setting in SETTINGS.values() if kind_of_item(item) in setting.of and setting.name not in held
    ]
    return [
        f"{setting.label.lower()} {setting.says(v)}"
        for setting in shown_settings
        if (v := story.value(item, setting.name, sources)) != setting.default
    ]


@dataclass(frozen=True)
class _Absent:
    """What of a story has no place in an edit decision list; each method lists one kind, with its place."""

    story: Story
    project: Project
    recordings: Recordings

    @property
    def sources(self) -> Sources:
        """What the story needs to know of its recordings."""
        return {key: recording.source for key, recording in self.recordings.items()}

    def at(self, frame: int) -> str:
        """A story frame in the record's timecode."""
        return format_timecode(self.project.start_frame + frame, self.project.rate, self.project.drop)

    def name(self, source: int | None) -> str:
        """A recording's name."""
        recording = self.recordings.get(source or 0)
        return recording.name if recording else "a recording"

    def transitions(self) -> list[str]:
        """Blends and crossfades, which become cuts."""
        return [
            transition_row for transition in self.story.transitions for transition_row in self.transition(transition)
        ]

    def transition(self, transition: Transition) -> list[str]:
        """The blend and the crossfade of one seam."""
        story = self.story
        start = story.starts[story.index_of(transition.right)] if transition.right else story.length
        told_lines = []
        if transition.length:
            told_blend = f"{kind_of(transition)} of {frames_in_words(transition.length)}"
            told_lines.append(f"{self.at(start)} {told_blend}: written as a cut")
        if transition.cross:
            told_lines.append(f"{self.at(start)} crossfade of {frames_in_words(transition.cross)}: written as a cut")
        return told_lines

    def pieces(self) -> list[str]:
        """Cards, and what is set on pieces."""
        told_lines = []
        for start, piece in zip(self.story.starts, self.story.pieces, strict=False):
            if piece.card is not None:
                told_lines.append(f"{self.at(start)} card “{piece.card.text or piece.card.colour}”: written as black")
            told_settings = set_on(self.story, piece, self.sources)
            told_lines += [f"{self.at(start)} {self.name(piece.source)}: {told_line}" for told_line in told_settings]
        return told_lines

    def groups(self) -> list[str]:
        """Groups that are seen as one picture."""
        told_lines = []
        for scope, values in self.story.settings:
            starts = [
                start
                for start, piece in zip(self.story.starts, self.story.pieces, strict=False)
                if scope == f"group {piece.group}"
            ]
            if values["as_one"] and starts:
                own_names = [name for name in values if name in OF_ONE]
                told_settings = ", ".join(
                    f"{SETTINGS[name].label.lower()} {SETTINGS[name].says(values[name])}" for name in own_names
                )
                told_settings = told_settings or "put together first"
                told_lines.append(f"{self.at(starts[0])} {len(starts)} pieces seen as one picture: {told_settings}")
        return told_lines

    def sounds(self) -> list[str]:
        """Sounds beside the dialogue, and natural sound of covers."""
        story = self.story
        told_lines = [
            f"{self.at(story.at(sound))} {sound.kind} “{self.name(sound.source)}”, {frames_in_words(sound.length)}"
            for sound in story.sounds
            if audible(story, sound.kind)
        ]
        return told_lines + [
            f"{self.at(at)} natural sound of “{self.name(cover.source)}”"
            for at, _, cover in story.spans
            if story.value(cover, "natural", self.sources)
        ]

    def covers(self) -> list[str]:
        """Titles, and what is set on covers."""
        told_lines = []
        for at, _, cover in self.story.spans:
            if cover.source == TITLE:
                told_lines.append(f"{self.at(at)} title “{cover.title}”".replace("\n", " / "))
            else:
                told_settings = set_on(self.story, cover, self.sources)
                told_lines += [f"{self.at(at)} {self.name(cover.source)}: {told_line}" for told_line in told_settings]
        return told_lines


def not_in_an_edl(story: Story, project: Project, recordings: Recordings) -> list[str]:
    """What of a story an edit decision list cannot hold, each with its place, in words."""
    absent = _Absent(story, project, recordings)
    kinds: tuple[Callable[[], list[str]], ...] = (
        absent.transitions,
        absent.pieces,
        absent.groups,
        absent.sounds,
        absent.covers,
    )
    return sorted(told_line for kind in kinds for told_line in kind())
