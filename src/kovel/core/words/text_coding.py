"""Bytes of a text file as text, whatever program wrote it: UTF-8, UTF-16, Windows-1252 or Latin-1, by what fits.

EF BB BF ..      UTF-8 with its mark        63 61 66 C3 A9   UTF-8: café
FF FE 63 00 ..   UTF-16, little end first   63 61 66 E9      Windows-1252: café
"""

from __future__ import annotations

import codecs
import re

from kovel.core.errors import Told

MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))
CONTROLS = re.compile("[\x00-\x08\x0e-\x1f\x7f-\x9f]")  # letters that no text has
MANY_ZEROS = 0.3  # of every second byte: text of 16 bits without a mark


class NotText(Told, ValueError):
    """Bytes that are no text in a coding that could be told."""


def text_in(body: bytes) -> str:
    """The text; `NotText` where it is in no coding that could be told without breaking letters."""
    for mark, coding in MARKS:
        if body.startswith(mark):
            return _decoded(body, coding)
    if len(body) > 3 and len(body) % 2 == 0:
        for first, coding in ((1, "utf-16-le"), (0, "utf-16-be")):
            half = body[first::2]
            if half.count(0) > MANY_ZEROS * len(half):
                return _decoded(body, coding)
    try:
        return body.decode("utf-8")
    except UnicodeDecodeError:
        pass
    for coding in ("cp1252", "latin-1"):
        try:
            text = body.decode(coding)
        except UnicodeDecodeError:
            continue
        if not CONTROLS.search(text):
            return text
    raise NotText("Its letters are in a coding that cannot be told. Save it as UTF-8, then bring it in again.")


def _decoded(body: bytes, coding: str) -> str:
    try:
        return body.decode(coding)
    except UnicodeDecodeError:
        raise NotText(
            "It begins as a text and then is none: it was cut off or is damaged. Save it again as UTF-8."
        ) from None
