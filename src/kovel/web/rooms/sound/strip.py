"""The strip: the story seen sideways, as its script draws it. Places and lines are worked out here, in story frames.

frames     [ A  ][boat][ B    ]
dialogue   [~~~~~~][~~~~~~~~~~]      words below
music      [──╲____╱──────────]      level and ducking over it
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

from kovel.core.plan.sounds import sounds_on
from kovel.core.story.edit_rules import handles
from kovel.core.story.levels_told import level_told, total_level
from kovel.core.story.marker_places import placed_markers
from kovel.core.story.model import Cover, Item, Piece, Sound, Sources, Story, frames_to, kind_of, moment_of
from kovel.core.story.settings import SETTINGS, Line, Value

LANES = ("dialogue", "natural", "effect", "voice", "music")
Moment = tuple[int, float]


@dataclass(frozen=True, slots=True)
class Block:
    """One thing on the strip: where it lies, what is heard of it, and what is set on it. Lines are moments in story
    frames."""

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
    before: int | None = None  # of a piece: frames that its recording has before it and after it; None: no end
    after: int | None = None


def _in_story(line: Line, item: Item, at: int) -> tuple[Moment, ...]:
    return tuple(sorted((round(at + frames_to(item, moment)), db) for moment, db in line))


def _run(item: Item) -> float:
    """Moments of its recording to a story frame, over all of it."""
    if isinstance(item, Sound) or not item.settings or item.length < 2:
        return 1.0
    return (moment_of(item, item.length - 1) - moment_of(item, 0)) / (item.length - 1)


class Drawn:
    """Makes the blocks of one story."""

    def __init__(self, story: Story, sources: Sources) -> None:
        self.story, self.sources, self.read = story, sources, story.reading(sources)

    def blocks(self) -> list[Block]:
        """Everything on the strip, lane by lane."""
        story = self.story
        drawn_blocks = [
            self._block(piece, "dialogue", 0, at) for piece, at in zip(story.pieces, story.starts, strict=False)
        ]
        drawn_blocks += [
            self._block(cover, "natural", 0, at) for at, _, cover in story.spans if self.read(cover, "natural")
        ]
        drawn_blocks += [self._block(sound, sound.kind, 0, story.at(sound)) for sound in story.sounds]
        return _in_rows(drawn_blocks)

    def _named(self, clip: Item) -> str:
        if clip.source is not None and clip.source in self.sources:
            return self.sources[clip.source].name
        return (clip.card.text or "card") if isinstance(clip, Piece) and clip.card else "space"

    def _is_heard(self, clip: Item) -> bool:
        if clip.source is None or clip.source not in self.sources or not self.sources[clip.source].sound:
            return False
        if isinstance(clip, Piece) and clip.take == "picture":
            return False
        return isinstance(clip, Sound) or sounds_on(clip)

    def _block(self, clip: Item, lane: str, row: int, at: int) -> Block:
        own_level: Value = clip.settings["level"]
        line = _in_story(own_level, clip, at) if isinstance(own_level, tuple) else ()
        flat = None if isinstance(own_level, tuple) else float(own_level)
        wide = _first(total_level(self.story, self.sources, clip)) - _first(own_level)
        return Block(
            clip.id,
            kind_of(clip),
            lane,
            row,
            at,
            clip.length,
            clip.source,
            moment_of(clip, 0),
            _run(clip),
            self._named(clip),
            self._is_heard(clip),
            flat,
            line,
            round(wide, 2),
            _in_story(clip.settings["duck"], clip, at),
            clip.settings["fade_in"],
            clip.settings["fade_out"],
            self.read(clip, "fade") == "straight",
            bool(self.read(clip, "mute")),
            0 if isinstance(clip, Cover) else clip.group,
            None if isinstance(clip, Piece) or not clip.tether.piece else at,
            level_told(self.story, self.sources, clip) + (", ducked" if clip.settings["duck"] else ""),
            *(handles(self.sources, self.story.rate, clip) if isinstance(clip, Piece) else ()),
        )


def _first(value: Value) -> float:
    return float(value[0][1]) if isinstance(value, tuple) else float(value)


def _in_rows(blocks: list[Block]) -> list[Block]:
    """Each lane in as many rows as lie over each other; parts that are joined by a crossfade share theirs."""
    ends: dict[str, list[tuple[int, int]]] = {}
    blocks_in_rows = []
    for block in sorted(blocks, key=lambda b: b.at):
        row_ends = ends.setdefault(block.lane, [])
        mine = next(
            (
                index
                for index, (end, group) in enumerate(row_ends)
                if end <= block.at or (group and group == block.group and end - block.at < 50)
            ),
            len(row_ends),
        )
        if mine == len(row_ends):
            row_ends.append((0, 0))
        row_ends[mine] = (block.at + block.length, block.group)
        blocks_in_rows.append(replace(block, row=mine))
    return blocks_in_rows


def strip(story: Story, sources: Sources, beats: list[int]) -> dict[str, Any]:
    """What the strip's script draws, but for words and waveforms."""
    blocks = Drawn(story, sources).blocks()
    rows_of_lane = {lane: 1 + max((block.row for block in blocks if block.lane == lane), default=-1) for lane in LANES}
    solo = story.soloed
    lanes = [
        {
            "name": lane,
            "rows": rows_of_lane[lane],
            "muted": lane in story.muted,
            "solo": lane in solo,
            "heard": lane not in story.muted and (not solo or lane in solo),
        }
        for lane in LANES
    ]
    own_values = dict(story.settings).get("story")
    dips = [list(story_dip) for story_dip in own_values["dips"]] if own_values else []
    return {
        "length": story.length,
        "rate": [story.rate.num, story.rate.den],
        "lanes": lanes,
        "blocks": [asdict(block) for block in blocks],
        "seams": list(story.starts[1:-1]),
        "beats": beats,
        "markers": [[at, marker.name, marker.shape] for at, marker in placed_markers(story)],
        "dips": dips,
        "low": SETTINGS["level"].low,
    }
