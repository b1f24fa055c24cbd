"""Pieces of a recording's pictures where none lie in files of their own: cut out of its whole proxy as they were
before they were put together, or out of the recording itself where its own pictures are shown."""

import base64
import json
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from kovel.data_folder import DataFolder, media_facts
from kovel.media.own_pictures import own_piece
from kovel.media.pieces import PIECE, Piece
from kovel.services.footage.intake import file_of
from kovel.store import recordings


def piece_of_own(data_folder: DataFolder, recording: int, number: int) -> bytes | None:
    """Piece `number` of a recording whose own pictures are shown; None behind its end, or where its file is not
    there."""
    return own_piece(
        data_folder.derived(recording), file_of(data_folder, recordings.get(data_folder.db, recording)), number
    )


def shown_file(data_folder: DataFolder, recording: int) -> Path:
    """The file whose pictures the page shows: a proxy, or the recording itself."""
    facts = media_facts(data_folder, recording) or {}
    return (
        file_of(data_folder, recordings.get(data_folder.db, recording))
        if facts.get("own")
        else data_folder.derived(recording) / "proxy.mp4"
    )


def piece_of_whole(folder: Path, number: int) -> bytes | None:
    """Piece `number` as media/pieces.py writes it; None behind the end, or where there is no picture."""
    try:
        stamp = (folder / "media.json").stat().st_mtime_ns
        facts, edges = _index(folder, stamp)
    except (OSError, ValueError, KeyError):
        return None
    start, end = number * PIECE, min((number + 1) * PIECE, len(edges) - 1)
    if not 0 <= start < end:
        return None
    with (folder / "proxy.mp4").open("rb") as file:
        file.seek(int(edges[start]))
        raw = file.read(int(edges[end] - edges[start]))
    at = edges[start : end + 1] - edges[start]
    packets = tuple(raw[packet_start:y] for packet_start, y in zip(at[:-1].tolist(), at[1:].tolist(), strict=True))
    return Piece(facts["width"], facts["height"], base64.b64decode(facts["avcc"]), packets).to_bytes()


@lru_cache(64)
def _index(folder: Path, stamp: int) -> tuple[dict[str, Any], npt.NDArray[np.int64]]:
    """The facts of a whole recording, and where each packet of its proxy begins, with the end of the last."""
    facts: dict[str, Any] = json.loads((folder / "media.json").read_text())
    sizes = np.fromfile(folder / "proxy.idx", "<u4").astype(np.int64)
    return facts, facts["first"] + np.concatenate([[0], np.cumsum(sizes)])
