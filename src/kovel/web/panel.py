"""What is set on what is chosen, as the panels of the Picture and the Sound room show it, at the scope that is picked."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from kovel.core.plan.sounds import PICKED
from kovel.core.story.model import TITLE, Cover, Item, Piece, Sound, Sources, Story, kind_of
from kovel.core.story.settings import FRAMING, LAYERING, NONE, SETTINGS, TITLE_STYLE, Line, Value


@dataclass(frozen=True, slots=True)
class Field:
    """One setting as the panel shows it: how it is typed, what holds, and where that comes from."""

    name: str
    label: str
    how: str  # number, switch, choice
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


TITLES = TITLE_STYLE
SEEN = ("as_one", *FRAMING, *LAYERING)
HEARD = tuple(n for n, s in SETTINGS.items() if s.family == "level" and s.line != "only" and n != "natural")


def fields(
    names: tuple[str, ...], own: Mapping[str, Any] | Any, read: Callable[[str], Value], comes: Callable[[str], str],
    named: Mapping[str, tuple[str, ...]] = {},
) -> list[Field]:  # fmt: skip
    """The panel's fields for these settings. `own` says what is set here, `read` what holds; `named`: tables and fonts there are."""
    out = []
    for n in names:
        s = SETTINGS[n]
        v = read(n)
        how = "switch" if isinstance(s.default, bool) else "choice" if s.choices or s.named else "number"
        how = s.named if s.named in ("text", "colour") else how
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
            )
        )
    return out


def _ends(name: str, line: Line) -> str:
    """A line as it is typed: a push from one frame to another, else that it is one."""
    return f"{line[0][1]:g} to {line[-1][1]:g}" if name == "zoom" else "line"


@dataclass(frozen=True, slots=True)
class Scope:
    """Where a setting can be set from what is chosen: `key` is `items`, `group 5`, `recording` or `story`."""

    key: str
    label: str


def scopes_of(story: Story, sources: Sources, items: list[Item], needs: str = "sound") -> list[Scope]:
    """From near to wide, as far as there are any. `needs`: what the recording must have."""
    x = items[0]
    out = [Scope("items", "this one" if len(items) == 1 else f"these {len(items)}")]
    group = 0 if isinstance(x, Cover) else x.group
    out += [Scope(f"group {group}", "its group")] if group else []
    s = sources.get(x.source) if x.source is not None else None
    out += [Scope("recording", f"all of {s.name}")] if s and (s.sound if needs == "sound" else s.picture) else []
    return [*out, Scope("story", "the whole story")]


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
    recording, whole, group, own = story.scopes(x, sources)
    if scope != "items":
        at = recording if scope == "recording" else here
        return fields(names, at, lambda n: at[n], lambda n: "", named)
    said = (("its recording", recording), ("the story", whole), ("its group", group))

    def comes(n: str) -> str:
        where = [w for w, v in said if n in v]
        if where and SETTINGS[n].meets != "replaces":
            return f"{' and '.join(where)} too"
        return where[-1] if where and n not in own else ""

    return fields(names, own, lambda n: own[n] if SETTINGS[n].meets != "replaces" else story.value(x, n, sources), comes, named)


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
