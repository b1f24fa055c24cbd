"""The strip: the story seen sideways, as its script draws it. Places and lines are worked out here, in story frames.

frames     [ A  ][boat][ B    ]
dialogue   [~~~~~~][~~~~~~~~~~]      words below
music      [──╲____╱──────────]      level and ducking over it
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

from kovel.core.plan.sounds import HALF, PICKED
from kovel.core.sound.loudness import decibels
from kovel.core.story.model import Cover, Item, Piece, Sound, Sources, Story, kind_of
from kovel.core.story.settings import SETTINGS, Line, Value

LANES = ("dialogue", "natural", "effect", "voice", "music")
Moment = tuple[int, float]


@dataclass(frozen=True, slots=True)
class Block:
    """One thing on the strip: where it lies, what is heard of it, and what is set on it. Lines are moments in story frames."""

    id: int
    kind: str
    lane: str
    row: int
    at: int
    length: int
    source: int | None
    start: int
    name: str
    heard: bool
    level: float | None  # None: it is a line
    line: tuple[Moment, ...]
    wide: float  # what wider scopes add
    duck: tuple[Moment, ...]
    fade_in: int
    fade_out: int
    straight: bool
    mute: bool
    group: int
    tie: int | None  # story frame of the word it is tied to; None: the story's clock
    tells: str  # level in words


def _in_story(line: Line, shift: int) -> tuple[Moment, ...]:
    return tuple((m + shift, db) for m, db in line)


class Drawn:
    """Makes the blocks of one story."""

    def __init__(self, story: Story, sources: Sources) -> None:
        self.story, self.sources, self.read = story, sources, story.reading(sources)

    def blocks(self) -> list[Block]:
        s = self.story
        rows = [self._block(p, "dialogue", 0, at) for p, at in zip(s.pieces, s.starts, strict=False)]
        rows += [self._block(c, "natural", 0, at) for at, _, c in s.spans if self.read(c, "natural")]
        rows += [self._block(x, x.kind, 0, s.at(x)) for x in s.sounds]
        return _in_rows(rows)

    def _block(self, x: Item, lane: str, row: int, at: int) -> Block:
        source = self.sources.get(x.source) if x.source is not None else None
        heard = bool(source and source.sound and not (isinstance(x, Piece) and x.take == "picture"))
        own: Value = x.settings["level"]
        whole: Value = self.read(x, "level")
        shift = at - x.start
        line = _in_story(own, shift) if isinstance(own, tuple) else ()
        flat = None if isinstance(own, tuple) else float(own)
        wide = _first(whole) - _first(own)
        if isinstance(x, Cover) and "level" not in x.settings:
            wide += float(decibels(HALF))
        name = source.name if source else (x.card.text or "card") if isinstance(x, Piece) and x.card else "space"
        return Block(
            x.id, kind_of(x), lane, row, at, x.length, x.source, x.start, name, heard, flat, line, round(wide, 2),
            _in_story(x.settings["duck"], shift), x.settings["fade_in"], x.settings["fade_out"],
            self.read(x, "fade") == "straight", bool(self.read(x, "mute")),
            0 if isinstance(x, Cover) else x.group, None if isinstance(x, Piece) or not x.tether.piece else at,
            _tells(x, flat, line, wide),
        )  # fmt: skip


def _first(v: Value) -> float:
    return float(v[0][1]) if isinstance(v, tuple) else float(v)


def _tells(x: Item, flat: float | None, line: tuple[Moment, ...], wide: float) -> str:
    level = SETTINGS["level"]
    ends = sorted({round(d + wide, 1) for d in ([flat] if flat is not None else [d for _, d in line])})
    text = level.says(ends[0]) if len(ends) == 1 else f"{ends[0]:+.1f} to {ends[-1]:+.1f} dB"
    return f"{text}, ducked" if x.settings["duck"] else text


def _in_rows(blocks: list[Block]) -> list[Block]:
    """Each lane in as many rows as lie over each other; parts that are joined by a crossfade share theirs."""
    ends: dict[str, list[tuple[int, int]]] = {}
    out = []
    for b in sorted(blocks, key=lambda b: b.at):
        rows = ends.setdefault(b.lane, [])
        mine = next(
            (k for k, (end, group) in enumerate(rows) if end <= b.at or (group and group == b.group and end - b.at < 50)),
            len(rows),
        )
        if mine == len(rows):
            rows.append((0, 0))
        rows[mine] = (b.at + b.length, b.group)
        out.append(replace(b, row=mine))
    return out


def strip(story: Story, sources: Sources, beats: list[int]) -> dict[str, Any]:
    """What the strip's script draws, but for words and waveforms."""
    blocks = Drawn(story, sources).blocks()
    rows = {lane: 1 + max((b.row for b in blocks if b.lane == lane), default=-1) for lane in LANES}
    solo = story.soloed
    lanes = [
        {"name": lane, "rows": rows[lane], "muted": lane in story.muted, "solo": lane in solo,
         "heard": lane not in story.muted and (not solo or lane in solo)}
        for lane in LANES
    ]  # fmt: skip
    own = dict(story.settings).get("story")
    dips = [list(m) for m in own["dips"]] if own else []
    return {
        "length": story.length, "rate": [story.rate.num, story.rate.den], "lanes": lanes,
        "blocks": [asdict(b) for b in blocks], "seams": list(story.starts[1:-1]), "beats": beats, "dips": dips,
        "low": SETTINGS["level"].low, "high": SETTINGS["level"].high,
    }  # fmt: skip


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


HEARD = tuple(n for n, s in SETTINGS.items() if s.family == "level" and s.line != "only" and n != "natural")


def fields(
    names: tuple[str, ...], own: Mapping[str, Any] | Any, read: Callable[[str], Value], comes: Callable[[str], str]
) -> list[Field]:
    """The panel's fields for these settings. `own` says what is set here, `read` what holds."""
    out = []
    for n in names:
        s = SETTINGS[n]
        v = read(n)
        how = "switch" if isinstance(s.default, bool) else "choice" if s.choices else "number"
        text = "line" if isinstance(v, tuple) else f"{v:g}" if isinstance(v, (int, float)) and how == "number" else str(v)
        heard = tuple((c[0].upper(), str(list(PICKED[c]))) for c in ("left", "right", "both as one")) if n == "channels" else ()
        out.append(Field(n, s.label, how, text, v is True, s.unit, s.low, s.high, s.step, s.choices, n in own, comes(n), heard))
    return out


@dataclass(frozen=True, slots=True)
class Scope:
    """Where a setting can be set from what is chosen: `key` is `items`, `group 5`, `recording` or `story`."""

    key: str
    label: str


def scopes_of(story: Story, sources: Sources, items: list[Item]) -> list[Scope]:
    """From near to wide, as far as there are any."""
    x = items[0]
    out = [Scope("items", "this one" if len(items) == 1 else f"these {len(items)}")]
    group = 0 if isinstance(x, Cover) else x.group
    out += [Scope(f"group {group}", "its group")] if group else []
    s = sources.get(x.source) if x.source is not None else None
    out += [Scope("recording", f"all of {s.name}")] if s and s.sound else []
    return [*out, Scope("story", "the whole story")]


def panel_of(story: Story, sources: Sources, items: list[Item], scope: str = "items") -> list[Field]:
    """The fields at a scope; for what is chosen the first of them speaks for all."""
    x = items[0]
    names = tuple(n for n in HEARD if kind_of(x) in SETTINGS[n].of and (scope == "items" or SETTINGS[n].wide))
    if scope != "story" and (x.source is None or x.source not in sources or sources[x.source].channels < 2):
        names = tuple(n for n in names if n != "channels")
    recording, whole, group, own = story.scopes(x, sources)
    if scope != "items":
        at = {"recording": recording, "story": whole}.get(scope, group)
        return fields(names, at, lambda n: at[n], lambda n: "")
    said = (("its recording", recording), ("the story", whole), ("its group", group))

    def comes(n: str) -> str:
        where = [w for w, v in said if n in v]
        if where and SETTINGS[n].meets == "adds":
            return f"{' and '.join(where)} too"
        return where[-1] if where and n not in own else ""

    return fields(names, own, lambda n: own[n] if SETTINGS[n].meets == "adds" else story.value(x, n, sources), comes)


def about(story: Story, sources: Sources, items: list[Item]) -> list[str]:
    x = items[0]
    name = sources[x.source].name if x.source is not None and x.source in sources else "Space"
    if len(items) > 1:
        return [f"{len(items)} things", name + " and others"]
    what = "piece" if isinstance(x, Piece) else "cover’s own sound" if isinstance(x, Cover) else x.kind
    tied = ""
    if isinstance(x, (Cover, Sound)):
        shot = next((c for c in story.covers if c.id == x.tether.piece), None)
        tied = "tied to its word" if x.tether.piece else "on the story’s clock"
        if shot is not None and shot.source in sources:
            tied = f"tied to {sources[shot.source].name}"
    return [name, ", ".join(t for t in (what, tied) if t)]
