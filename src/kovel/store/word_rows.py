"""Rows of words, and of the sentences that are searched: written together, inside somebody's transaction."""

import sqlite3
from collections.abc import Sequence

from kovel.core.words.transcript import Word, sentences


def write_words(c: sqlite3.Connection, recording: int, at: int, count: int, new: Sequence[Word]) -> None:
    """Inside a transaction: rows for `new` in place of the `count` words from `at` on, and the sentences that changed."""
    c.execute("UPDATE recording SET said = said + 1 WHERE id = ?", (recording,))
    c.execute("DELETE FROM word WHERE recording = ? AND i >= ? AND i < ?", (recording, at, at + count))
    shift = len(new) - count
    if shift:  # by way of negative numbers, so that no two rows ever share one
        c.execute("UPDATE word SET i = -(i + ?) WHERE recording = ? AND i >= ?", (shift, recording, at + count))
        c.execute("UPDATE word SET i = -i WHERE recording = ? AND i < 0", (recording,))
    c.executemany(
        "INSERT INTO word (recording, i, text, start, end, speaker, sure) VALUES (?,?,?,?,?,?,?)",
        [(recording, at + k, w.text, w.start, w.end, w.speaker, w.sure) for k, w in enumerate(new)],
    )
    _sentences_around(c, recording, at, len(new))


def _sentences_around(c: sqlite3.Connection, recording: int, at: int, count: int) -> None:
    """Make the sentences anew that hold words [at, at + count) or touch them; what lies further off cannot have changed."""
    edge = "SELECT s.start, s.end FROM sentence s JOIN word w ON w.recording = s.recording AND w.start >= s.start AND w.start < s.end WHERE w.recording = ? AND w.i = ?"
    before = c.execute(edge, (recording, at - 1)).fetchone()
    after = c.execute(edge, (recording, at + count)).fetchone()
    low, high = before[0] if before else -1, after[1] if after else 1 << 62
    rows = c.execute(
        "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND start >= ? AND start < ? ORDER BY i",
        (recording, low, high),
    )
    want = {(s.start, s.end, s.speaker, s.text) for s in sentences([Word(*r) for r in rows])}
    have = {
        tuple(r)[1:]: r[0]
        for r in c.execute(
            "SELECT id, start, end, speaker, text FROM sentence WHERE recording = ? AND start >= ? AND start < ?",
            (recording, low, high),
        )
    }
    c.executemany("DELETE FROM sentence WHERE id = ?", [(i,) for k, i in have.items() if k not in want])
    c.executemany(
        "INSERT INTO sentence (recording, start, end, speaker, text) VALUES (?,?,?,?,?)",
        [(recording, *k) for k in sorted(want - set(have))],
    )
