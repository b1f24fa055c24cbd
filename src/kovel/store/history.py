"""Undo, redo and the history of a story. Each editor takes back their own edits first, and is asked before somebody
else's."""

import json
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from kovel.core.errors import Told
from kovel.core.story.model import Refused, Report, Story
from kovel.core.story.patch import Patch
from kovel.core.story.taken_back import taken_back
from kovel.store import recordings
from kovel.store.db import Database
from kovel.store.stories import REDO, UNDO, Kept, load_at, not_stale, remembered, write_edit, write_rows


class Others(Told):
    """The edit to be undone or done again is somebody else's: whoever asks says first whether that is meant."""

    status = 409


@dataclass(frozen=True, slots=True)
class _Step:
    """An edit of the history that stands now; `of` is the one that it takes back or does again, if it does."""

    id: int
    command: str
    did: str
    editor: str
    by: str
    of: int


def _line(connection: sqlite3.Connection, story: int) -> list[_Step]:
    """The edits that led to what stands now, in their order."""
    journal_rows = connection.execute(
        "WITH RECURSIVE line(id, depth) AS (SELECT head, 0 FROM story WHERE id = ? UNION ALL"
        " SELECT j.parent, depth + 1 FROM journal j JOIN line ON j.id = line.id)"
        " SELECT j.id, command, did, editor, editor_name, params FROM line JOIN journal j ON j.id = line.id ORDER BY "
        "depth DESC",
        (story,),
    )
    return [
        _Step(entry_id, command, summary, editor, by, json.loads(params)["entry"] if command in (UNDO, REDO) else 0)
        for entry_id, command, summary, editor, by, params in journal_rows.fetchall()
    ]


def _in_effect(line: Iterable[_Step]) -> tuple[list[_Step], list[_Step]]:
    """The edits that are in effect, and the steps by which others were taken back, to be done again by whoever did
    that."""
    done: list[_Step] = []
    undone: list[_Step] = []
    for step in line:
        if step.command == UNDO:
            done = [done_step for done_step in done if done_step.id != step.of]
            undone.append(step)
        elif step.command == REDO:
            undone = [undone_step for undone_step in undone if undone_step.id != step.of]
            done.append(step)
        else:
            done.append(step)
            undone = [undone_step for undone_step in undone if undone_step.editor != step.editor]
    return done, undone


def _without(
    database: Database, connection: sqlite3.Connection, kept_story: Kept, line: list[_Step], step: _Step
) -> Story | None:
    """What stands now without one of the edits that led to it, where nothing since builds on that one."""
    before = after = kept_story.story
    for later in reversed(line[line.index(step) :]):
        patch_row = connection.execute("SELECT patch FROM journal WHERE id = ?", (later.id,)).fetchone()
        before, after = Patch.from_json(json.loads(patch_row["patch"])).inverse().apply(before), before
    return taken_back(before, after, kept_story.story, recordings.sources(database, kept_story.project))


def _turned(
    database: Database, connection: sqlite3.Connection, kept_story: Kept, line: list[_Step], step: _Step, how: str
) -> tuple[Kept, Report] | None:
    """An editor's own edit taken back, or done again, from under later ones; None where they build on it."""
    new = _without(database, connection, kept_story, line, step)
    if new is None:
        return None
    said_command = step.did.partition(": ")[2] if step.command in (UNDO, REDO) else step.did
    report = Report(f"{'Undone' if how == UNDO else 'Done again'}: {said_command}")
    write_edit(
        database, connection, kept_story.id, how, {"entry": step.id}, report, Patch.between(kept_story.story, new)
    )
    return replace(kept_story, revision=kept_story.revision + 1, story=new, can_undo=True, can_redo=True), report


def undo(database: Database, story: int, revision: int | None = None, others: bool = False) -> tuple[Kept, Report]:
    """Back to exactly the story before the last edit. Where somebody else made that one, one's own last edit is
    taken back from under it, if nothing since builds on it; else `Others` says whose it is, and `others` takes it
    back all the same."""
    me = database.editor()[0]
    with database.write() as connection:
        kept = load_at(database, connection, story)
        not_stale(database, kept, revision)
        last = connection.execute(
            "SELECT j.* FROM journal j JOIN story s ON s.head = j.id WHERE s.id = ?", (story,)
        ).fetchone()
        if last is None:
            raise Refused("There is nothing to undo.")
        turned = None
        if me and (last["editor"] not in ("", me) or last["command"] in (UNDO, REDO)):
            line = _line(connection, story)
            done, _ = _in_effect(line)
            if not done:
                raise Refused("There is nothing to undo.")
            own_steps = [done_step for done_step in done if done_step.editor == me]
            if not others:
                turned = _turned(database, connection, kept, line, own_steps[-1], UNDO) if own_steps else None
                if turned is None:
                    mine = (
                        f"Your last edit (“{own_steps[-1].did}”) cannot be undone alone: later ones build on it. "
                        if own_steps
                        else ""
                    )
                    raise Others(f"{mine}The last edit is by {done[-1].by or 'somebody else'}: “{done[-1].did}”.")
            elif done[-1].id != last["id"]:
                turned = _turned(database, connection, kept, line, done[-1], UNDO)
        if turned is None:
            patch = Patch.from_json(json.loads(last["patch"])).inverse()
            write_rows(connection, story, patch, last["parent"])
            turned = (
                replace(
                    kept,
                    revision=kept.revision + 1,
                    story=patch.apply(kept.story),
                    can_undo=last["parent"] is not None,
                    can_redo=True,
                ),
                Report(f"Undone: {last['did']}"),
            )
    return remembered(database, turned[0]), turned[1]


def redo(database: Database, story: int, revision: int | None = None, others: bool = False) -> tuple[Kept, Report]:
    """Forward again along the newest branch; or, where that is somebody else's or there is none, one's own edit that
    was taken back from under those of others. `Others` and `others` as `undo` has them."""
    me = database.editor()[0]
    with database.write() as connection:
        kept = load_at(database, connection, story)
        not_stale(database, kept, revision)
        journal_row = connection.execute(
            "SELECT * FROM journal WHERE story = ?1 AND parent IS (SELECT head FROM story WHERE id = ?1) ORDER BY id "
            "DESC LIMIT 1",
            (story,),
        ).fetchone()
        theirs = journal_row is not None and journal_row["editor"] not in ("", me)
        turned = None
        if me and not others and (journal_row is None or theirs):
            line = _line(connection, story)
            undone = [step_ahead for step_ahead in _in_effect(line)[1] if step_ahead.editor == me]
            turned = _turned(database, connection, kept, line, undone[-1], REDO) if undone else None
            if turned is None and theirs:
                raise Others(
                    f"The edit that would be done again is by {journal_row['editor_name'] or 'somebody else'}: "
                    f"“{journal_row['did']}”."
                )
        if turned is None:
            if journal_row is None:
                raise Refused("There is nothing to redo.")
            patch = Patch.from_json(json.loads(journal_row["patch"]))
            write_rows(connection, story, patch, journal_row["id"])
            more = connection.execute(
                "SELECT 1 FROM journal WHERE story = ? AND parent = ? LIMIT 1", (story, journal_row["id"])
            ).fetchone()
            now = replace(
                kept,
                revision=kept.revision + 1,
                story=patch.apply(kept.story),
                can_undo=True,
                can_redo=more is not None,
            )
            turned = now, Report(f"Done again: {journal_row['did']}")
    return remembered(database, turned[0]), turned[1]


def go_to(database: Database, story: int, entry: int | None, revision: int | None = None) -> tuple[Kept, Report]:
    """To the state right after a journal entry (None: before the first), on whatever branch it lies. Branches stay.

    o--o--o--o  head           back to the entry both have in common, then forward along the other branch
        \\--o--o  entry
    """
    with database.write() as connection:
        kept = load_at(database, connection, story)
        not_stale(database, kept, revision)
        journal_rows = {
            journal_row["id"]: journal_row
            for journal_row in connection.execute(
                "SELECT id, parent, did, patch FROM journal WHERE story = ?", (story,)
            )
        }
        if entry is not None and entry not in journal_rows:
            raise Refused("That edit is not in this story's history.")
        head = connection.execute("SELECT head FROM story WHERE id = ?", (story,)).fetchone()[0]
        ahead = [entry]
        while ahead[-1] is not None:
            ahead.append(journal_rows[ahead[-1]]["parent"])
        now, steps = kept.story, []
        while head not in ahead:
            steps.append(Patch.from_json(json.loads(journal_rows[head]["patch"])).inverse())
            head = journal_rows[head]["parent"]
        steps += [
            Patch.from_json(json.loads(journal_rows[entry_id]["patch"]))
            for entry_id in reversed(ahead[: ahead.index(head)])
        ]
        if not steps:
            raise Refused("The story stands there already.")
        for patch in steps:
            now = patch.apply(now)
        write_rows(connection, story, Patch.between(kept.story, now), entry)
        redo = connection.execute(
            "SELECT 1 FROM journal WHERE story = ? AND parent IS ? LIMIT 1", (story, entry)
        ).fetchone()
    summary = f"Back to: {journal_rows[entry]['did']}" if entry is not None else "Back to the beginning"
    new = replace(kept, revision=kept.revision + 1, story=now, can_undo=entry is not None, can_redo=redo is not None)
    return remembered(database, new), Report(summary)


def entries(database: Database, story: int, limit: int = 300) -> list[dict[str, Any]]:
    """Every edit there was, latest first: whether it is in what stands now, and whether it stands there as the last
    one."""
    connection = database.read()
    head = connection.execute("SELECT head FROM story WHERE id = ?", (story,)).fetchone()
    line = {
        line_row[0]
        for line_row in connection.execute(
            "WITH RECURSIVE line(id) AS (SELECT head FROM story WHERE id = ? UNION ALL"
            " SELECT j.parent FROM journal j JOIN line ON j.id = line.id) SELECT id FROM line",
            (story,),
        )
    }
    journal_rows = connection.execute("SELECT * FROM journal WHERE story = ? ORDER BY id DESC LIMIT ?", (story, limit))
    me = database.editor()[0]
    listed_entries = [
        {
            **{field_name: journal_row[field_name] for field_name in ("id", "parent", "at", "did")},
            "notes": json.loads(journal_row["notes"]),
            "by": journal_row["editor_name"] if journal_row["editor"] not in ("", me) else "",
        }
        for journal_row in journal_rows
    ]
    before = {listed_entry["id"]: listed_entry for listed_entry in listed_entries}
    for listed_entry in listed_entries:
        listed_entry["in"] = listed_entry["id"] in line
        listed_entry["now"] = head is not None and listed_entry["id"] == head[0]
        first = listed_entry["parent"]
        listed_entry["branch"] = not listed_entry["in"] and (first is None or first in line or first not in before)
    return listed_entries
