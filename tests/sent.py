"""Files that somebody sends, taken apart as the child does it, here in the test's own process."""

import tempfile
from typing import Any

from kovel.core.time.rate import Rate
from kovel.core.words.subtitles import Cue
from kovel.exchange.caption_formats import MOST, cues_of
from kovel.exchange.edl_in import from_edl
from kovel.exchange.otio_in import from_otio
from kovel.exchange.sent_files import read_cues, read_events, read_timeline
from kovel.exchange.uses import Taken


def _read(how: Any, text: str, **more: Any) -> dict[str, Any]:
    with tempfile.NamedTemporaryFile() as f:
        f.write(text.encode())
        f.flush()
        told: dict[str, Any] = how(f.name, progress=lambda x: None, **more)
    return told


def timeline(text: str, p: Any, rows: Any) -> Taken:
    return from_otio(_read(read_timeline, text), p, rows)


def edit_list(text: str, p: Any, rows: Any) -> Taken:
    return from_edl(_read(read_events, text), p, rows)


def cues_in(text: str, rate: Rate) -> tuple[list[Cue], list[tuple[int, str]]]:
    told = _read(read_cues, text, most=MOST)
    return cues_of(told, rate), [(n, why) for n, why in told["refused"]]
