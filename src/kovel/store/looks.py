"""Looks saved under a name, used in every project of the folder."""

from __future__ import annotations

import json
from typing import Any

from kovel.core.errors import Invalid, Missing
from kovel.core.story.settings import LOOK, Values
from kovel.store.db import Database

MOST = 500


def saved(database: Database) -> dict[str, dict[str, Any]]:
    """Their settings, by name, in order of the alphabet."""
    look_rows = database.read().execute("SELECT name, settings FROM looks ORDER BY name").fetchall()
    return {name: json.loads(settings) for name, settings in look_rows}


def save(database: Database, name: str, settings: dict[str, Any]) -> str:
    """Keep a look under a name; one of that name is replaced. The name as it is kept."""
    name = " ".join(name.split())[:60]
    if not name or not name.isprintable():
        raise Invalid("Give the look a name first.")
    try:
        kept = Values.from_json({name: setting for name, setting in settings.items() if name in LOOK})
    except ValueError as error:
        raise Invalid(f"That is no look: {error}.") from None
    if not kept:
        raise Invalid("Nothing is set on how it looks: there is no look to save.")
    with database.write() as connection:
        if connection.execute("SELECT count(*) FROM looks").fetchone()[0] >= MOST:
            raise Invalid(f"{MOST} looks are kept already. Take some away first.")
        connection.execute(
            "INSERT INTO looks (name, settings) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET settings = "
            "excluded.settings",
            (name, json.dumps(kept.to_json())),
        )
    return name


def take_away(database: Database, name: str) -> None:
    with database.write() as connection:
        if not connection.execute("DELETE FROM looks WHERE name = ?", (name,)).rowcount:
            raise Missing(f"There is no look called {name}.")
