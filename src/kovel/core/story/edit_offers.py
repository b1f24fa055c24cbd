"""How an edit is offered to the editor, declared beside its function: label, key, what is typed after it, what it takes
from where. The list of all edits, the key sheet, the pages' keys, HTTP, the command line and the help are made from
this.

    @edit(entry("Slip the piece: LENGTH", typed="delta", default="1f", piece="piece", delta="typed"))
    def slip(story, sources, piece, delta): ...
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal, TypeVar

from kovel.core.time.rate import Rate
from kovel.core.time.timecode import parse_entry

F = TypeVar("F", bound=Callable[..., Any])
Typed = Literal["", "length", "delta", "minutes", "number", "text"]
Each = Literal["", "lanes", "heard", "along", "locks"]  # offered once for each lane of that sort that the story has

# Where the value of a parameter comes from. A text that begins with = stands for itself; so does anything that is no
# text.
TAKEN_FROM = {
    "typed": "what is typed after the name",
    "minus typed": "the same, to the other side",
    "playhead": "the frame under the playhead",
    "story end": "the end of the story",
    "piece": "the chosen piece, or the one under the playhead",
    "left piece": "the piece before the chosen seam, else the chosen one, or the one under the playhead",
    "right piece": "the piece after the chosen seam, else the chosen one, or the one under the playhead",
    "next piece": "the piece after that one",
    "piece before": "the piece before that one",
    "piece after next": "the piece after the next one, or the end",
    "first piece": "the first piece of the story",
    "seam": "the piece after the chosen seam, or the nearest one",
    "cover": "the chosen cover",
    "sound": "the chosen sound",
    "loose cover": "the cover picked up from the tray",
    "loose sound": "the sound picked up from the tray",
    "chosen": "the chosen piece, cover or sound",
    "all chosen": "everything chosen",
    "seams": "the pieces after the selected seams: those inside the selection, else the nearest one",
    "places": "the story's markers and the beats of its music",
    "several": "the selected clips, where they are several",
    "begin": "where the chosen cover or sound begins",
    "lane above": "the lane over that of the chosen cover",
    "range start": "the first frame of the chosen words or pieces, or the in mark",
    "range end": "their end, or the out mark",
    "heading": "the heading of the chosen piece",
    "source": "the recording of what is picked up",
    "lay sound": "the same, where it is a sound that is picked up",
    "start": "its in point",
    "end": "its out point",
    "hand length": "its length",
    "ranges": "all that is picked up, where it is several",
    "marks": "the in and out mark and those of what is picked up: three of the four points",
    "marks back": "the same, ending at the out mark or the playhead",
    "lay gap": "the same: a gap as long as it would be where it is laid",
    "lay": "where a shot or a sound is laid: over the chosen words, else at the playhead",
    "copied": "what was copied",
    "lane": "the lane it is offered for",
}

# What is said where it is wanting.
WANTING = {
    "piece": "Choose a piece first (G).",
    "left piece": "Choose a piece first (G).",
    "right piece": "Choose a piece first (G).",
    "chosen": "Choose a piece, a cover or a sound first.",
    "all chosen": "Choose a piece, a cover or a sound first.",
    "seams": "There is no seam in the story yet.",
    "places": "There is no marker and no beat to go to: press M where one should be.",
    "several": "Select several clips first: click one, then others with Ctrl, or draw a frame around them.",
    "next piece": "Choose a piece that has another one after it.",
    "piece before": "It is the first piece already.",
    "piece after next": "It is the last piece already.",
    "seam": "That is set at a seam: choose one (T). Covers and sounds have none.",
    "cover": "Choose a cover first (V).",
    "loose cover": "Choose a cover first (V), or pick one up in the tray.",
    "loose sound": "Choose a sound first: click its line, or pick one up in the tray.",
    "sound": "Choose a sound first: click its line.",
    "begin": "Choose a cover or a sound first.",
    "lane above": "Choose a cover first (V).",
    "range start": "Choose words, a piece or a cover first, or mark in and out (I, O).",
    "range end": "Choose words, a piece or a cover first, or mark in and out (I, O).",
    "heading": "Give the piece a heading first.",
    "source": "Pick something up from the shelf first: Enter on it.",
    "lay sound": "A sound is laid under the story: C lays it from the playhead, or drag it onto the page. "
    "To make it a piece of the dialogue line, choose the edit in the list (Q).",
    "start": "Pick something up from the shelf first: Enter on it.",
    "end": "Pick something up from the shelf first: Enter on it.",
    "hand length": "Pick something up from the shelf first: Enter on it.",
    "ranges": "Pick something up from the shelf first: Enter on it.",
    "copied": "Nothing was copied yet.",
}


@dataclass(frozen=True, slots=True)
class Entry:
    """One way an edit is offered. `also`: other words of the trade that it is looked for by. `default` is used where
    nothing is typed, as it would be typed; none: it has to be. `asks`: what it would dislodge is shown before it is
    done."""

    label: str
    key: str
    typed: Typed
    default: str | None
    asks: bool
    each: Each
    params: dict[str, Any]
    also: tuple[str, ...] = ()


def entry(
    label: str,
    key: str = "",
    *,
    typed: Typed = "",
    default: str | None = None,
    asks: bool = False,
    each: Each = "",
    also: str = "",
    **params: Any,
) -> Entry:
    """A declaration; `also` are other words for it, with commas between; `params` say where each parameter comes
    from (TAKEN_FROM)."""
    for name, source in params.items():
        if isinstance(source, str) and not source.startswith("=") and source not in TAKEN_FROM:
            raise ValueError(f"{label}: {name} cannot be taken from {source!r}")
    return Entry(
        label,
        key,
        typed,
        default,
        asks,
        each,
        params,
        tuple(other_word.strip() for other_word in also.split(",") if other_word.strip()),
    )


def meant(e: Entry, rate: Rate) -> int | float | str | None:
    """What an entry's default means at a rate, as if it had been typed; None where there is none."""
    if e.default is None or not e.typed:
        return None
    if e.typed == "text":
        return e.default
    if e.typed == "number":
        return float(e.default) if "." in e.default else int(e.default)
    return 0 if e.default == "0" else parse_entry(e.default, rate, minutes=e.typed == "minutes")


COMMANDS: dict[str, Callable[..., Any]] = {}
ENTRIES: list[tuple[str, Entry]] = []  # (edit, how it is offered), in the order of the modules


def edit(*entries: Entry) -> Callable[[F], F]:
    """Makes a function an edit of the catalogue under its own name, offered in these ways."""

    def declare(f: F) -> F:
        COMMANDS[f.__name__] = f
        ENTRIES.extend((f.__name__, this_entry) for this_entry in entries)
        return f

    return declare
