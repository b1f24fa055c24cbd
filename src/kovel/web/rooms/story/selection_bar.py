"""The bar under the page: what edits are about just now, its length and level, and the edits used most on it.

Maren, camera A · 0:06+07   Length [6.28s]  Level [-3 dB] total -3.9 dB   In < >  Out < >   Split  Delete  ...
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kovel.core.story.catalogue import entries
from kovel.core.story.edit_offers import Entry
from kovel.core.story.edit_rules import in_words
from kovel.core.story.levels_told import in_decibels, total_level
from kovel.core.story.model import TITLE, Cover, Item, Piece, Sources, Story, kind_of
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp

WHOLE_WORDS = 60  # letters of selected words that are shown


@dataclass(frozen=True, slots=True)
class BarButton:
    """An edit of the bar by its name in the catalogue, or a key of the page that is pressed."""

    label: str
    title: str
    edit: str = ""
    key: str = ""


@dataclass(frozen=True, slots=True)
class SelectionBar:
    """What the bar shows. `length` and `level` are empty where the clips differ, `has_level` says whether there is a
    sound to set; `note` says what else is marked or selected and does not count just now."""

    said: str
    note: str = ""
    ids: tuple[int, ...] = ()
    length: str = ""
    has_level: bool = False
    level: str = ""
    total: str = ""
    buttons: tuple[BarButton, ...] = ()


NOTHING = "Nothing selected: edits work at the playhead. Click a clip, drag over words, or draw a frame around clips."
_ENTRIES: Mapping[str, Entry] = {entry.label: entry for _, entry in entries()}


def _button(label: str, name: str) -> BarButton:
    key = _ENTRIES[name].key
    return BarButton(label, f"{name} ({key})" if key else name, edit=name)


_TAKE_OUT = (_button("Delete", "Take out, close up"), _button("Leave a gap", "Lift, leave a space"))
_OF_KIND = {
    "piece": (
        _button("Split", "Split"),
        *_TAKE_OUT,
        _button("Earlier", "Move the piece earlier"),
        _button("Later", "Move the piece later"),
        _button("Swap", "Swap with the next piece"),
    ),
    "cover": (
        _button("To playhead", "Cover to the playhead"),
        _button("Lane up", "Cover one lane up"),
        _button("Delete", "Take the cover off"),
    ),
    "sound": (
        _button("Split", "Split the sound at the playhead"),
        _button("To playhead", "Sound to the playhead"),
        _button("Repeat", "Repeat the sound behind itself"),
        _button("Delete", "Take the sound away"),
    ),
    "several": (
        _button("Delete", "Delete the selected clips and close the gaps"),
        _button("Leave gaps", "Delete the selected clips, leave gaps"),
    ),
    "words": (
        *_TAKE_OUT,
        BarButton("Shots to cover…", "Shots that could cover the words (Shift V)", key="Shift V"),
        BarButton("Copy", "Copy the words (Ctrl C)", key="Ctrl C"),
    ),
}
_OF_KIND["title"] = _OF_KIND["cover"]
_OWN_SOUND = {
    on: _button("Sound on" if on else "Sound off", f"Cover's own sound {'on' if on else 'off'}") for on in (True, False)
}
_GROUPED = {True: _button("Ungroup", "Ungroup"), False: _button("Group", "Group the selected clips")}
_TO_PLAYHEAD = _button("To playhead", "Selected clips to the playhead")


def _seconds(frames: int, rate: Rate) -> str:
    return f"{float(frames / rate.fps):.2f}".rstrip("0").rstrip(".") + "s"


def _name(story: Story, names: Mapping[int, str], clip: Item) -> str:
    if isinstance(clip, Cover) and clip.source == TITLE:
        return f"Title “{' / '.join(clip.title.splitlines())}”"
    if clip.source is None:
        return "Card" if isinstance(clip, Piece) and clip.card else "Gap"
    what = {"cover": "Cover: ", "sound": "Sound: "}.get(str(kind_of(clip)), "")
    return f"{what}{names.get(clip.source, '?')}"


def _is_heard(clip: Item, story: Story, sources: Sources) -> bool:
    source = sources.get(clip.source) if clip.source else None
    if source is None or not source.sound or (isinstance(clip, Piece) and clip.take == "picture"):
        return False
    return not isinstance(clip, Cover) or bool(story.value(clip, "natural", sources))


def _buttons(clips: Sequence[Item], story: Story, sources: Sources) -> tuple[BarButton, ...]:
    if len(clips) > 1:
        moves = (_TO_PLAYHEAD,) if any(not isinstance(clip, Piece) for clip in clips) else ()
        same_group = len({clip.group for clip in clips}) == 1 and bool(clips[0].group)
        groupable = len({isinstance(clip, Piece) for clip in clips}) == 1
        return (*_OF_KIND["several"], *moves, *((_GROUPED[same_group],) if groupable else ()))
    (clip,) = clips
    kind = str(kind_of(clip))
    source = sources.get(clip.source) if clip.source else None
    if kind != "cover" or source is None or not source.sound:
        return _OF_KIND[kind]
    return (*_OF_KIND[kind], _OWN_SOUND[not story.value(clip, "natural", sources)])


def of_clips(story: Story, sources: Sources, names: Mapping[int, str], ids: Sequence[int], note: str) -> SelectionBar:
    """The bar for these clips; those that have left the story do not count."""
    wanted = set(ids)
    clips = [clip for clip in story.clips if clip.id in wanted]
    if not clips:
        return SelectionBar(NOTHING)
    lengths = {clip.length for clip in clips}
    heard = [clip for clip in clips if _is_heard(clip, story, sources)]
    own_levels = {in_decibels(clip.settings["level"]) for clip in heard}
    totals = {in_decibels(total_level(story, sources, clip)) for clip in heard}
    first = clips[0]
    several = f"{in_words(story, (clip.id for clip in clips))} selected"
    said = _name(story, names, first) if len(clips) == 1 else several
    return SelectionBar(
        said,
        note,
        tuple(clip.id for clip in clips),
        _seconds(first.length, story.rate) if len(lengths) == 1 else "",
        bool(heard),
        own_levels.pop() if len(own_levels) == 1 else "",
        f"total {totals.pop()}" if len(totals) == 1 and totals != own_levels else "",
        _buttons(clips, story, sources),
    )


def of_range(story: Story, start: int, end: int, said: str, note: str) -> SelectionBar:
    """The bar for selected words, or for the stretch between the marks."""
    where = f"{stamp(start, story.rate)}–{stamp(end, story.rate)}, {stamp(end - start, story.rate)} long"
    short = said if len(said) <= WHOLE_WORDS else f"{said[:WHOLE_WORDS].rstrip()}…"
    return SelectionBar(f"“{short}” · {where}" if said else f"Marked {where}", note, buttons=_OF_KIND["words"])
