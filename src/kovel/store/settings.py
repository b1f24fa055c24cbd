"""Settings that hold for every project: the recogniser's model, the words that count as fillers; and what was decided on a
recording, with all it was before."""

from kovel.store.db import Database


def get(db: Database, key: str, default: str = "") -> str:
    r = db.read().execute("SELECT value FROM setting WHERE key = ?", (key,)).fetchone()
    return default if r is None else r[0]


def put(db: Database, key: str, value: str, *, of: int | None = None) -> None:
    """Set a value; `of` a recording, what it was before is kept for `back`."""
    with db.write() as c:
        if of is not None:
            c.execute(
                "INSERT INTO desk_step SELECT ?1, (SELECT coalesce(max(n), 0) + 1 FROM desk_step WHERE recording = ?1), ?2",
                (of, get(db, key)),
            )
        c.execute("INSERT INTO setting VALUES (?,?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", (key, value))


def back(db: Database, key: str, of: int) -> bool:
    """Take the last value of a recording's back; False if there is none before."""
    with db.write() as c:
        r = c.execute("SELECT n, value FROM desk_step WHERE recording = ? ORDER BY n DESC LIMIT 1", (of,)).fetchone()
        if r is None:
            return False
        c.execute("DELETE FROM desk_step WHERE recording = ? AND n = ?", (of, r["n"]))
        put(db, key, r["value"])
    return True
