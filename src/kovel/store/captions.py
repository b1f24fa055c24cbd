"""Captions of a story as far as they are the editor's: texts that were changed, and a file of them that was brought in."""

import json

from kovel.core.words.subtitles import Cue
from kovel.store.db import Database


def edits(db: Database, story: int) -> dict[tuple[int, int], tuple[str, str]]:
    """By recording and sample of the first word: what it said when it was changed, and what it says."""
    rows = db.read().execute("SELECT recording, sample, was, text FROM caption_edit WHERE story = ?", (story,))
    return {(r[0], r[1]): (r[2], r[3]) for r in rows}


def change(db: Database, story: int, key: tuple[int, int], was: str, text: str) -> None:
    """Change what a caption says; an empty text takes the change back."""
    db.guard(story)
    with db.write() as c:
        c.execute("DELETE FROM caption_edit WHERE story = ? AND recording = ? AND sample = ?", (story, *key))
        if text:
            c.execute("INSERT INTO caption_edit VALUES (?,?,?,?,?)", (story, *key, was, text))


def brought(db: Database, story: int) -> tuple[str, list[Cue]] | None:
    """The file that stands instead of what follows the words: its name and cues."""
    r = db.read().execute("SELECT name, cues FROM caption_file WHERE story = ?", (story,)).fetchone()
    if r is None:
        return None
    return r[0], [Cue(a, b, tuple(lines), speaker, (0, n)) for n, (a, b, lines, speaker) in enumerate(json.loads(r[1]))]


def bring(db: Database, story: int, name: str, cues: list[Cue] | None) -> None:
    """Let the captions of a file stand for a story; None: its words again."""
    db.guard(story)
    with db.write() as c:
        c.execute("DELETE FROM caption_file WHERE story = ?", (story,))
        if cues is not None:
            rows = json.dumps([[x.at, x.end, list(x.lines), x.speaker] for x in cues])
            c.execute("INSERT INTO caption_file VALUES (?,?,?)", (story, name, rows))
