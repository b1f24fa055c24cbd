"""What is said in recordings: words with their samples, speakers, sentences that are searched."""

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass

from kovel.core.errors import Invalid
from kovel.core.words.nearness import Said
from kovel.core.words.transcript import Word
from kovel.store import steps
from kovel.store.db import Database
from kovel.store.recordings import get
from kovel.store.word_rows import write_words


def said(database: Database, recording: int) -> str:
    """What names the state of a recording's words: another one after each change."""
    said_row = database.read().execute("SELECT added, said FROM recording WHERE id = ?", (recording,)).fetchone()
    return f"{said_row[0]} {said_row[1]}" if said_row else ""


def words(database: Database, recording: int) -> tuple[Word, ...]:
    """All words of a recording in order; read again only when they were changed since."""
    state = said(database, recording)
    known = database.words.get(recording)
    if known is None or known[0] != state:
        word_rows = database.read().execute(
            "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? ORDER BY i", (recording,)
        )
        known = (state, tuple(Word(*word_row) for word_row in word_rows))
        if len(database.words) > 20:
            database.words.clear()
        database.words[recording] = known
    return known[1]


def words_between(database: Database, recording: int, start: int, end: int) -> list[Word]:
    """Words that begin in samples [start, end), and the one that is under way at `start`."""
    word_rows = database.read().execute(
        "SELECT text, start, end, speaker, sure FROM word WHERE recording = ?1 AND start < ?3"
        " AND start >= coalesce((SELECT max(start) FROM word WHERE recording = ?1 AND start <= ?2), ?2) ORDER BY "
        "start, i",
        (recording, start, end),
    )
    return [Word(*word_row) for word_row in word_rows]


UNSURE = 0.4  # of a word that needs a look


def next_unsure(database: Database, recording: int, sample: int, back: bool = False) -> tuple[Word | None, int]:
    """The first word from a sample on (or the last before it) that the recogniser was unsure of, and how many there
    are."""
    way = "start < ? ORDER BY start DESC" if back else "start >= ? ORDER BY start"
    word_row = (
        database.read()
        .execute(
            f"SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND sure < {UNSURE} AND {way} "
            "LIMIT 1",
            (recording, sample),
        )
        .fetchone()
    )
    n = (
        database.read()
        .execute(f"SELECT count(*) FROM word WHERE recording = ? AND sure < {UNSURE}", (recording,))
        .fetchone()[0]
    )
    return Word(*word_row) if word_row else None, n


def corrected(database: Database, project: int, most: int = 300) -> list[str]:
    """Words that the editor wrote into transcripts which a recogniser made: those it did not know, the most frequent
    first."""
    word_rows = database.read().execute(
        "SELECT w.text FROM word w JOIN recording r ON r.id = w.recording WHERE r.project = ? AND w.sure = 1.0 AND "
        "EXISTS"
        " (SELECT 1 FROM word x WHERE x.recording = w.recording AND x.sure < 1.0) GROUP BY w.text ORDER BY count(*) "
        "DESC LIMIT ?",
        (project, most),
    )
    return [word_row[0] for word_row in word_rows]


def words_before(database: Database, recording: int, sample: int, count: int) -> list[Word]:
    """The last words that begin before a sample, the last one first."""
    word_rows = database.read().execute(
        "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND start < ? ORDER BY start DESC, i "
        "DESC LIMIT ?",
        (recording, sample, count),
    )
    return [Word(*word_row) for word_row in word_rows]


LONGEST = 4 * 48_000  # samples a word takes, hardly ever more


def said_in(database: Database, ranges: Sequence[tuple[int, int, int]]) -> list[list[tuple[str, str]]]:
    """The words (speaker, text) in each of the ranges (recording, first sample, end): one query for all. A word
    belongs where its middle lies."""
    word_rows = database.read().execute(
        "WITH r AS MATERIALIZED (SELECT key, value ->> 0 AS of, value ->> 1 AS a, value ->> 2 AS b FROM json_each(?))"
        " SELECT (SELECT group_concat(said, x'1e') FROM (SELECT w.speaker || x'1f' || w.text AS said FROM word w"
        f" WHERE w.recording = r.of AND w.start >= r.a - {LONGEST} AND w.start < r.b"
        " AND (w.start + w.end) / 2 >= r.a AND (w.start + w.end) / 2 < r.b ORDER BY w.start, w.i)) FROM r ORDER BY key",
        (json.dumps(ranges),),
    )
    return [
        [(w[0], w[2]) for said_part in sentence_row[0].split("\x1e") if (w := said_part.partition("\x1f"))]
        if sentence_row[0]
        else []
        for sentence_row in word_rows
    ]


def speakers(database: Database, recording: int) -> list[str]:
    speaker_rows = database.read().execute(
        "SELECT DISTINCT speaker FROM sentence WHERE recording = ? AND speaker != '' ORDER BY 1", (recording,)
    )
    return [speaker_row[0] for speaker_row in speaker_rows]


def speakers_of_project(database: Database, project: int) -> list[str]:
    """Everybody who is named in what is said in a project, by name."""
    speaker_rows = database.read().execute(
        "SELECT DISTINCT s.speaker FROM sentence s JOIN recording r ON r.id = s.recording"
        " WHERE r.project = ? AND r.gone IS NULL AND s.speaker != '' ORDER BY 1",
        (project,),
    )
    return [speaker_row[0] for speaker_row in speaker_rows]


def sentences_between(database: Database, recording: int, start: int, end: int) -> list[Said]:
    """Sentences that are heard in samples [start, end)."""
    sentence_rows = database.read().execute(
        "SELECT recording, start, end, speaker, text FROM sentence WHERE recording = ? AND start < ? AND end > ? "
        "ORDER BY start",
        (recording, end, start),
    )
    return [Said(*sentence_row) for sentence_row in sentence_rows]


def turns(database: Database, recording: int, apart: int) -> list[tuple[int, int, str]]:
    """(start, end, speaker) in samples of what is said in one go: sentences of one speaker no more than `apart` from
    each other."""
    speaker_turns: list[tuple[int, int, str]] = []
    for a, b, who in database.read().execute(
        "SELECT start, end, speaker FROM sentence WHERE recording = ? ORDER BY start", (recording,)
    ):
        if speaker_turns and speaker_turns[-1][2] == who and a - speaker_turns[-1][1] < apart:
            speaker_turns[-1] = (speaker_turns[-1][0], max(b, speaker_turns[-1][1]), who)
        else:
            speaker_turns.append((a, b, who))
    return speaker_turns


def has_words(database: Database, project: int) -> set[int]:
    recording_rows = database.read().execute(
        "SELECT id FROM recording r WHERE project = ? AND gone IS NULL AND EXISTS (SELECT 1 FROM word WHERE recording "
        "= r.id)",
        (project,),
    )
    return {recording_row[0] for recording_row in recording_rows}


def set_words(database: Database, recording: int, said_words: Sequence[Word], did: str = "") -> None:
    """Replace all of a recording's words, and what is searched of them; one undoable step of the log."""
    this_recording = get(database, recording)
    change_words(
        database, recording, 0, words(database, recording), said_words, did or f"words of {this_recording.name}"
    )


def add_heard(database: Database, recording: int, heard: Sequence[Word]) -> None:
    """The words that a transcription under way has heard behind those that are there; no step of the log: it is not
    done."""
    with database.write() as connection:
        have = connection.execute(
            "SELECT count(*), coalesce(max(end), 0) FROM word WHERE recording = ?", (recording,)
        ).fetchone()
        new = [word for word in heard if word.start >= have[1]]
        if new:
            write_words(connection, recording, have[0], 0, new)


def forget_heard(database: Database, recording: int, heard: Sequence[Word]) -> None:
    """Take the words of a transcription under way out again, if they are as it heard them: its end brings all of
    them."""
    if [(word.text, word.start) for word in words(database, recording)] == [(word.text, word.start) for word in heard]:
        with database.write() as connection:
            write_words(connection, recording, 0, len(heard), ())


def change_words(
    database: Database, recording: int, at: int, old_words: Sequence[Word], new_words: Sequence[Word], did: str
) -> None:
    """Put `new_words` in place of `old_words`, the words from index `at` on; one undoable step. `Invalid` if
    they are not there
    any more."""
    project = get(database, recording).project
    with steps.step(database, project, did) as step:
        word_rows = step.c.execute(
            "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND i >= ? AND i < ? ORDER BY i",
            (recording, at, at + len(old_words)),
        )
        if [Word(*word_row) for word_row in word_rows] != list(old_words):
            raise Invalid("The words were changed elsewhere meanwhile. Reload the page, then correct them.")
        write_words(step.c, recording, at, len(old_words), new_words)
        step.replaced(recording, at, old_words, new_words)


def words_from(database: Database, recording: int, start: int, count: int) -> tuple[int, list[Word]]:
    """Up to `count` words from the one that begins at sample `start` on, and its index; empty if none begins there."""
    first_row = (
        database.read()
        .execute("SELECT min(i) FROM word WHERE recording = ? AND start = ?", (recording, start))
        .fetchone()
    )
    if first_row[0] is None:
        return 0, []
    return first_row[0], words_at(database, recording, first_row[0], count)


def words_at(database: Database, recording: int, at: int, count: int) -> list[Word]:
    """Words `at` to `at + count`, as far as there are any."""
    word_rows = database.read().execute(
        "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND i >= ? AND i < ? ORDER BY i",
        (recording, at, at + count),
    )
    return [Word(*word_row) for word_row in word_rows]


@dataclass(frozen=True, slots=True)
class Found:
    """A sentence that was said: where, by whom, and its text with the found words between \x02 and \x03."""

    recording: int
    start: int
    end: int
    speaker: str
    text: str


def search(database: Database, project: int, asked: str, limit: int = 200) -> list[Found]:
    """Sentences with all the words asked for, best first. "quoted words" stand together; a word with * at its end
    begins so."""
    terms = [quoted_phrase or w for quoted_phrase, w in re.findall(r'"([^"]+)"|([^\s"]+)', asked)]
    query = []
    for term in terms:
        words = re.sub(r"[^\w\s]", " ", term.replace("\u2019", " ")).split()
        if words:
            query.append('"' + " ".join(words) + '"' + ("*" if term.endswith("*") else ""))
    if not query:
        return []
    sentence_rows = database.read().execute(
        "SELECT s.recording, s.start, s.end, s.speaker, highlight(sentence_search, 0, char(2), char(3)) AS text"
        " FROM sentence_search JOIN sentence s ON s.id = sentence_search.rowid JOIN recording r ON r.id = s.recording"
        " WHERE sentence_search MATCH ? AND r.project = ? AND r.gone IS NULL ORDER BY rank LIMIT ?",
        (" ".join(query), project, limit),
    )
    return [Found(*sentence_row) for sentence_row in sentence_rows]
