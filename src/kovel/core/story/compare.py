"""What differs between two stories: by what is used of the recordings, whatever ids their pieces have."""

from __future__ import annotations

from dataclasses import dataclass
from difflib import SequenceMatcher

from kovel.core.story.model import Piece, Story


@dataclass(frozen=True, slots=True)
class Difference:
    """`kind` is added, removed, moved or trimmed; `at` and `was` are story frames in the new and the old story."""

    kind: str
    piece: Piece
    at: int | None
    was: int | None
    frames: int = 0


Key = tuple[object, ...]


def _key(piece: Piece) -> Key:
    return (
        piece.source,
        piece.card,
        piece.start if piece.source is not None else 0,
        piece.length,
        piece.take,
        piece.settings,
    )


def compare(old: Story, new: Story) -> list[Difference]:
    """Pieces of the dialogue line that were added, removed, moved or trimmed, in the order of the new story.

    old   | A | B | C |          new   | B | A' | D |      A trimmed, C removed, D added, B moved
    """
    a, b = [_key(piece) for piece in old.pieces], [_key(piece) for piece in new.pieces]
    gone: list[int] = []
    came: list[int] = []
    for tag, i1, i2, j1, j2 in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if tag != "equal":
            gone += range(i1, i2)
            came += range(j1, j2)
    differences: list[Difference] = []
    pieces_left = dict.fromkeys(gone)
    for came_index in came:
        piece = new.pieces[came_index]
        same_index = next((gone_index for gone_index in pieces_left if a[gone_index] == b[came_index]), None)
        kind = "moved"
        if same_index is None:  # the piece it shares most frames with
            shared = {gone_index: _shared(old.pieces[gone_index], piece) for gone_index in pieces_left}
            same_index = max(shared, key=lambda i: shared[i], default=None)
            kind = "trimmed"
            if same_index is not None and not shared[same_index]:
                same_index = None
        if same_index is None:
            differences.append(Difference("added", piece, new.starts[came_index], None, piece.length))
        else:
            del pieces_left[same_index]
            differences.append(
                Difference(
                    kind,
                    piece,
                    new.starts[came_index],
                    old.starts[same_index],
                    piece.length - old.pieces[same_index].length,
                )
            )
    differences += [
        Difference("removed", old.pieces[gone_index], None, old.starts[gone_index], -old.pieces[gone_index].length)
        for gone_index in pieces_left
    ]
    return sorted(differences, key=lambda d: (d.at if d.at is not None else d.was or 0, d.kind))


def _shared(first_piece: Piece, second_piece: Piece) -> int:
    if first_piece.source is None or first_piece.source != second_piece.source:
        return 0
    (start, end), (x, y) = first_piece.used, second_piece.used
    return max(0, min(end, y) - max(start, x))
