"""Which edit somebody means who types some of its name and perhaps a value: "fade out 80f", "length 3s", "duck".

typed      length 3s                         the longest beginning that names something, the rest is its value
name       Length of what is chosen: LENGTH  words in capitals say what is typed there; they are no part of the name
ranked     exact names, then names that begin so, then names with such words, then other words of the trade;
           within each, what is named by all that is typed before what takes the rest as its text, then what fits the
           selection
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum

from kovel.core.story.edit_offers import Typed
from kovel.core.story.typed_values import ValueTyped, typed_number
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, parse_entry

PLACEHOLDER = re.compile(r"#[A-Z]{3,}|\b[A-Z]{4,}\b(?:\s*/\s*[A-Z]{4,})?|\.\.\.")
SIGNS = re.compile(r"[\s:,/()]+")
MOST = 60  # shown


class Match(IntEnum):
    """How what was typed meets a name; the smaller the better."""

    EXACT = 0  # the whole name
    BEGINS = 1  # its first words
    WITHIN = 2  # some of its words, in any order
    ALSO = 3  # another word of the trade for it
    NEAR = 4  # a word that looks alike


@dataclass(frozen=True, slots=True)
class Named:
    """Something that can be asked for by its name. `also`: other words for it; `fits`: it can be done to what is
    selected."""

    label: str
    typed: Typed = ""
    also: tuple[str, ...] = ()
    fits: bool = True

    @property
    def title(self) -> str:
        """The name alone, without what is typed into it."""
        return " ".join(SIGNS.sub(" ", PLACEHOLDER.sub(" ", self.label)).split())


@dataclass(frozen=True, slots=True)
class Hit:
    """The n-th name, the value that was typed after it, and how good a match it is. `runs`: Enter does it; else
    Enter only writes its name, for nobody named it."""

    number: int
    value: str
    match: Match
    runs: bool


def _matching(names: Sequence[Named], tokens: Sequence[str], frame_rate: Rate) -> dict[int, Hit]:
    """Those whose names match, by their numbers: with as many of the words as can be taken for the name, and the rest
    for what it is asked with."""
    hits_by_entry: dict[int, Hit] = {}
    for count in range(len(tokens), 0, -1):
        words = _words(" ".join(tokens[:count]))
        value = " ".join(tokens[count:]).lstrip(": ")
        for index, name in enumerate(names):
            if index in hits_by_entry or not words or (value and not _takes(name.typed, value, frame_rate)):
                continue
            match = _match(name, words)
            if match is not None and (match < Match.ALSO or not value):
                hits_by_entry[index] = Hit(index, value, match, match < Match.ALSO)
    return hits_by_entry


def searched(names: Sequence[Named], typed: str, frame_rate: Rate) -> list[Hit]:
    """What is meant, best first; with nothing typed all that fits the selection, and then the rest, in their order."""
    tokens = typed.split()
    if not tokens:
        ranked_names = sorted(range(len(names)), key=lambda n: not names[n].fits)
        return [Hit(ranked_name, "", Match.WITHIN, True) for ranked_name in ranked_names]
    found_entries = _matching(names, tokens, frame_rate)
    if not found_entries:
        near_names = {index for index, name in enumerate(names) for word in _words(typed) if _near(word, name)}
        found_entries = {n: Hit(n, "", Match.NEAR, False) for n in near_names}

    def rank(hit: Hit) -> tuple[int | bool, ...]:
        """Any text can be typed after a name that takes text: what is named by all of it comes first."""
        name = names[hit.number]
        return hit.match, name.typed == "text" and bool(hit.value), not name.fits, len(name.title), hit.number

    return sorted(found_entries.values(), key=rank)[:MOST]


def _words(text: str) -> list[str]:
    return [w for w in SIGNS.split(text.lower()) if w]


def _match(name: Named, words: list[str]) -> Match | None:
    title = _words(name.title)
    if words in (title, _words(name.label.split(":")[0])):
        return Match.EXACT
    if len(words) <= len(title) and all(text.startswith(word) for word, text in zip(words, title, strict=False)):
        return Match.BEGINS
    if all(any(text.startswith(word) for text in title) for word in words):
        return Match.WITHIN
    others = [word for other_name in name.also for word in _words(other_name)]
    if " ".join(words) in name.also or all(
        any(other_token.startswith(word) and len(word) > 2 for other_token in (*others, *title)) for word in words
    ):
        return Match.ALSO
    return None


def _near(word: str, name: Named) -> bool:
    """Whether a word begins like one of a name, or lies in one."""
    return (
        any(len(other) > 2 and (other.startswith(word[:3]) or word in other) for other in _words(name.title))
        and len(word) > 2
    )


def _takes(typed: Typed, value: str, frame_rate: Rate) -> bool:
    """Whether a value can be what is typed after a name; nothing can where nothing is typed."""
    if typed == "text":
        return True
    if typed == "number":
        try:
            typed_number(value)
        except ValueTyped:
            return False
        return True
    if not typed:
        return False
    if value == "0":
        return True
    try:
        parse_entry(value, frame_rate, minutes=typed == "minutes")
    except TimeError:
        return False
    return True
