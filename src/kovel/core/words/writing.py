"""Written words of any script: compared without case and punctuation, put together, and where a sentence ends.

Every letter is kept as it was written; nothing here knows a language (core/words/languages.py does).
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable

# Unicode's Sentence_Terminal (UAX 29) as far as it is met in interviews, the Armenian question mark, the ellipsis
ENDS = tuple(".?!…。！？؟۔।॥։՞‼⁇⁈⁉។៕။።፧")
ASKS = tuple("?？؟՞⁇⁈፧")
CLOSES = "\"'”’»)]）」』\u200e\u200f"  # what may stand behind the end of a sentence
_UNSPACED = ("CJK UNIFIED", "HIRAGANA", "KATAKANA", "THAI ", "LAO ", "KHMER ", "MYANMAR ", "IDEOGRAPHIC")


def plain(text: str) -> str:
    """A word without case and punctuation, for comparing: letters, their marks and figures, in one form (NFC)."""
    if text.isascii():
        return "".join(ch for ch in text.lower() if ch.isalnum() or ch == "'")
    whole = unicodedata.normalize("NFC", text.casefold()).replace("’", "'")
    return "".join(ch for ch in whole if ch == "'" or ch.isalnum() or unicodedata.category(ch)[0] == "M")


def ends(word: str) -> bool:
    """Whether a sentence ends with this written word."""
    bare = word.rstrip(CLOSES)
    return bare.endswith(ENDS) or _asks_in_greek(bare)


def asks(text: str) -> bool:
    """Whether a written sentence is a question by its mark."""
    bare = text.rstrip().rstrip(CLOSES)
    return "¿" in text or bare.endswith(ASKS) or _asks_in_greek(bare)


def _asks_in_greek(text: str) -> bool:
    """Greek asks with what is a semicolon elsewhere (U+037E, which is the same character as U+003B)."""
    return text.endswith((";", "\u037e")) and unicodedata.name(text[-2:-1] or " ", "").startswith("GREEK")


def together(words: Iterable[str]) -> str:
    """Written words as one text: with spaces between, but for scripts that have none (Chinese, Japanese, Thai, Lao,
    Khmer, Burmese)."""
    joined_text = ""
    for word in words:
        joined_text += (
            word if not joined_text or not word or (_unspaced(joined_text[-1]) and _unspaced(word[0])) else f" {word}"
        )
    return joined_text


def named(line: str) -> tuple[str, str]:
    """Who speaks in a line that begins with a name and a colon, and the rest of it; nobody where it does not.

    >>> named("Odile: we rowed")
    ('Odile', 'we rowed')
    """
    match = re.match(r"\s*(\w[\w .'’-]{0,24}):\s+", line)
    return (
        (match[1], line[match.end() :]) if match and match[1][0].isalpha() and not match[1][0].islower() else ("", line)
    )


def _unspaced(ch: str) -> bool:
    return ord(ch) > 0x0E00 and (unicodedata.name(ch, "").startswith(_UNSPACED) or ch in "、。！？，：；「」『』（）")
