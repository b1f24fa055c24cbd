"""Files that somebody sends: kept for a moment under a name of their own, taken apart in a child with limits,
forgotten."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.words.text_coding import NotText, text_in
from kovel.data_folder import DataFolder
from kovel.media.child import call
from kovel.media.files import NoRoom, Unusable


def taken_apart(data_folder: DataFolder, how: str, name: str, body: bytes | str, **more: Any) -> dict[str, Any]:
    """What a call of exchange/sent_files.py makes of the file `name`; `Invalid` in words where it cannot be read, or
    takes more time or memory than any such file should."""
    raw = body.encode("utf-8", "replace") if isinstance(body, str) else body
    with tempfile.NamedTemporaryFile(dir=data_folder.root, prefix="sent-") as kept:
        kept.write(raw)
        kept.flush()
        try:
            told_result: dict[str, Any] = call(how, {"path": kept.name, **more})
        except NoRoom:
            raise
        except Unusable as error:
            why = str(error)
            if Path(kept.name).name in why:  # the child ended without a word
                why = "it is damaged, or far more than such a file should hold"
            raise Invalid(f"{name} cannot be read: {why}. Nothing was taken from it.") from None
    return told_result


def text_of(name: str, body: bytes) -> str:
    """The text of a file that somebody sends, whatever coding it is in; `Invalid` where that cannot be told."""
    try:
        return text_in(body)
    except NotText as error:
        raise Invalid(f"{name} cannot be read. {error}") from None
