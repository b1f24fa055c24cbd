"""Edits on settings: set a value at a scope, take it back to what the wider scope says, copy from here to there."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from difflib import get_close_matches
from typing import Any

from kovel.core.story.covers import told_of_sound, voiced
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import (
    DIALOGUE,
    Edit,
    capitalised,
    frames_in_words,
    lane_key,
    name_of,
    refuse_locked,
    source_of,
)
from kovel.core.story.levels_told import level_told
from kovel.core.story.model import TITLE, Cover, Item, Piece, Refused, Source, Sources, Story, kind_of
from kovel.core.story.pace import run_backwards
from kovel.core.story.settings import NONE, RETIMED, SETTINGS, Setting, Value, Values, value_over_scopes
from kovel.core.story.settling import settle

FADES = (("fade_in", "fade_out"), ("appear", "leave"))
To = int | list[int] | str  # one thing, several, or a wider scope: "story", "group 5"


def on_recording(source: Source, setting: str, value: object) -> Values:
    """The settings of a recording, in every story of its project, with one set, or (None) taken back to its default."""
    this_setting = _setting(setting)
    if this_setting.meets == "here":
        raise Refused("A recording inherits nothing: there is nothing that its own settings would replace.")
    if not this_setting.wide or this_setting.of in (("story",), ("title",), ("group",)):
        where = WHERE.get(this_setting.of) or ("titles" if this_setting.of == ("title",) else "one thing")
        raise Refused(f"{this_setting.label} is set on {where}, not on a recording.")
    if value is None:
        new_values = source.settings.without(setting)
    else:
        if not (source.picture if this_setting.needs == "picture" else source.sound):
            raise Refused(f"{source.name} has no {this_setting.needs}.")
        now = this_setting.as_kept(value)
        if now is None:
            raise Refused(f"{this_setting.label} is set to {this_setting.between}.")
        if setting == "channels" and now != this_setting.default and source.channels < 2:
            raise Refused(f"The sound of {source.name} has one channel: there is no other microphone to choose.")
        new_values = source.settings.with_value(setting, now)
    if new_values == source.settings:
        raise Refused("It is like that already.")
    return new_values


@edit(
    entry(
        "Punch in: PERCENT",
        also="zoom, enlarge, crop",
        typed="number",
        default="125",
        to="all chosen",
        setting="=zoom",
        value="typed",
    ),
    entry(
        "Opacity of the cover: PERCENT",
        also="see-through, transparency",
        typed="number",
        default="50",
        to="cover",
        setting="=opacity",
        value="typed",
    ),
    entry(
        "Zoom: PERCENT",
        also="crop, scale, enlarge",
        typed="number",
        default="100",
        to="all chosen",
        setting="=zoom",
        value="typed",
    ),
    entry("Across: PERCENT", typed="number", default="50", to="all chosen", setting="=across", value="typed"),
    entry("Down: PERCENT", typed="number", default="40", to="all chosen", setting="=down", value="typed"),
    entry("Turn: DEGREES", also="rotate", typed="number", default="0", to="all chosen", setting="=turn", value="typed"),
    entry("Title says: TEXT", typed="text", to="cover", setting="=text", value="typed"),
    entry("Frames of slow motion: repeated", to="all chosen", setting="=between", value="=repeated"),
    entry("Frames of slow motion: blended", to="all chosen", setting="=between", value="=blended"),
    entry("Sound when retimed: its pitch kept", to="all chosen", setting="=heard", value="=pitch kept"),
    entry("Sound when retimed: with the speed", to="all chosen", setting="=heard", value="=with the speed"),
    entry("Sound when retimed: not heard", to="all chosen", setting="=heard", value="=not heard"),
    entry("Mirror left and right", also="flip", to="all chosen", setting="=flip", value=True),
    entry("Mirrored no more", to="all chosen", setting="=flip", value=False),
    entry("Fill the picture's shape", to="all chosen", setting="=fit", value="=filled"),
    entry("Whole, with bars", to="all chosen", setting="=fit", value="=whole"),
    entry("Whole, over its blurred enlargement", to="all chosen", setting="=fit", value="=blurred"),
    entry(
        "Place in the picture: NAME",
        typed="text",
        default="left half",
        to="all chosen",
        setting="=place",
        value="typed",
    ),
    entry("Border: PERCENT", typed="number", default="0.5", to="all chosen", setting="=border", value="typed"),
    entry(
        "Brightness: STOPS",
        also="brighten, darken, exposure, lighter",
        typed="number",
        default="0.3",
        to="all chosen",
        setting="=brightness",
        value="typed",
    ),
    entry(
        "Contrast: PERCENT",
        also="punchier, grade",
        typed="number",
        default="10",
        to="all chosen",
        setting="=contrast",
        value="typed",
    ),
    entry(
        "Saturation: PERCENT",
        also="colour, desaturate, black and white",
        typed="number",
        default="-20",
        to="all chosen",
        setting="=saturation",
        value="typed",
    ),
    entry(
        "Warmth: PERCENT",
        also="colour temperature, white balance, cooler",
        typed="number",
        default="10",
        to="all chosen",
        setting="=warmth",
        value="typed",
    ),
    entry("Tint: PERCENT", typed="number", default="0", to="all chosen", setting="=tint", value="typed"),
    entry("Blacks: PERCENT", typed="number", default="0", to="all chosen", setting="=blacks", value="typed"),
    entry("Whites: PERCENT", typed="number", default="0", to="all chosen", setting="=whites", value="typed"),
    entry("Night: PERCENT", typed="number", default="60", to="all chosen", setting="=night", value="typed"),
    entry("Cover comes in over: LENGTH", typed="length", default="12f", to="cover", setting="=appear", value="typed"),
    entry("Cover goes out over: LENGTH", typed="length", default="12f", to="cover", setting="=leave", value="typed"),
    entry("Cover comes and goes by way of black", to="cover", setting="=through", value="=black"),
    entry("Cover comes and goes over what lies under it", to="cover", setting="=through", value="=what lies under it"),
    entry(
        "Shape of the story: 16:9, 9:16, 1:1, 4:5",
        typed="text",
        default="9:16",
        to="=story",
        setting="=shape",
        value="typed",
    ),
    entry("Mute what is chosen", also="silence", to="all chosen", setting="=mute", value=True),
    entry("Let what is chosen be heard", to="all chosen", setting="=mute", value=False),
    entry(
        "Balance: LEFT -100 to RIGHT 100",
        also="pan",
        typed="number",
        default="0",
        to="all chosen",
        setting="=balance",
        value="typed",
    ),
    entry(
        "Microphone: as recorded, left, right, both as one",
        typed="text",
        to="all chosen",
        setting="=channels",
        value="typed",
    ),
    entry("Fades straight", to="all chosen", setting="=fade", value="=straight"),
    entry("Fades at equal power", to="all chosen", setting="=fade", value="=equal power"),
    entry(
        "Loudness aimed at: LUFS",
        also="normalise, target",
        typed="number",
        default="-23",
        to="=story",
        setting="=target",
        value="typed",
    ),
    entry(
        "Level: DECIBELS",
        also="volume, gain",
        typed="number",
        default="-6",
        to="all chosen",
        setting="=level",
        value="typed",
    ),
    entry(
        "Fade in: LENGTH",
        also="fade up",
        typed="length",
        default="1s",
        to="all chosen",
        setting="=fade_in",
        value="typed",
    ),
    entry(
        "Fade out: LENGTH",
        also="fade down",
        typed="length",
        default="2s",
        to="all chosen",
        setting="=fade_out",
        value="typed",
    ),
    entry("Letters filled with the cover below", to="cover", setting="=filled", value="=the cover below"),
    entry("Letters filled with their colour", to="cover", setting="=filled", value="=their colour"),
    entry("Cover's own sound on", also="natural sound, nat sound", to="cover", setting="=natural", value=True),
    entry("Cover's own sound off", to="cover", setting="=natural", value=False),
    entry("Level of the whole story: DECIBELS", typed="number", to="=story", setting="=level", value="typed"),
)
def set_value(
    story: Story, sources: Sources, to: To, setting: str, value: bool | int | float | str | list[list[float]]
) -> Edit:
    """Set one setting of a piece, a cover, a sound, of several, of a group ("group 5"), of every use of a recording in
    this story ("recording 3") or of the whole "story".

    story        level 0                     ->   level +2 dB
    piece   | A  level -1 dB | B       |     ->   | A at +1 dB | B at +2 dB |
    """
    this_setting = _setting(setting)
    if setting in RETIMED:
        raise Refused("How fast a shot runs is set by retiming it.")
    if setting == "backwards" and isinstance(value, bool) and not isinstance(to, str):
        return run_backwards(story, sources, [to] if isinstance(to, int) else to, value)
    now = this_setting.as_kept(value)
    if now is None:
        raise Refused(f"{this_setting.label} is set to {this_setting.between}.")
    if setting == "text" and not now:
        raise Refused("Type what the title says.")
    return _change(
        story,
        sources,
        to,
        this_setting,
        lambda wide, own: own.with_value(setting, now, keep=_stands_against(this_setting, wide, now)),
        now,
    )


@edit(entry("Setting as the wider scope says: NAME", typed="text", to="all chosen", setting="typed"))
def reset_value(story: Story, sources: Sources, to: To, setting: str) -> Edit:
    """Take a setting back to what the wider scope says."""
    this_setting = _setting(setting)
    if setting in RETIMED:
        raise Refused("A shot is back at its own speed when its speed is 100 %.")
    if setting == "backwards" and not isinstance(to, str):
        return set_value(story, sources, to, setting, False)
    if setting == "text":
        raise Refused("A title says something: type another text, or take it off.")
    return _change(story, sources, to, this_setting, lambda wide, own: own.without(setting), None)


@edit()
def set_several(story: Story, sources: Sources, rows: list[list[Any]], did: str = "") -> Edit:
    """Set several settings in one edit, each as [to, setting, value]: what one action worked out, undone in one step.

    `to` is one thing or "story"; a value of None takes a setting back. Those that are like that already are passed
    over.
    """
    if not 0 < len(rows) <= 20_000:
        raise Refused("There is nothing to set.")
    new, changed = story, 0
    for setting_row in rows:
        if len(setting_row) != 3 or not isinstance(setting_row[0], (int, str)) or not isinstance(setting_row[1], str):
            raise Refused("Each row is what it is set on, the setting, and its value.")
        to, name, value = setting_row
        try:
            new = (reset_value(new, sources, to, name) if value is None else set_value(new, sources, to, name, value))[
                0
            ]
            changed += 1
        except _Same:
            continue
    if not changed:
        raise Refused("They are set like that already.")
    return settle(story, new, sources, did[:200] or f"{changed} settings")


@edit()
def copy_values(story: Story, sources: Sources, source: int, to: list[int] | str, settings: list[str]) -> Edit:
    """Give others the settings that this one has: to several things, to its "group 5" or to the whole "story".

    A  zoom 120 %  level -3 dB      copy zoom to B, C   ->   B zoom 120 %   C zoom 120 %
    """
    item = story.item(source)
    if not settings:
        raise Refused("Choose which settings to copy.")
    new, summaries = story, []
    for name in dict.fromkeys(settings):
        setting = _setting(name)
        if kind_of(item) not in setting.of or name in (*RETIMED, "backwards"):
            raise Refused(f"{setting.label} is nothing that this can give to others.")
        value = item.settings[name]

        def as_given(wide: Value, own_values: Values, setting: Setting = setting, value: Value = value) -> Values:
            return own_values.with_value(setting.name, value, keep=_stands_against(setting, wide, value))

        try:
            new, _ = _change(new, sources, to, setting, as_given, value)
        except _Same:
            continue
        summaries.append(f"{setting.label.lower()} {setting.says(value)}")
    if not summaries:
        raise Refused("They are set like that already.")
    where = f"{len(to)} more" if isinstance(to, list) else scope_name(sources, to)
    return settle(story, new, sources, f"{summaries[0][0].upper()}{', '.join(summaries)[1:]} for {where}")


WHERE: dict[tuple[str, ...], str] = {("story",): "the story", ("recording",): "a recording", ("group",): "a group"}


class _Same(Refused):
    """Nothing would change."""


def _setting(name: str) -> Setting:
    if name not in SETTINGS:
        like = get_close_matches(name, SETTINGS, 3, 0.5)
        raise Refused(
            f"There is no setting called {name[:40]}." + (f" The nearest names: {', '.join(like)}." if like else "")
        )
    return SETTINGS[name]


def _stands_against(setting: Setting, wide: Value, value: Value) -> bool:
    """Whether a value has to be kept although it is the default: a wider scope says something else."""
    return setting.meets == "replaces" and wide != value


Change = Callable[[Value, Values], Values]  # (what the wider scopes say, the values there) -> the values then


def _change(story: Story, sources: Sources, to: To, setting: Setting, change: Change, value: Value | None) -> Edit:
    if isinstance(to, str):
        return _change_wide(story, sources, to, setting, change, value)
    items = _that_can(story, sources, [to] if isinstance(to, int) else list(dict.fromkeys(to)), setting, value)
    changed: dict[int, Item] = {}
    for clip in items:
        new = _with_change(story, sources, clip, setting, change, value)
        if new != clip:
            changed[clip.id] = new
    if not changed:
        raise _Same("It is like that already." if len(items) == 1 else "They are like that already.")
    draft = story.with_items(changed)
    at = min(_begins(story, clip) or 0 for clip in items)
    summary = _did_on(draft, sources, items, setting, value)
    new_story, report = settle(story, draft, sources, summary, made=tuple(clip.id for clip in items), playhead=at)
    if setting.name not in ("natural", "backwards", "heard"):
        return new_story, report
    seen = [clip for clip in changed.values() if isinstance(clip, (Piece, Cover))]
    return new_story, report.with_notes(
        dict.fromkeys(told_pace for clip in seen for told_pace in told_of_sound(new_story, sources, clip))
    )


def _with_several_channels(items: Iterable[Item], sources: Sources) -> list[Item]:
    several = [clip for clip in items if clip.source is not None and sources[clip.source].channels > 1]
    if not several:
        raise Refused("Its sound has one channel: there is no other microphone to choose.")
    return several


def _did_on(draft_story: Story, sources: Sources, items: Sequence[Item], setting: Setting, value: Value | None) -> str:
    """What was done to these in the draft: of one that was made louder, what its level is now."""
    what = name_of(sources, items[0]) if len(items) == 1 else f"{len(items)} clips"
    if setting.name in ("level", "level_alone") and len(items) == 1:
        return f"{what}: level {level_told(draft_story, sources, draft_story.item(items[0].id))}"
    return _did(what, setting, value)


def _that_can(story: Story, sources: Sources, ids: list[int], setting: Setting, value: Value | None) -> list[Item]:
    """Those of the clips that a setting can be set on; refused where none can."""
    if not ids:
        raise Refused("Choose something first.")
    of_kind = [clip for clip in (story.item(item_id) for item_id in ids) if kind_of(clip) in setting.of]
    if not of_kind:
        kinds = WHERE.get(setting.of) or " and ".join(f"{kind}s" for kind in setting.of)
        raise Refused(f"{setting.label} is set on {kinds}.")
    items = [clip for clip in of_kind if _has(clip, setting, sources)]
    if setting.name == "channels" and value not in (None, setting.default):
        items = _with_several_channels(items, sources)
    if not items:
        what = "picture" if setting.needs == "picture" else "sound of its own"
        raise Refused(f"That has no {what}." if len(ids) == 1 else f"None of them has a {what}.")
    return items


def _lane_of(clip: Item) -> str:
    """The lane that a lock on a clip is looked up by."""
    if isinstance(clip, Piece):
        return DIALOGUE
    return lane_key(clip.lane) if isinstance(clip, Cover) else "sounds"


def _with_change(
    story: Story, sources: Sources, clip: Item, setting: Setting, change: Change, value: Value | None
) -> Item:
    """A clip with its values changed; refused where it is loose or locked, and where its fades would not fit."""
    if _begins(story, clip) is None:
        raise Refused("That is loose: its word is not in the story. Lay it first.")
    refuse_locked(story, _lane_of(clip))
    wide = value_over_scopes(setting.name, story.scopes(clip, sources)[:-1])
    new = replace(clip, settings=change(wide, clip.settings))
    if isinstance(new, Cover) and setting.name == "natural" and value is True:
        new = voiced(story, sources, new)
    if any(setting.name in pair and sum(new.settings[name] for name in pair) > new.length for pair in FADES):
        raise Refused(f"The fades are longer than the {kind_of(new)}: it is {frames_in_words(new.length)} long.")
    return new


def _change_wide(
    story: Story, sources: Sources, scope: str, setting: Setting, change: Change, value: Value | None
) -> Edit:
    items: list[Item] = [*story.pieces, *story.covers, *story.sounds]
    used = {f"recording {clip.source}" for clip in items if clip.source in sources}
    if scope != "story" and scope not in used and scope not in _groups(story):
        raise Refused(f"There is no {scope[:40]} in this story.")
    _refuse_scope(story, sources, scope, setting)
    recording = sources[int(scope.split()[1])] if scope in used else None
    if recording is not None:
        _refuse_recording(recording, setting, value)
    if isinstance(value, tuple) and setting.of != ("story",):
        raise Refused(
            f"A line goes with one thing. On {scope_name(sources, scope)} {setting.label.lower()} is one value."
        )
    now = dict(story.settings)
    was = now.get(scope, NONE)
    wider = [recording.settings] if recording else []
    wide = value_over_scopes(setting.name, [*wider, now.get("story", NONE)]) if scope != "story" else setting.default
    new = change(wide, was)
    if new == was:
        raise _Same("It is like that already.")
    scoped_values = tuple(sorted((name, values) for name, values in (now | {scope: new}).items() if values))
    summary = _did(capitalised(scope_name(sources, scope)), setting, value)
    return settle(story, replace(story, settings=scoped_values), sources, summary)


def _groups(story: Story) -> set[str]:
    """The scopes of the story's groups."""
    return {f"group {clip.group}" for clip in story.clips if clip.group}


def _refuse_scope(story: Story, sources: Sources, scope: str, setting: Setting) -> None:
    """Refuses a setting at a scope that is too wide, or not the one that it is set on."""
    if not setting.wide or setting.of == ("recording",):
        where = "one thing" if not setting.wide else "a recording in every story (kovel set)"
        raise Refused(f"{setting.label} is set on {where}, not on {scope_name(sources, scope)}.")
    if setting.of in (("story",), ("group",)) and scope.split()[0] != setting.of[0]:
        raise Refused(f"{setting.label} is set on {WHERE[setting.of]}.")
    of_group = (piece for piece in story.pieces if scope == f"group {piece.group}")
    if setting.of == ("group",) and not any(_has(piece, setting, sources) for piece in of_group):
        raise Refused("None of that group has a picture.")


def _refuse_recording(recording: Source, setting: Setting, value: Value | None) -> None:
    """Refuses a setting on all of a recording that has nothing for it."""
    if setting.of == ("title",):
        raise Refused(f"{setting.label} is set on titles, not on a recording.")
    if not (recording.picture if setting.needs == "picture" else recording.sound):
        raise Refused(f"{recording.name} has no {setting.needs}.")
    if setting.name == "channels" and value not in (None, setting.default) and recording.channels < 2:
        raise Refused(f"The sound of {recording.name} has one channel: there is no other microphone to choose.")


def scope_name(sources: Sources, scope: str) -> str:
    """What a wider scope is called: `the story`, `the group`, `Maren, camera A in this story`."""
    kind, _, number = scope.partition(" ")
    return f"{sources[int(number)].name} in this story" if kind == "recording" else f"the {kind}"


def _did(what: str, setting: Setting, value: Value | None) -> str:
    label = setting.label[0].lower() + setting.label[1:]
    return f"{what}: {label} as the wider scope says" if value is None else f"{what}: {label} {setting.says(value)}"


def _begins(story: Story, item: Item) -> int | None:
    """Story frame at which something begins, None for what is loose."""
    return story.starts[story.index_of(item.id)] if isinstance(item, Piece) else story.at_of(item.tether)


def _has(item: Item, setting: Setting, sources: Sources) -> bool:
    """Whether an item's recording has what a setting is about."""
    source = (
        source_of(sources, TITLE)
        if item.source == TITLE
        else sources.get(item.source)
        if item.source is not None
        else None
    )
    if not setting.needs:
        return True
    if source is None or (isinstance(item, Piece) and item.take not in ("both", setting.needs)):
        return False
    return source.picture if setting.needs == "picture" else source.sound
