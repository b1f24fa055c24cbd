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
    left = dict.fromkeys(gone)
    for j in came:
        piece = new.pieces[j]
        i = next((i for i in left if a[i] == b[j]), None)
        kind = "moved"
        if i is None:  # the piece it shares most frames with
            shared = {i: _shared(old.pieces[i], piece) for i in left}
            i = max(shared, key=lambda i: shared[i], default=None)
            kind = "trimmed"
            if i is not None and not shared[i]:
                i = None
        if i is None:
            differences.append(Difference("added", piece, new.starts[j], None, piece.length))
        else:
            del left[i]
            differences.append(
                Difference(kind, piece, new.starts[j], old.starts[i], piece.length - old.pieces[i].length)
            )
    differences += [Difference("removed", old.pieces[i], None, old.starts[i], -old.pieces[i].length) for i in left]
    return sorted(differences, key=lambda d: (d.at if d.at is not None else d.was or 0, d.kind))


def _shared(first_piece: Piece, second_piece: Piece) -> int:
    if first_piece.source is None or first_piece.source != second_piece.source:
        return 0
    (start, end), (x, y) = first_piece.used, second_piece.used
    return max(0, min(end, y) - max(start, x))
