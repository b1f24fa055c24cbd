"""What is set on what is chosen, as the panels of the Picture and the Sound room show it, at the scope that is
picked."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kovel.core.plan.sounds import PICKED
from kovel.core.story.levels_told import level_told
from kovel.core.story.model import TITLE, Cover, Item, Piece, Sound, Sources, Story, kind_of, scope_keys
from kovel.core.story.settings import (
    ALONE,
    FRAMING,
    LAYERING,
    NONE,
    SETTINGS,
    TITLE_STYLE,
    Line,
    Value,
    Values,
    reaching,
    value_over_scopes,
)


@dataclass(frozen=True, slots=True)
class Field:
    """One setting as the panel shows it: how it is typed, what holds, and where that comes from."""

    name: str
    label: str
    how: str  # number, switch, choice, text, colour, replaces (a switch that says itself what it does)
    value: str
    on: bool
    unit: str
    low: float
    high: float
    step: float
    choices: tuple[str, ...]
    own: bool
    comes: str  # from which wider scope, in words
    heard: tuple[
        tuple[str, str], ...
    ] = ()  # what can be heard before it is chosen: its name, and how left and right come of it
    total: str = ""  # what holds with all that is inherited, where that adds up


TITLES = TITLE_STYLE
SEEN = ("as_one", *FRAMING, *LAYERING)
HEARD = tuple(
    name
    for name, setting in SETTINGS.items()
    if setting.family == "level" and setting.line != "only" and name != "natural"
)


def fields(
    names: tuple[str, ...],
    own: Mapping[str, Any] | Any,
    read: Callable[[str], Value],
    comes: Callable[[str], str],
    named: Mapping[str, tuple[str, ...]] = {},
    total: Callable[[str], str] = lambda name: "",
) -> list[Field]:
    """The panel's fields for these settings. `own` says what is set here, `read` what holds; `named`: tables and
    fonts there are."""
    drawn_fields = []
    for name in names:
        setting = SETTINGS[name]
        v = read(name)
        how = (
            "switch"
            if isinstance(setting.default, bool)
            else "choice"
            if setting.choices or setting.named
            else "number"
        )
        how = setting.named if setting.named in ("text", "colour") else "replaces" if setting.meets == "here" else how
        text = (
            _ends(name, v)
            if isinstance(v, tuple)
            else f"{v:g}"
            if isinstance(v, (int, float)) and how == "number"
            else str(v)
        )
        heard = (
            tuple(
                (cleaned_side[0].upper(), str(list(PICKED[cleaned_side])))
                for cleaned_side in ("left", "right", "both as one")
            )
            if name == "channels"
            else ()
        )
        drawn_fields.append(
            Field(
                name,
                setting.label,
                how,
                text,
                v is True,
                setting.unit,
                setting.low,
                setting.high,
                setting.step,
                named.get(setting.named, ()) if setting.named else setting.choices,
                name in own,
                comes(name),
                heard,
                total(name),
            )
        )
    return drawn_fields


def _ends(name: str, line: Line) -> str:
    """A line as it is typed: a push from one frame to another, else that it is one."""
    return f"{line[0][1]:g} to {line[-1][1]:g}" if name == "zoom" else "line"


@dataclass(frozen=True, slots=True)
class Scope:
    """Where a setting can be set from what is chosen: `key` is `items`, `group 5`, `recording 3` (in this story),
    `story`, or `recording` (in every story)."""

    key: str
    label: str


def scopes_of(story: Story, sources: Sources, items: list[Item], needs: str = "sound") -> list[Scope]:
    """From near to wide, as far as there are any. `needs`: what the recording must have."""
    clip = items[0]
    source = sources.get(clip.source) if clip.source is not None else None
    source = source if source and (source.sound if needs == "sound" else source.picture) else None
    everywhere, whole, recording, group, own_scope = scope_keys(clip)
    offered_scopes = [Scope(own_scope, "this one" if len(items) == 1 else f"these {len(items)}")]
    offered_scopes += [Scope(group, "its group")] if clip.group else []
    offered_scopes += [Scope(recording, f"all of {source.name} in this story")] if source else []
    offered_scopes += [Scope(whole, "the whole story")]
    return offered_scopes + ([Scope(everywhere, f"{source.name} in every story")] if source else [])


def _has_several_channels(clip: Item, sources: Sources) -> bool:
    return clip.source is not None and clip.source in sources and sources[clip.source].channels > 1


def _comes_from(name: str, found: Sequence[tuple[int, Value]], own_values: Values) -> str:
    """From which wider scopes a value comes, in words; empty where it is set here, or nowhere."""
    is_replaced = SETTINGS[name].meets == "replaces"
    if not found or (is_replaced and name in own_values):
        return ""
    if is_replaced:
        return f"from {WIDER[found[-1][0]]}"
    widest_values = ", ".join(f"{SETTINGS[name].says(value)} from {WIDER[scope]}" for scope, value in found)
    return f"{'replaces' if name in ALONE and own_values[ALONE[name]] else 'inherits'} {widest_values}"


def panel_of(
    story: Story,
    sources: Sources,
    items: list[Item],
    scope: str = "items",
    of: tuple[str, ...] = HEARD,
    named: Mapping[str, tuple[str, ...]] = {},
) -> list[Field]:
    """The fields at a scope, of these settings; for what is chosen the first of them speaks for all."""
    clip = items[0]
    kinds = {kind_of(clip), scope.split()[0]}
    here = dict(story.settings).get(scope, NONE)
    names = tuple(name for name in of if kinds & {*SETTINGS[name].of} and (scope == "items" or SETTINGS[name].wide))
    names += ("opacity",) if here["as_one"] and "opacity" in of else ()
    if scope != "story" and not _has_several_channels(clip, sources):
        names = tuple(name for name in names if name != "channels")
    keys, scope_rows = scope_keys(clip), story.scopes(clip, sources)
    at = keys.index(scope)
    wider = scope_rows[:at]
    own_values = scope_rows[at] if scope in ("items", "recording") else here
    names = tuple(
        name
        for name in names
        if SETTINGS[name].meets != "here" or own_values[name] or any(_inherited(a, wider) for a in _replaced(name))
    )

    def comes(name: str) -> str:
        return _comes_from(name, _inherited(name, wider), own_values)

    def total(name: str) -> str:
        if name != "level" or scope != "items":
            return ""
        told_level = level_told(story, sources, clip)
        return told_level[told_level.index("total") :] if "total" in told_level else ""

    def read(name: str) -> Value:
        return own_values[name] if SETTINGS[name].meets != "replaces" else value_over_scopes(name, [*wider, own_values])

    return fields(names, own_values, read, comes, named, total)


WIDER = (
    "the recording",
    "the story",
    "the recording in this story",
    "the group",
)  # the scopes in their order, as they are told


def _replaced(switch: str) -> list[str]:
    """What a switch such as `look_alone` replaces."""
    return [name for name, by in ALONE.items() if by == switch]


def _inherited(name: str, wider: Sequence[Values]) -> list[tuple[int, Value]]:
    """What wider scopes say of a setting, as far as it reaches here: (which of them, value)."""
    first = len(wider) - len(reaching(name, wider))
    return [(index, values[name]) for index, values in enumerate(wider) if index >= first and name in values]


def about(story: Story, sources: Sources, items: list[Item]) -> list[str]:
    clip = items[0]
    name = sources[clip.source].name if clip.source is not None and clip.source in sources else "Space"
    if isinstance(clip, Cover) and clip.source == TITLE:
        name = clip.title.replace("\n", " / ")
    if len(items) > 1:
        return [f"{len(items)} clips", name + " and others"]
    what = "piece" if isinstance(clip, Piece) else kind_of(clip) if isinstance(clip, Cover) else clip.kind
    tied = ""
    if isinstance(clip, (Cover, Sound)):
        shot = next((cover for cover in story.covers if cover.id == clip.tether.piece), None)
        tied = "tied to its word" if clip.tether.piece else "on the story’s clock"
        if shot is not None and shot.source in sources:
            tied = f"tied to {sources[shot.source].name}"
    return [name, ", ".join(text for text in (what, tied) if text)]
