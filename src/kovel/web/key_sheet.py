"""The key sheet: what a key does in a room. Keys of edits come from the catalogue, those of looking and playing
stand here."""

from __future__ import annotations

import re
from dataclasses import dataclass

from kovel.core.story.catalogue import entries


@dataclass(frozen=True, slots=True)
class KeyRow:
    """Keys as they are pressed, with words between them as they are read, and what they do."""

    keys: tuple[str, ...]
    does: str


PLAYING = (
    KeyRow(("Space",), "play or pause"),
    KeyRow(("J", "K", "L"), "back, stop, on; again for faster"),
    KeyRow(("←", "→"), "one frame, with Shift five"),
    KeyRow(("F",), "go to a typed time"),
)
STORY = (
    *PLAYING,
    KeyRow(("↑", "↓"), "the seam before, after"),
    KeyRow(("1", "…", "6"), "shelf: bites, b-roll, sounds, loose, checks, history"),
    KeyRow(("Enter",), "on a shelf item: pick it up; Shift click picks up several"),
    KeyRow(("Q",), "every edit there is, by name"),
    KeyRow(("I", "O"), "mark in, out in the story; Shift takes the mark away"),
    KeyRow(("T",), "seam desk: the next seam, Shift the one before"),
    KeyRow(("U",), "next exposed jump, Shift the one before"),
    KeyRow(("A",), "loop the seam with a second around it"),
    KeyRow(("G", "V"), "choose the piece, the cover at the playhead"),
    KeyRow(("H",), "another camera at the playhead"),
    KeyRow(("Shift", "H"), "the same told elsewhere in the piece's place"),
    KeyRow(("Shift", "V"), "shots that could cover what is chosen, or the sentence at the playhead"),
    KeyRow(("Ctrl", "C"), "copy what is chosen"),
    KeyRow(("Z",), "undo, Shift redo"),
    KeyRow(("/",), "find in the story"),
    KeyRow(("Alt",), "while dragging: lets go of cuts, marks and beats"),
    KeyRow(("Esc",), "choose nothing"),
    KeyRow(("?",), "this sheet"),
)
SOUND = (
    *PLAYING,
    KeyRow(("↑", "↓"), "the seam before, after"),
    KeyRow((".", ","), "nearer, farther; the whole film at once with 0"),
    KeyRow(("G", "V"), "choose the piece, the cover’s own sound at the playhead"),
    KeyRow(("E",), "choose the sound at the playhead; again for the next one there"),
    KeyRow(("T",), "choose the next thing of the lane, Shift the one before"),
    KeyRow(("Shift",), "with a click: choose more; while dragging: lets go of cuts, words and beats"),
    KeyRow(("Alt",), "with a click on a moment of a level line or on a peak dip: take it away"),
    KeyRow(("A",), "hear what is chosen alone; again: everything"),
    KeyRow(("C",), "its recording cleaned or raw, around the playhead: before and after"),
    KeyRow(("H",), "record a voice-over from the playhead; again or Space ends it"),
    KeyRow(("I", "O"), "mark in, out; Shift takes the mark away"),
    KeyRow(("Q",), "every edit there is, by name"),
    KeyRow(("Z",), "undo, Shift redo"),
    KeyRow(("Esc",), "choose nothing"),
    KeyRow(("?",), "this sheet"),
)
PICTURE = (
    *PLAYING,
    KeyRow(("↑", "↓"), "the seam before, after"),
    KeyRow((".", ","), "strip nearer, farther; the whole film at once with 0"),
    KeyRow(("G", "V"), "choose the piece, the cover at the playhead"),
    KeyRow(("T",), "choose the next one of the lane, Shift the one before"),
    KeyRow(("A",), "choose all of the same recording"),
    KeyRow(("Shift",), "with a click: choose more; with an arrow: five frames"),
    KeyRow(("+", "-"), "zoom by 1 %, Shift by 10; with the wheel over the picture"),
    KeyRow(("Alt", "← → ↑ ↓"), "move the frame by 1 % of the room, Shift by 10; or drag the picture"),
    KeyRow(("Alt", "drag"), "from a side of the picture: cut it off, or back"),
    KeyRow(("S",), "sit it on the speaker’s face"),
    KeyRow(("P",), "a push from here: the frame is set at the playhead, and moves to it"),
    KeyRow(("C",), "as filmed, without looks; again: as it is"),
    KeyRow(("H",), "half and half: before on the left, after on the right"),
    KeyRow(("W",), "then click something grey in the picture: white is set by it"),
    KeyRow(("N",), "new title at the playhead: over the picture, a lower third, credits"),
    KeyRow(("E",), "edges: safe areas over the picture"),
    KeyRow(("Ctrl", "C"), "copy framing and look; Ctrl V gives them to what is chosen"),
    KeyRow(("Q",), "every edit there is, by name"),
    KeyRow(("Z",), "undo, Shift redo"),
    KeyRow(("Esc",), "choose nothing"),
    KeyRow(("?",), "this sheet"),
)
HOW = {"[": "; Alt back; Shift five", "]": "; Alt back; Shift five", "Alt → ←": "; Shift five"}


def of_edits() -> list[KeyRow]:
    """The keys that edit, each with everything it may do, in the catalogue's order."""
    by_key: dict[str, list[str]] = {}
    for _, entry in entries():
        if entry.key:
            said = re.sub(r":? ?\b[A-Z]{4,}\b.*", "", entry.label)
            by_key.setdefault(entry.key, []).append(said[0].lower() + said[1:] if not said[1:2].isupper() else said)
    return [
        KeyRow(tuple(name.split()), "; ".join(dict.fromkeys(does)) + HOW.get(name, "")) for name, does in by_key.items()
    ]


def sound_keys() -> list[KeyRow]:
    mine = {key for key_row in SOUND for key in key_row.keys}
    return [*SOUND, *(key_row for key_row in of_edits() if key_row.keys[0] not in mine)]


def picture_keys() -> list[KeyRow]:
    return list(PICTURE)


def story_keys() -> list[KeyRow]:
    return [*STORY, *of_edits()]
