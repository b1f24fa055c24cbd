"""What is set on what is chosen, as the panels of the Picture and the Sound room show it, at the scope that is picked."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kovel.core.plan.sounds import PICKED
from kovel.core.story.levels_told import level_told
from kovel.core.story.model import TITLE, Cover, Item, Piece, Sound, Sources, Story, kind_of, scope_keys
from kovel.core.story.settings import ALONE, FRAMING, LAYERING, NONE, SETTINGS, TITLE_STYLE, Line, Value, Values, met, reaching


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
HEARD = tuple(n for n, s in SETTINGS.items() if s.family == "level" and s.line != "only" and n != "natural")


def fields(
    names: tuple[str, ...], own: Mapping[str, Any] | Any, read: Callable[[str], Value], comes: Callable[[str], str],
    named: Mapping[str, tuple[str, ...]] = {}, total: Callable[[str], str] = lambda name: "",
) -> list[Field]:  # fmt: skip
    """The panel's fields for these settings. `own` says what is set here, `read` what holds; `named`: tables and fonts there are."""
    out = []
    for n in names:
        s = SETTINGS[n]
        v = read(n)
        how = "switch" if isinstance(s.default, bool) else "choice" if s.choices or s.named else "number"
        how = s.named if s.named in ("text", "colour") else "replaces" if s.meets == "here" else how
        text = _ends(n, v) if isinstance(v, tuple) else f"{v:g}" if isinstance(v, (int, float)) and how == "number" else str(v)
        heard = tuple((c[0].upper(), str(list(PICKED[c]))) for c in ("left", "right", "both as one")) if n == "channels" else ()
        out.append(
            Field(
                n,
                s.label,
                how,
                text,
                v is True,
                s.unit,
                s.low,
                s.high,
                s.step,
                named.get(s.named, ()) if s.named else s.choices,
                n in own,
                comes(n),
                heard,
                total(n),
            )
        )
    return out


def _ends(name: str, line: Line) -> str:
    """A line as it is typed: a push from one frame to another, else that it is one."""
    return f"{line[0][1]:g} to {line[-1][1]:g}" if name == "zoom" else "line"


@dataclass(frozen=True, slots=True)
class Scope:
    """Where a setting can be set from what is chosen: `key` is `items`, `group 5`, `recording 3` (in this story), `story`, or
    `recording` (in every story)."""

    key: str
    label: str


def scopes_of(story: Story, sources: Sources, items: list[Item], needs: str = "sound") -> list[Scope]:
    """From near to wide, as far as there are any. `needs`: what the recording must have."""
    x = items[0]
    s = sources.get(x.source) if x.source is not None else None
    s = s if s and (s.sound if needs == "sound" else s.picture) else None
    everywhere, whole, recording, group, own = scope_keys(x)
    out = [Scope(own, "this one" if len(items) == 1 else f"these {len(items)}")]
    out += [Scope(group, "its group")] if not isinstance(x, Cover) and x.group else []
    out += [Scope(recording, f"all of {s.name} in this story")] if s else []
    out += [Scope(whole, "the whole story")]
    return out + ([Scope(everywhere, f"{s.name} in every story")] if s else [])


def panel_of(
    story: Story, sources: Sources, items: list[Item], scope: str = "items", of: tuple[str, ...] = HEARD,
    named: Mapping[str, tuple[str, ...]] = {},
) -> list[Field]:  # fmt: skip
    """The fields at a scope, of these settings; for what is chosen the first of them speaks for all."""
    x = items[0]
    kinds = {kind_of(x), scope.split()[0]}
    here = dict(story.settings).get(scope, NONE)
    names = tuple(n for n in of if kinds & {*SETTINGS[n].of} and (scope == "items" or SETTINGS[n].wide))
    names += ("opacity",) if here["as_one"] and "opacity" in of else ()
    if scope != "story" and (x.source is None or x.source not in sources or sources[x.source].channels < 2):
        names = tuple(n for n in names if n != "channels")
    keys, rows = scope_keys(x), story.scopes(x, sources)
    at = keys.index(scope)
    wider = rows[:at]
    own = rows[at] if scope in ("items", "recording") else here
    names = tuple(n for n in names if SETTINGS[n].meets != "here" or own[n] or any(_inherited(a, wider) for a in _replaced(n)))

    def comes(n: str) -> str:
        found = _inherited(n, wider)
        if not found or (SETTINGS[n].meets == "replaces" and n in own):
            return ""
        if SETTINGS[n].meets == "replaces":
            return f"from {WIDER[found[-1][0]]}"
        rows = ", ".join(f"{SETTINGS[n].says(v)} from {WIDER[k]}" for k, v in found)
        return f"{'replaces' if n in ALONE and own[ALONE[n]] else 'inherits'} {rows}"

    def total(n: str) -> str:
        if n != "level" or scope != "items":
            return ""
        told = level_told(story, sources, x)
        return told[told.index("total") :] if "total" in told else ""

    def read(n: str) -> Value:
        return own[n] if SETTINGS[n].meets != "replaces" else met(n, [*wider, own])

    return fields(names, own, read, comes, named, total)


WIDER = (
    "the recording",
    "the story",
    "the recording in this story",
    "the group",
)  # the scopes in their order, as they are told


def _replaced(switch: str) -> list[str]:
    """What a switch such as `look_alone` replaces."""
    return [n for n, by in ALONE.items() if by == switch]


def _inherited(name: str, wider: Sequence[Values]) -> list[tuple[int, Value]]:
    """What wider scopes say of a setting, as far as it reaches here: (which of them, value)."""
    first = len(wider) - len(reaching(name, wider))
    return [(i, v[name]) for i, v in enumerate(wider) if i >= first and name in v]


def about(story: Story, sources: Sources, items: list[Item]) -> list[str]:
    x = items[0]
    name = sources[x.source].name if x.source is not None and x.source in sources else "Space"
    if isinstance(x, Cover) and x.source == TITLE:
        name = x.title.replace("\n", " / ")
    if len(items) > 1:
        return [f"{len(items)} things", name + " and others"]
    what = "piece" if isinstance(x, Piece) else kind_of(x) if isinstance(x, Cover) else x.kind
    tied = ""
    if isinstance(x, (Cover, Sound)):
        shot = next((c for c in story.covers if c.id == x.tether.piece), None)
        tied = "tied to its word" if x.tether.piece else "on the story’s clock"
        if shot is not None and shot.source in sources:
            tied = f"tied to {sources[shot.source].name}"
    return [name, ", ".join(t for t in (what, tied) if t)]
