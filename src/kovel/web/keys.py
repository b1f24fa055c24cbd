"""The keys of every page, declared once: which chord is which act of the page's scripts, and what the key sheet says.

    Key("I O", "mark in, out", {"I": "mark_in", "O": "mark_out"})
        |                |       |
        as it is shown   |       read by static/js/keys.js: each act is a function that a script of the page gives
                         what the sheet says

A chord is written as `chord()` in static/js/keys.js writes it: `Shift I`, `Ctrl Z`, `Alt ←`, `Space`. A row without
acts tells of keys that one control listens to while it has the focus, or of a gesture. Keys of edits come from the
catalogue (core/story/edit_offers.py), and are pressed where the page declares none itself.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from kovel.core.story.catalogue import entries


@dataclass(frozen=True, slots=True)
class Key:
    """A row of the sheet. `shown`: the keys, blanks between them; `…` is read as "to". Empty: a gesture."""

    shown: str
    does: str
    acts: Mapping[str, str] = field(default_factory=dict)

    @property
    def keys(self) -> list[str]:
        """The keys as they are drawn, one after the other."""
        return self.shown.split()


@dataclass(frozen=True, slots=True)
class KeySheet:
    """What a page shows of its keys, and what its scripts read: the act of each chord."""

    rows: tuple[Key, ...]
    acts: Mapping[str, str]


def sheet(*sheet_keys: Key) -> KeySheet:
    """The sheet of these rows. Raises `ValueError` where a chord stands twice."""
    acts: dict[str, str] = {}
    for sheet_key in sheet_keys:
        for chord, act in sheet_key.acts.items():
            if acts.setdefault(chord, act) != act:
                raise ValueError(f"{chord} is both {acts[chord]} and {act}")
    return KeySheet(sheet_keys, acts)


SHEET = Key("?", "this sheet", {"?": "help"})
PLAYING = (
    Key("Space", "play or pause", {"Space": "toggle"}),
    Key("J K L", "back, stop, on; again for faster", {"J": "reverse", "K": "stop", "L": "forward"}),
    Key(
        "← →",
        "one frame, with Shift five",
        {"←": "frame_back", "→": "frame_on", "Shift ←": "five_back", "Shift →": "five_on"},
    ),
    Key("Home End", "start, end", {"Home": "start", "End": "end"}),
    Key("F", "go to a typed time", {"F": "time"}),
)
SELECTED = (
    Key("Shift Space", "play the selection, with a second before and after", {"Shift Space": "play_around"}),
    Key("Shift L", "play the selection over and over; K ends it", {"Shift L": "play_looped"}),
)
EVERY = Key("Ctrl A", "select all clips of the kind that is selected, else all pieces", {"Ctrl A": "every"})
MARKERS = Key("Shift M", "all markers: go there, name them, choose a shape; M sets one", {"Shift M": "markers"})
SEAMS = Key("↑ ↓", "the seam before, after", {"↑": "seam_before", "↓": "seam_after"})
EDITING = (
    Key("Q", "every edit there is, by name", {"Q": "all"}),
    Key("Z", "undo, Shift redo", {"Z": "undo", "Shift Z": "redo", "Ctrl Z": "undo", "Ctrl Shift Z": "redo"}),
    Key("Esc", "choose nothing", {"Escape": "nothing"}),
    SHEET,
)
MARKING = {"I": "mark_in", "O": "mark_out", "Shift I": "unmark_in", "Shift O": "unmark_out"}
NEARER = {".": "nearer", ",": "farther", "0": "whole"}
UNDO = {"Ctrl Z": "undo", "Ctrl Shift Z": "redo"}
VERDICTS = {"1": "keep", "2": "maybe", "3": "drop"}
EDGES = {
    f"{held}{bracket}": f"{act}_{edge}"
    for bracket, edge in (("[", "in"), ("]", "out"))
    for held, act in (("", "on"), ("Shift ", "five_on"), ("Alt ", "back"), ("Alt Shift ", "five_back"))
}

STORY = (
    *PLAYING,
    *SELECTED,
    SEAMS,
    Key(
        "1 … 6",
        "shelf: bites, b-roll, sounds, loose, checks, history",
        {str(number): f"tab_{number}" for number in range(1, 7)},
    ),
    Key("Enter", "on a shelf item: pick it up; Shift click picks up several"),
    Key("I O", "mark in, out in the story; Shift takes the mark away", MARKING),
    Key("T", "seam desk: the next seam, Shift the one before", {"T": "next_seam", "Shift T": "last_seam"}),
    Key("U", "next exposed jump, Shift the one before", {"U": "next_jump", "Shift U": "last_jump"}),
    Key("A", "loop the seam with a second around it; K ends it", {"A": "loop"}),
    Key("Shift W", "waveforms as wide as the words, to trim by; again: thin", {"Shift W": "wide_waves"}),
    Key("G V", "choose the piece, the cover at the playhead", {"G": "choose_piece", "V": "choose_cover"}),
    Key("Shift G", "select the piece at the playhead as well", {"Shift G": "add_piece"}),
    EVERY,
    MARKERS,
    Key("Ctrl", "with a click: select one more clip; Shift: all up to it"),
    Key("", "drag from an empty place: a frame selects all clips it touches"),
    Key("H", "another camera at the playhead", {"H": "other_camera"}),
    Key("Shift H", "the same told elsewhere in the piece's place", {"Shift H": "other_telling"}),
    Key("Shift V", "shots that could cover what is chosen, or the sentence at the playhead", {"Shift V": "covering"}),
    Key("E", "into the bar of the selection: length, level, edits", {"E": "bar"}),
    Key("Ctrl C", "copy what is chosen", {"Ctrl C": "copy"}),
    Key("/", "find in the story", {"/": "find"}),
    Key("", "drop on the words: insert a bite, cover with a shot; with Shift overwrite, with Ctrl insert right there"),
    Key("", "drop beside the words: cover, on the lane under the pointer"),
    Key("Alt", "while dragging: lets go of cuts, marks and beats"),
    *EDITING,
)
ROLL = {"Alt ←": "roll_back", "Alt →": "roll_on", "Alt Shift ←": "roll_five_back", "Alt Shift →": "roll_five_on"}
SOUND = (
    *PLAYING,
    *SELECTED,
    SEAMS,
    Key(". ,", "nearer, farther; the whole film at once with 0", NEARER),
    Key("G V", "choose the piece, the cover’s own sound at the playhead", {"G": "choose_piece", "V": "choose_cover"}),
    Key("E", "choose the sound at the playhead; again for the next one there", {"E": "choose_sound"}),
    Key("T", "choose the next thing of the lane, Shift the one before", {"T": "next", "Shift T": "last"}),
    EVERY,
    MARKERS,
    Key("", "drag from an empty place of a lane: a frame selects all clips it touches"),
    Key("Shift", "with a click: choose more; while dragging: lets go of cuts, words and beats"),
    Key("Alt", "with a click on a moment of a level line or on a peak dip: take it away"),
    Key("A", "hear what is chosen alone; again: everything", {"A": "alone"}),
    Key("C", "its recording cleaned or raw, around the playhead: before and after", {"C": "compare"}),
    Key("H", "record a voice-over from the playhead; again or Space ends it", {"H": "voice"}),
    Key("I O", "mark in, out; Shift takes the mark away", MARKING),
    *EDITING,
)
PICTURE = (
    *PLAYING,
    *SELECTED,
    SEAMS,
    Key(". ,", "strip nearer, farther; the whole film at once with 0", NEARER),
    Key("G V", "choose the piece, the cover at the playhead", {"G": "choose_piece", "V": "choose_cover"}),
    Key("T", "choose the next one of the lane, Shift the one before", {"T": "next", "Shift T": "last"}),
    Key("A", "choose all of the same recording", {"A": "alike"}),
    EVERY,
    Key("M", "marker at the playhead", {"M": "marker"}),
    MARKERS,
    Key("Shift", "with a click: choose more; with an arrow: five frames"),
    Key(
        "+ -",
        "zoom by 1 %, Shift by 10; with the wheel over the picture",
        {"+": "zoom_in", "=": "zoom_in", "*": "zoom_far_in", "-": "zoom_out", "_": "zoom_far_out"},
    ),
    Key(
        "Alt ← → ↑ ↓",
        "move the frame by 1 % of the room, Shift by 10; or drag the picture",
        {
            f"Alt {held}{arrow}": f"move_{far}{way}"
            for arrow, way in (("←", "left"), ("→", "right"), ("↑", "up"), ("↓", "down"))
            for held, far in (("", ""), ("Shift ", "far_"))
        },
    ),
    Key("Alt drag", "from a side of the picture: cut it off, or back"),
    Key("S", "sit it on the speaker’s face", {"S": "faces"}),
    Key("P", "a push from here: the frame is set at the playhead, and moves to it", {"P": "push_here"}),
    Key("C", "as filmed, without looks; again: as it is", {"C": "before"}),
    Key("H", "half and half: before on the left, after on the right", {"H": "halves"}),
    Key("W", "then click something grey in the picture: white is set by it", {"W": "white"}),
    Key("N", "new title at the playhead: over the picture, a lower third, credits", {"N": "title"}),
    Key("E", "edges: safe areas over the picture", {"E": "edges"}),
    Key("Ctrl C", "copy framing and look; Ctrl V gives them to what is chosen", {"Ctrl C": "copy", "Ctrl V": "paste"}),
    *EDITING,
)
LOG = (
    *PLAYING,
    *SELECTED,
    Key("I O", "in, out at the playhead", {"I": "mark_in", "O": "mark_out"}),
    Key("Shift I O", "go to in, out", {"Shift I": "go_in", "Shift O": "go_out"}),
    Key("P", "play in to out", {"P": "play_range"}),
    Key("A", "play around the edge last moved", {"A": "around"}),
    Key("G", "pull in and out to the nearest pause", {"G": "pull"}),
    Key("W", "loupes snap to words and pauses", {"W": "snap"}),
    Key("Enter", "save the bite: the open one is changed", {"Enter": "keep_range"}),
    Key("Shift Enter", "save the range as a new bite, beside the open one", {"Shift Enter": "save_new"}),
    Key("Esc", "close the open bite, clear in and out", {"Escape": "close_bite"}),
    Key("N", "name it first", {"N": "name"}),
    Key("B", "of b-roll: the suggested range", {"B": "best"}),
    Key("M", "marker, Shift names the last one", {"M": "marker", "Shift M": "name_marker"}),
    Key("S", "slice: one boundary while it plays; Shift ends slicing", {"S": "slice", "Shift S": "end_slices"}),
    Key("↓ ↑", "next, previous subclip", {"↓": "next", "↑": "last"}),
    Key("1 2 3", "keep, maybe, drop, and on to the next", VERDICTS),
    Key("E", "correct the word at the playhead", {"E": "correct"}),
    Key("U", "next word that needs a look, Shift the one before", {"U": "unsure", "Shift U": "unsure_before"}),
    Key("", "double click a word: correct it; a space splits it"),
    Key("/", "search what was said", {"/": "search"}),
    Key("← → + −", "in a loupe: move the edge; closer, wider"),
    Key("Ctrl Z", "undo in the log, with Shift redo", UNDO),
    SHEET,
)
WHOLE_LOG = (
    Key("↓ ↑", "next, previous subclip", {"↓": "next", "→": "next", "↑": "last", "←": "last"}),
    Key("X", "choose it", {"X": "tick"}),
    Key("1 2 3", "keep, maybe, drop", VERDICTS),
    Key("Enter", "open it on the desk", {"Enter": "open"}),
    Key("B", "the chosen to the story, at the end", {"B": "to_end"}),
    Key("/", "filter", {"/": "filter"}),
    Key("Alt ← →", "on the storyboard: move the card", {"Alt ←": "card_back", "Alt →": "card_on"}),
    Key("Ctrl Z", "undo, with Shift redo", UNDO),
    SHEET,
)
SHOTS = (
    Key("", "drag over a shot: in and out"),
    Key("← →", "on a shot: move the range a frame, with Shift five"),
    Key("[ ]", "on a shot: the in, the out point later; with Shift earlier"),
    Key("B", "on a shot: the suggested range"),
    Key("Enter", "on a shot: keep it"),
    SHEET,
)
THEMES = (
    Key("Tab", "from statement to statement; Enter shows it"),
    Key("Enter", "in a name: keep it"),
    SHEET,
)
TIGHTEN = (
    *PLAYING,
    Key("↓ ↑", "next, previous proposal", {"↓": "next", "↑": "last"}),
    Key("H", "hear it as it would be, a second around", {"H": "hear"}),
    Key("Shift H", "hear it as it is", {"Shift H": "hear_raw"}),
    Key("X", "take it out, or leave it in", {"X": "decide"}),
    Key("[ ]", "its start, its end one frame on; Alt back; Shift five", EDGES),
    Key("P", "play all that stays", {"P": "hear_all"}),
    Key("G", "protect the stretch dragged over", {"G": "protect"}),
    Key("B", "to the story, at the end", {"B": "to_end"}),
    Key("Ctrl Z", "take the last decision back", {"Ctrl Z": "undo"}),
    SHEET,
)
HITS = (
    *PLAYING,
    Key("Alt → ←", "next, previous hit", {"Alt →": "next", "Alt ←": "last"}),
    Key("X", "leave the hit out, or take it in", {"X": "decide"}),
    Key("P", "play the quick cut", {"P": "play_cut"}),
    Key("B", "to the story, at the end", {"B": "to_end"}),
    Key("T", "on music: tap each beat while it plays, then stop", {"T": "tap"}),
    SHEET,
)
FOOTAGE = (
    Key("Alt ↑ ↓", "in a row: move it"),
    Key("Enter", "in a field: keep what you typed"),
    SHEET,
)
ANY = (SHEET, Key("Tab", "to the next control"))
HOW = {"[": "; Alt back; Shift five", "]": "; Alt back; Shift five", "Alt → ←": "; Shift five"}


def of_edits() -> list[Key]:
    """The keys that edit, each with everything it may do, in the catalogue's order."""
    by_key: dict[str, list[str]] = {}
    for _, entry in entries():
        if entry.key:
            said_label = re.sub(r":? ?\b[A-Z]{4,}\b.*", "", entry.label)
            by_key.setdefault(entry.key, []).append(
                said_label[0].lower() + said_label[1:] if not said_label[1:2].isupper() else said_label
            )
    return [Key(name, "; ".join(dict.fromkeys(does)) + HOW.get(name, "")) for name, does in by_key.items()]


def _with_edits(*sheet_keys: Key, more: Mapping[str, str]) -> KeySheet:
    """The rows, and those of edits whose key none of them has; `more`: chords of edits that the room does itself."""
    own_keys = sheet(*sheet_keys)
    edits = (edit_key for edit_key in of_edits() if edit_key.keys[0] not in own_keys.acts)
    return KeySheet((*own_keys.rows, *edits), {**own_keys.acts, **more})


SHEETS: Mapping[str, KeySheet] = {
    "": sheet(*ANY),
    "footage": sheet(*FOOTAGE),
    "log": sheet(*LOG),
    "whole_log": sheet(*WHOLE_LOG),
    "shots": sheet(*SHOTS),
    "themes": sheet(*THEMES),
    "tighten": sheet(*TIGHTEN),
    "hits": sheet(*HITS),
    "story": _with_edits(*STORY, more=EDGES | ROLL),
    "picture": sheet(*PICTURE),
    "sound": _with_edits(*SOUND, more=EDGES),
}
NAMES = {  # of the pages that have keys of their own, as they are headed where all are shown
    "footage": "Footage",
    "log": "Log",
    "whole_log": "The whole log",
    "shots": "Shots",
    "themes": "Themes",
    "tighten": "Tighten",
    "hits": "Hits",
    "story": "Story",
    "picture": "Picture",
    "sound": "Sound",
}
