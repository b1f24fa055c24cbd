"""Edits on sounds laid under or over the dialogue: natural sound, effects, music, voice-over."""

from __future__ import annotations

from dataclasses import replace

from kovel.core.story.consequences import Edit, beyond, check_handles, check_range, frames_of, refuse_locked, settle, source_of
from kovel.core.story.covers import three_points
from kovel.core.story.model import SOUNDS, Refused, Sound, Sources, Story, Tether
from kovel.core.story.offered import edit, entry
from kovel.core.story.settings import NONE, SETTINGS, Value
from kovel.core.story.tethers import faded
from kovel.core.time.timecode import stamp as clock

HALF = -6.0  # dB: about half amplitude, music under talk to start with (common practice)
LANE = "sounds"


@edit(entry("Lay the sound", points="lay"))
def lay_sound(
    story: Story, sources: Sources, source: int, *, at: int | None = None, until: int | None = None, start: int | None = None,
    end: int | None = None, kind: str = "effect", clock_bound: bool = False, level: float | None = None,
) -> Edit:  # fmt: skip
    """Lay a sound by three points. It is tethered to the word under its first sample, or `clock_bound` to the story's
    own time. Music and natural sound start at half amplitude."""
    refuse_locked(story, LANE)
    s = source_of(sources, source)
    if not s.sound:
        raise Refused(f"{s.name} has no sound.")
    if kind not in SOUNDS:
        raise Refused("A sound is natural, effect, music or voice.")
    place, begin, length = three_points(at=at, until=until, start=start, end=end, most=s.length(story.rate))
    check_range(sources, story.rate, source, begin, length)
    if not 0 <= place < story.length:
        raise Refused("A sound must begin within the story." if story.length else "Add a soundbite first.")
    loud = level if level is not None else HALF if kind in ("music", "natural") else 0.0
    tether = Tether(0, place) if clock_bound else story.tether_at(place)
    x = Sound(story.next_id, source, begin, length, tether, 1, kind, settings=NONE.having("level", at_level(loud)))
    return _set(story, sources, x, f"{s.name} laid under {clock(place, story.rate)}, {frames_of(length)}", playhead=place)


def at_level(level: float) -> Value:
    """A level as it is kept, or `Refused`."""
    value = SETTINGS["level"].of_kind(level)
    if value is None:
        raise Refused(f"A level lies between {SETTINGS['level'].between}.")
    return value


def _set(story: Story, sources: Sources, x: Sound, did: str, playhead: int | None = None) -> Edit:
    draft = replace(
        story,
        sounds=(*(y for y in story.sounds if y.id != x.id), x),
        loose_sounds=tuple(y for y in story.loose_sounds if y.id != x.id),
        next_id=max(story.next_id, x.id + 1),
    )
    new, report = settle(story, draft, sources, did, made=(x.id,), playhead=playhead)
    over = new.at(new.sound(x.id)) + x.length - new.length
    return new, report.with_notes([beyond(over, "talk", "heard")] if over > 0 else [])


def _in_place(story: Story, sound: int) -> Sound:
    x = story.sound(sound)
    if x in story.loose_sounds:
        raise Refused("That sound is loose. Lay it under a word first.")
    refuse_locked(story, LANE)
    return x


@edit(
    entry("In edge of the sound: LENGTH", "[", typed="delta", default="1f", sound="sound", edge="=in", delta="typed"),
    entry("Out edge of the sound: LENGTH", "]", typed="delta", default="1f", sound="sound", edge="=out", delta="typed"),
)
def trim_sound(story: Story, sources: Sources, sound: int, edge: str, delta: int) -> Edit:
    """Move a sound's in or out edge by `delta` frames; what is heard stays in step with the dialogue."""
    x = _in_place(story, sound)
    s = source_of(sources, x.source)
    if delta == 0:
        raise Refused("The edge is already there.")
    if edge == "out":
        new = replace(x, length=x.length + delta)
    elif edge == "in":
        at = story.at(x) + delta
        if not 0 <= at < story.length:
            raise Refused("A sound must begin within the story.")
        tether = Tether(0, at) if x.tether.piece == 0 else story.tether_at(at)
        new = replace(x, start=x.start + delta, length=x.length - delta, tether=tether)
    else:
        raise Refused("An edge is either in or out.")
    if new.length < 1:
        raise Refused(f"That would leave nothing of the sound: it is {frames_of(x.length)} long.")
    check_handles(s, story.rate, (x.start, x.end), (new.start, new.end))
    return _set(story, sources, faded(new), f"{s.name}: {edge} point {frames_of(delta)} {'later' if delta > 0 else 'earlier'}")


@edit(
    entry("Sound to the playhead", "M", sound="sound", at="playhead"),
    entry("Sound keeps to the story's clock", sound="sound", at="begin", clock_bound=True),
    entry("Sound keeps to its word", sound="sound", at="begin", clock_bound=False),
)
def move_sound(story: Story, sources: Sources, sound: int, at: int, clock_bound: bool | None = None) -> Edit:
    """Put a sound, with the others of its group, so that it begins at story frame `at`."""
    refuse_locked(story, LANE)
    x = story.sound(sound)
    if not 0 <= at < story.length:
        raise Refused("A sound must begin within the story.")
    bound = clock_bound if clock_bound is not None else x.tether.piece == 0
    now = story.at_of(x.tether)
    delta = at - now if now is not None else 0
    draft = story
    for y in (*story.sounds, *story.loose_sounds):
        if y.id == sound:
            place, free = at, bound
        elif x.group and y.group == x.group and story.at_of(y.tether) is not None:
            place, free = story.at(y) + delta, y.tether.piece == 0
            if not 0 <= place < story.length:
                raise Refused("Another sound of the group would begin outside the story.")
        else:
            continue
        z = replace(y, tether=Tether(0, place) if free else story.tether_at(place))
        draft = replace(
            draft,
            sounds=(*(o for o in draft.sounds if o.id != y.id), z),
            loose_sounds=tuple(o for o in draft.loose_sounds if o.id != y.id),
        )
    if (
        sorted(draft.sounds, key=lambda o: o.id) == sorted(story.sounds, key=lambda o: o.id)
        and draft.loose_sounds == story.loose_sounds
    ):
        raise Refused("It is already there.")
    name = source_of(sources, x.source).name
    return settle(story, draft, sources, f"{name} now begins at {clock(at, story.rate)}", made=(sound,), playhead=at)


@edit(entry("Take the sound away", "X", sound="sound"))
def remove_sound(story: Story, sources: Sources, sound: int) -> Edit:
    """Take a sound away, from its place or from the tray."""
    refuse_locked(story, LANE)
    x = story.sound(sound)
    draft = replace(
        story,
        sounds=tuple(y for y in story.sounds if y.id != sound),
        loose_sounds=tuple(y for y in story.loose_sounds if y.id != sound),
    )
    return settle(story, draft, sources, f"{sources[x.source].name if x.source in sources else 'The sound'} taken off")
