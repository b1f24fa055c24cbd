"""The words of the application, each with its one meaning: shown below the keys of every page, and docs/glossary.md."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Term:
    """A word and what it means here."""

    word: str
    meaning: str


OURS = (
    Term("room", "one screen of the application, named after a step of the work"),
    Term("piece", "one use of a range of a recording in the story’s dialogue line; also a card or a space"),
    Term("cover", "picture laid over the dialogue, tied to the word under its first frame"),
    Term("seam", "where two neighbouring pieces meet: clean, jump, covered or soft"),
    Term("tether", "what ties a cover or a sound to a word: it stays on it whatever moves or is trimmed before it"),
    Term("loose", "a cover or sound whose word has left the story: it waits in the tray"),
    Term("lined page", "the story as a script page: time runs down, coverage lines run beside the words"),
    Term("strip", "the same story sideways and close up, with waveforms"),
    Term("loupe", "a magnified stretch of waveform around an in or an out point"),
    Term("hit", "a sudden sound that a quick cut can start on"),
    Term("verdict", "keep, maybe or drop, on a subclip or a pause"),
    Term("setting", "one number, choice or line that changes how something is seen or heard"),
    Term("line", "a setting that changes over time, on the recording’s own clock"),
    Term("layer", "one picture in the stack that makes a frame: a shot, a card, a title"),
    Term("pace", "how fast a shot runs: a constant speed, backwards, held, or a ramp"),
    Term("theme", "what several statements have in common, found by meaning across all interviews"),
    Term("derived sound", "a sound file made of a recording by settings; player and render read the same one"),
    Term("plan", "the flattened story: what is seen and heard at every frame; player and render read nothing else"),
)
TRADE = (
    Term("subclip", "a range of a recording with a name; of speech it is a soundbite"),
    Term("in point, out point", "first frame of a range, and the frame after its last"),
    Term("handle", "frames of a recording beyond an edge, wanted for dissolves and trims"),
    Term("b-roll, cutaway", "pictures of what is spoken of; another view of the moment"),
    Term("jump cut", "two pieces of one camera setup side by side, seen to jump"),
    Term("split edit", "sound that changes before its picture (J) or after it (L)"),
    Term("roll, slip, slide", "move a seam; change what a piece shows; move a piece between its neighbours"),
    Term("ripple", "what follows moves along, so that no space is left"),
    Term("insert, overwrite", "put in and move the rest on; put in over what stands there"),
    Term("lift, extract", "take out and leave a space; take out and close up"),
    Term("three-point edit", "three of the four in and out points set; the fourth follows"),
    Term("radio cut, story cut", "the cut by its dialogue alone; the cut with pictures"),
    Term("room tone", "the sound of a place where nobody speaks, for spaces"),
    Term("ducking", "music that goes down under speech"),
    Term("stems", "dialogue, natural sound, effects and music as files of their own"),
    Term("lower third", "the name of who speaks, low in the picture"),
)


def as_markdown() -> str:
    """The glossary as docs/glossary.md has it."""
    parts = [
        "# Glossary",
        "",
        "Made from `src/kovel/web/glossary.py` by `python tools/glossary.py`; the key sheet (`?`) shows it.",
    ]
    for heading, terms in (("Our words", OURS), ("The trade’s, as we use them", TRADE)):
        parts += ["", f"## {heading}", "", "| word | what it is |", "|---|---|"]
        parts += [f"| {term.word} | {term.meaning} |" for term in terms]
    return "\n".join(parts) + "\n"
