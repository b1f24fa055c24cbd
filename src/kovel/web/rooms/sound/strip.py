"""The strip: the story seen sideways, as its script draws it. Places and lines are worked out here, in story frames.

frames     [ A  ][boat][ B    ]
dialogue   [~~~~~~][~~~~~~~~~~]      words below
music      [──╲____╱──────────]      level and ducking over it
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

from kovel.core.plan.sounds import sounds_on
from kovel.core.story.levels_told import level_told, total_level
from kovel.core.story.model import Cover, Item, Piece, Sound, Sources, Story, frames_to, kind_of, moment_of
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
    start: int  # the moment of its recording it begins with
    run: float  # moments to a story frame
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


def _in_story(line: Line, x: Item, at: int) -> tuple[Moment, ...]:
    return tuple(sorted((round(at + frames_to(x, m)), db) for m, db in line))


def _run(x: Item) -> float:
    """Moments of its recording to a story frame, over all of it."""
    if isinstance(x, Sound) or not x.settings or x.length < 2:
        return 1.0
    return (moment_of(x, x.length - 1) - moment_of(x, 0)) / (x.length - 1)


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
        heard = heard and (isinstance(x, Sound) or sounds_on(x))
        own: Value = x.settings["level"]
        line = _in_story(own, x, at) if isinstance(own, tuple) else ()
        flat = None if isinstance(own, tuple) else float(own)
        wide = _first(total_level(self.story, self.sources, x)) - _first(own)
        name = source.name if source else (x.card.text or "card") if isinstance(x, Piece) and x.card else "space"
        return Block(
            x.id, kind_of(x), lane, row, at, x.length, x.source, moment_of(x, 0), _run(x), name, heard, flat, line, round(wide, 2),
            _in_story(x.settings["duck"], x, at), x.settings["fade_in"], x.settings["fade_out"],
            self.read(x, "fade") == "straight", bool(self.read(x, "mute")),
            0 if isinstance(x, Cover) else x.group, None if isinstance(x, Piece) or not x.tether.piece else at,
            level_told(self.story, self.sources, x) + (", ducked" if x.settings["duck"] else ""),
        )  # fmt: skip


def _first(v: Value) -> float:
    return float(v[0][1]) if isinstance(v, tuple) else float(v)


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
