"""Settings that hold for every project: the recogniser's model, the words that count as fillers, the interviewer's
name."""

from kovel.store.db import Database


def get(database: Database, key: str, default: str = "") -> str:
    setting_row = database.read().execute("SELECT value FROM setting WHERE key = ?", (key,)).fetchone()
    return default if setting_row is None else str(setting_row[0])


def put(database: Database, key: str, value: str) -> None:
    with database.write() as connection:
        connection.execute(
            "INSERT INTO setting VALUES (?,?) ON CONFLICT (key) DO UPDATE SET value = excluded.value", (key, value)
        )
