"""Rows of words, and of the sentences that are searched: written together, inside somebody's transaction."""

import sqlite3
from collections.abc import Sequence

from kovel.core.words.transcript import Word, sentences


def write_words(connection: sqlite3.Connection, recording: int, at: int, count: int, new_words: Sequence[Word]) -> None:
    """Inside a transaction: rows for `new_words` in place of the `count` words from `at` on, and the sentences that
    changed."""
    connection.execute("UPDATE recording SET said = said + 1 WHERE id = ?", (recording,))
    connection.execute("DELETE FROM word WHERE recording = ? AND i >= ? AND i < ?", (recording, at, at + count))
    shift = len(new_words) - count
    if shift:  # by way of negative numbers, so that no two rows ever share one
        connection.execute(
            "UPDATE word SET i = -(i + ?) WHERE recording = ? AND i >= ?", (shift, recording, at + count)
        )
        connection.execute("UPDATE word SET i = -i WHERE recording = ? AND i < 0", (recording,))
    connection.executemany(
        "INSERT INTO word (recording, i, text, start, end, speaker, sure) VALUES (?,?,?,?,?,?,?)",
        [
            (recording, at + index, word.text, word.start, word.end, word.speaker, word.sure)
            for index, word in enumerate(new_words)
        ],
    )
    _sentences_around(connection, recording, at, len(new_words))


def _sentences_around(connection: sqlite3.Connection, recording: int, at: int, count: int) -> None:
    """Make the sentences anew that hold words [at, at + count) or touch them; what lies further off cannot have
    changed."""
    edge = (
        "SELECT s.start, s.end FROM sentence s JOIN word w ON w.recording = s.recording AND w.start >= s.start AND "
        "w.start < s.end WHERE w.recording = ? AND w.i = ?"
    )
    before = connection.execute(edge, (recording, at - 1)).fetchone()
    after = connection.execute(edge, (recording, at + count)).fetchone()
    low, high = before[0] if before else -1, after[1] if after else 1 << 62
    word_rows = connection.execute(
        "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND start >= ? AND start < ? ORDER BY i",
        (recording, low, high),
    )
    want = {
        (sentence.start, sentence.end, sentence.speaker, sentence.text)
        for sentence in sentences([Word(*word_row) for word_row in word_rows])
    }
    have = {
        tuple(sentence_row)[1:]: sentence_row[0]
        for sentence_row in connection.execute(
            "SELECT id, start, end, speaker, text FROM sentence WHERE recording = ? AND start >= ? AND start < ?",
            (recording, low, high),
        )
    }
    connection.executemany(
        "DELETE FROM sentence WHERE id = ?", [(sentence_id,) for key, sentence_id in have.items() if key not in want]
    )
    connection.executemany(
        "INSERT INTO sentence (recording, start, end, speaker, text) VALUES (?,?,?,?,?)",
        [(recording, *sentence_key) for sentence_key in sorted(want - set(have))],
    )
