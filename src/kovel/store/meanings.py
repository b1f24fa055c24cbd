"""What sentences mean, kept by their text: the same words are worked out once, whoever says them and wherever."""

from collections.abc import Iterable, Sequence

import numpy as np
import numpy.typing as npt

from kovel.core.words.nearness import WIDTH, Said
from kovel.store.db import Database

Floats = npt.NDArray[np.float32]
AT_ONCE = 500  # texts that are asked for in one query


def said(database: Database, project: int, interviewer: str = "") -> list[Said]:
    """Every sentence of a project but the interviewer's, by recording in its order and time."""
    sentence_rows = database.read().execute(
        "SELECT s.recording, s.start, s.end, s.speaker, s.text FROM sentence s JOIN recording r ON r.id = s.recording"
        " WHERE r.project = ? AND r.gone IS NULL AND NOT r.aside AND s.speaker != ? ORDER BY r.ordinal, r.id, s.start",
        (project, interviewer or "\0"),
    )
    return [Said(*sentence_row) for sentence_row in sentence_rows]


def state(database: Database, project: int) -> str:
    """What names the state of all words of a project, and of which recordings hear one moment: another one after
    each change."""
    count_row = database.read().execute(
        "SELECT count(*), total(said), total(id * aside), max(id), total(id * coalesce(sync_set, 0)), total(id * "
        "sync_offset),"
        " total(id * ordinal) FROM recording WHERE project = ? AND gone IS NULL",
        (project,),
    )
    return " ".join(map(str, count_row.fetchone()))


def noted(database: Database, project: int) -> str:
    """What names the state of all that is noted in a project's log besides."""
    noted_row = database.read().execute(
        "SELECT coalesce(max(id), 0), coalesce(sum(undone), 0) FROM log_step WHERE project = ?", (project,)
    )
    return " ".join(map(str, noted_row.fetchone()))


def count(database: Database) -> int:
    """How many texts are worked out."""
    return int(database.read().execute("SELECT count(*) FROM meaning").fetchone()[0])


def lacking(database: Database, texts: Iterable[str]) -> list[str]:
    """Those of the texts that have no vector yet, each once."""
    want = list(dict.fromkeys(texts))
    have: set[str] = set()
    for a in range(0, len(want), AT_ONCE):
        some = want[a : a + AT_ONCE]
        marks = ",".join("?" * len(some))
        have |= {
            text_row[0]
            for text_row in database.read().execute(f"SELECT text FROM meaning WHERE text IN ({marks})", some)
        }
    return [text for text in want if text not in have]


def forget(database: Database) -> None:
    """Nothing is worked out: another model says everything anew."""
    with database.write() as connection:
        connection.execute("DELETE FROM meaning")


def keep(database: Database, texts: Sequence[str], vectors: npt.NDArray[np.float16]) -> None:
    with database.write() as connection:
        connection.executemany(
            "INSERT OR REPLACE INTO meaning VALUES (?,?)",
            [(text, vector.astype("<f2").tobytes()) for text, vector in zip(texts, vectors, strict=True)],
        )


def vectors(database: Database, texts: Sequence[str]) -> Floats:
    """(n, WIDTH), zeros for what is not worked out yet."""
    where: dict[str, list[int]] = {}
    for index, this_text in enumerate(texts):
        where.setdefault(this_text, []).append(index)
    text_vectors = np.zeros((len(texts), WIDTH), np.float32)
    want = list(where)
    for a in range(0, len(want), AT_ONCE):
        some = want[a : a + AT_ONCE]
        marks = ",".join("?" * len(some))
        for text, blob in database.read().execute(f"SELECT text, vector FROM meaning WHERE text IN ({marks})", some):
            text_vectors[where[text]] = np.frombuffer(blob, "<f2")
    return text_vectors
