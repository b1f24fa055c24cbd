"""Stories on disk: rows, journal and revision change together in one transaction, or not at all."""

import json
import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from kovel.core.story import catalogue
from kovel.core.story.bounds import held
from kovel.core.story.model import Refused, Report, Story
from kovel.core.story.patch import NUMBERS, ROWS, SETS, VALUES, Patch, values_from, values_json
from kovel.core.story.taken_back import taken_back
from kovel.core.time.rate import Rate
from kovel.core.told import Told
from kovel.store import recordings
from kovel.store.db import Database, fresh
from kovel.store.projects import Invalid, Missing


class Stale(Told, RuntimeError):
    """The page was made from an older revision. Nothing was changed; show the fresh story."""

    status = 409
    exit_code = 3


BROUGHT_IN = "brought in"  # the journal's word for a story that was made elsewhere


@dataclass(frozen=True, slots=True)
class Kept:
    """A story as it stands on disk."""

    id: int
    project: int
    name: str
    revision: int
    story: Story
    can_undo: bool
    can_redo: bool


def current(db: Database, project: int) -> int:
    """The story of a project that is open."""
    r = (
        db.read()
        .execute(
            "SELECT s.id FROM story s JOIN project p ON p.id = s.project WHERE p.id = ? ORDER BY s.id = p.story DESC, s.id LIMIT 1",
            (project,),
        )
        .fetchone()
    )
    if r is None:
        raise Missing("This project has no story.")
    return int(r[0])


def put_in(db: Database, project: int, ranges: Sequence[Sequence[int]], at: int | None) -> Report:
    """Ranges [recording, start, length] into a project's story, at the end or at a frame of it: one edit."""
    sid = current(db, project)
    length = load(db, sid).story.length
    place = length if at is None else max(0, min(at, length))
    return edit(db, sid, None, "insert_several", {"at": place, "ranges": [list(r) for r in ranges]})[1]


def load(db: Database, story: int) -> Kept:
    with db.snapshot() as c:
        return _load(db, c, story)


def _load(db: Database, c: sqlite3.Connection, story: int) -> Kept:
    """The story at the revision this connection sees; its rows are read only when that is another one than last time."""
    r = c.execute(
        "SELECT s.*, p.rate_num, p.rate_den FROM story s JOIN project p ON p.id = s.project WHERE s.id = ?", (story,)
    ).fetchone()
    if r is None:
        raise Missing("There is no such story. It may have been deleted.")
    revision, known = db.stories.get(story, (-1, None))
    if known is None or revision != r["revision"]:
        known = _rows(c, story, r)
        db.stories[story] = (r["revision"], known)
    redo = c.execute(
        "SELECT 1 FROM journal WHERE story = ? AND (parent IS ? OR command = ? AND editor = ?) LIMIT 1",
        (story, r["head"], UNDO, db.editor()[0]),
    ).fetchone()
    return Kept(r["id"], r["project"], r["name"], r["revision"], known, r["head"] is not None, redo is not None)


@dataclass(frozen=True, slots=True)
class _Table:
    """Where one row of things of a story is kept: beside story, loose and ordinal the columns are those of its JSON row."""

    name: str
    loose: int | None = None

    @property
    def where(self) -> str:
        return "story = ?" if self.loose is None else f"story = ? AND loose = {self.loose}"


_TABLES = {
    "pieces": _Table("piece"), "covers": _Table("cover", 0), "loose": _Table("cover", 1), "sounds": _Table("laid_sound", 0),
    "loose_sounds": _Table("laid_sound", 1), "transitions": _Table("seam"), "sections": _Table("section"),
}  # fmt: skip

_OWN = {"pieces", "covers", "loose", "sounds", "loose_sounds"}  # what has settings of its own, last in its row


def _rows(c: sqlite3.Connection, story: int, r: sqlite3.Row) -> Story:
    parts: dict[str, Any] = {}
    for part, t in _TABLES.items():
        skip = {"story", "ordinal", "loose"}
        rows = c.execute(f"SELECT * FROM {t.name} WHERE {t.where} ORDER BY ordinal", (story,))
        keep = [i for i, d in enumerate(rows.description) if d[0] not in skip]
        parts[part] = tuple(ROWS[part][1](_from_sql(part, [x[i] for i in keep])) for x in rows)
    parts |= {k: frozenset(json.loads(r[k])) for k in SETS} | {k: r[k] for k in NUMBERS}
    parts |= {k: values_from(json.loads(r[k])) for k in VALUES}
    return Story(Rate(r["rate_num"], r["rate_den"]), **parts)


def _from_sql(part: str, row: list[Any]) -> list[Any]:
    if part == "pieces":
        row[4] = row[4] and json.loads(row[4])
    if part in _OWN:
        row[-1] = json.loads(row[-1]) if row[-1] != "{}" else {}
    return row


def _to_sql(story: int, t: _Table, ordinal: int, part: str, x: Any) -> tuple[Any, ...]:
    row = ROWS[part][0](x)
    if part == "pieces":
        row[4] = row[4] and json.dumps(row[4])
    if part in _OWN:
        row[-1] = json.dumps(row[-1])
    if part == "transitions":
        return (story, ordinal, *row)
    return (story, row[0], *(() if t.loose is None else (t.loose,)), ordinal, *row[1:])


def _plain(key: str, value: Any) -> Any:
    """One of a story's own values as its column has it."""
    return json.dumps(sorted(value)) if key in SETS else json.dumps(values_json(value)) if key in VALUES else value


def _write(c: sqlite3.Connection, story: int, p: Patch, head: int | None) -> None:
    """Change the rows by a patch; the one place that does. All that goes goes first: an id may come back elsewhere."""
    for part, s in p.rows.items():
        t = _TABLES[part]
        if s.old:
            c.execute(
                f"DELETE FROM {t.name} WHERE {t.where} AND ordinal >= ? AND ordinal < ?", (story, s.index, s.index + len(s.old))
            )
    for part, s in p.rows.items():
        t, grow = _TABLES[part], len(s.new) - len(s.old)
        if grow:
            c.execute(
                f"UPDATE {t.name} SET ordinal = ordinal + ? WHERE {t.where} AND ordinal >= ?",
                (grow, story, s.index + len(s.old)),
            )
        rows = [_to_sql(story, t, s.index + i, part, x) for i, x in enumerate(s.new)]
        if rows:
            c.executemany(f"INSERT INTO {t.name} VALUES ({','.join('?' * len(rows[0]))})", rows)
    c.execute("UPDATE story SET revision = revision + 1, head = ? WHERE id = ?", (head, story))
    for k, (_, now) in p.values.items():
        c.execute(f"UPDATE story SET {k} = ? WHERE id = ?", (_plain(k, now), story))


def _check(db: Database, kept: Kept, revision: int | None) -> None:
    db.guard(kept.id)
    if revision is not None and revision != kept.revision:
        raise Stale(
            "The story was changed elsewhere meanwhile. Here it is as it stands now; your edit was not made. Please try again."
        )


def edit(db: Database, story: int, revision: int | None, name: str, params: Mapping[str, Any]) -> tuple[Kept, Report]:
    """Carry out a command of the core and keep the result. `revision` is what the page showed (None: whatever stands).

    Raises `Refused` (cannot be met) or `Stale` (page too old); in both cases nothing has changed.
    """
    with db.write() as c:
        kept = _load(db, c, story)
        _check(db, kept, revision)
        new, report = catalogue.run(kept.story, recordings.sources(db, kept.project), name, params)
        patch = Patch.between(kept.story, new)
        _journal(db, c, story, name, dict(params), report, patch)
    return _now(db, replace(kept, revision=kept.revision + 1, story=new, can_undo=True, can_redo=False)), report


def _journal(
    db: Database, c: sqlite3.Connection, story: int, name: str, params: dict[str, Any], report: Report, patch: Patch
) -> None:
    """Write an edit: its entry in the journal, and the rows that it changes."""
    head = c.execute("SELECT head FROM story WHERE id = ?", (story,)).fetchone()[0]
    told = json.dumps(params), report.did, json.dumps(report.notes), json.dumps(patch.to_json(), separators=(",", ":"))
    entry = c.execute(
        "INSERT INTO journal (story, parent, command, params, did, notes, patch, editor, editor_name) VALUES (?,?,?,?,?,?,?,?,?)",
        (story, head, name, *told, *db.editor()),
    ).lastrowid
    _write(c, story, patch, entry)


def _now(db: Database, kept: Kept) -> Kept:
    """Remember what was just committed, so that the next edit need not read it back."""
    db.stories[kept.id] = (kept.revision, kept.story)
    return kept


def previewed(db: Database, story: int, name: str, params: Mapping[str, Any]) -> tuple[Story, Report]:
    """The story as an edit would leave it, and what it would say; nothing is changed."""
    kept = load(db, story)
    return catalogue.run(kept.story, recordings.sources(db, kept.project), name, params)


def preview(db: Database, story: int, name: str, params: Mapping[str, Any]) -> Report:
    """What an edit would do; nothing is changed."""
    return previewed(db, story, name, params)[1]


UNDO, REDO = "undo own edit", "redo own edit"  # an editor's edit taken back from under those of others; and done again


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


def _line(c: sqlite3.Connection, story: int) -> list[_Step]:
    """The edits that led to what stands now, in their order."""
    rows = c.execute(
        "WITH RECURSIVE line(id, depth) AS (SELECT head, 0 FROM story WHERE id = ? UNION ALL"
        " SELECT j.parent, depth + 1 FROM journal j JOIN line ON j.id = line.id)"
        " SELECT j.id, command, did, editor, editor_name, params FROM line JOIN journal j ON j.id = line.id ORDER BY depth DESC",
        (story,),
    )
    return [
        _Step(i, command, did, editor, by, json.loads(params)["entry"] if command in (UNDO, REDO) else 0)
        for i, command, did, editor, by, params in rows.fetchall()
    ]


def _in_effect(line: Iterable[_Step]) -> tuple[list[_Step], list[_Step]]:
    """The edits that are in effect, and the steps by which others were taken back, to be done again by whoever did that."""
    done: list[_Step] = []
    undone: list[_Step] = []
    for step in line:
        if step.command == UNDO:
            done = [x for x in done if x.id != step.of]
            undone.append(step)
        elif step.command == REDO:
            undone = [x for x in undone if x.id != step.of]
            done.append(step)
        else:
            done.append(step)
            undone = [x for x in undone if x.editor != step.editor]
    return done, undone


def _without(db: Database, c: sqlite3.Connection, kept: Kept, line: list[_Step], step: _Step) -> Story | None:
    """What stands now without one of the edits that led to it, where nothing since builds on that one."""
    before = after = kept.story
    for later in reversed(line[line.index(step) :]):
        row = c.execute("SELECT patch FROM journal WHERE id = ?", (later.id,)).fetchone()
        before, after = Patch.from_json(json.loads(row["patch"])).inverse().apply(before), before
    return taken_back(before, after, kept.story, recordings.sources(db, kept.project))


def _turned(
    db: Database, c: sqlite3.Connection, kept: Kept, line: list[_Step], step: _Step, how: str
) -> tuple[Kept, Report] | None:
    """An editor's own edit taken back, or done again, from under later ones; None where they build on it."""
    new = _without(db, c, kept, line, step)
    if new is None:
        return None
    said = step.did.partition(": ")[2] if step.command in (UNDO, REDO) else step.did
    report = Report(f"{'Undone' if how == UNDO else 'Done again'}: {said}")
    _journal(db, c, kept.id, how, {"entry": step.id}, report, Patch.between(kept.story, new))
    return replace(kept, revision=kept.revision + 1, story=new, can_undo=True, can_redo=True), report


def undo(db: Database, story: int, revision: int | None = None, others: bool = False) -> tuple[Kept, Report]:
    """Back to exactly the story before the last edit. Where somebody else made that one, one's own last edit is taken back from
    under it, if nothing since builds on it; else `Others` says whose it is, and `others` takes it back all the same."""
    me = db.editor()[0]
    with db.write() as c:
        kept = _load(db, c, story)
        _check(db, kept, revision)
        last = c.execute("SELECT j.* FROM journal j JOIN story s ON s.head = j.id WHERE s.id = ?", (story,)).fetchone()
        if last is None:
            raise Refused("There is nothing to undo.")
        turned = None
        if me and (last["editor"] not in ("", me) or last["command"] in (UNDO, REDO)):
            line = _line(c, story)
            done, _ = _in_effect(line)
            if not done:
                raise Refused("There is nothing to undo.")
            own = [x for x in done if x.editor == me]
            if not others:
                turned = _turned(db, c, kept, line, own[-1], UNDO) if own else None
                if turned is None:
                    mine = f"Your last edit (“{own[-1].did}”) cannot be undone alone: later ones build on it. " if own else ""
                    raise Others(f"{mine}The last edit is by {done[-1].by or 'somebody else'}: “{done[-1].did}”.")
            elif done[-1].id != last["id"]:
                turned = _turned(db, c, kept, line, done[-1], UNDO)
        if turned is None:
            patch = Patch.from_json(json.loads(last["patch"])).inverse()
            _write(c, story, patch, last["parent"])
            turned = (
                replace(
                    kept, revision=kept.revision + 1, story=patch.apply(kept.story), can_undo=last["parent"] is not None,
                    can_redo=True,
                ),
                Report(f"Undone: {last['did']}"),
            )  # fmt: skip
    return _now(db, turned[0]), turned[1]


def redo(db: Database, story: int, revision: int | None = None, others: bool = False) -> tuple[Kept, Report]:
    """Forward again along the newest branch; or, where that is somebody else's or there is none, one's own edit that was taken back
    from under those of others. `Others` and `others` as `undo` has them."""
    me = db.editor()[0]
    with db.write() as c:
        kept = _load(db, c, story)
        _check(db, kept, revision)
        r = c.execute(
            "SELECT * FROM journal WHERE story = ?1 AND parent IS (SELECT head FROM story WHERE id = ?1) ORDER BY id DESC LIMIT 1",
            (story,),
        ).fetchone()
        theirs = r is not None and r["editor"] not in ("", me)
        turned = None
        if me and not others and (r is None or theirs):
            line = _line(c, story)
            undone = [x for x in _in_effect(line)[1] if x.editor == me]
            turned = _turned(db, c, kept, line, undone[-1], REDO) if undone else None
            if turned is None and theirs:
                raise Others(f"The edit that would be done again is by {r['editor_name'] or 'somebody else'}: “{r['did']}”.")
        if turned is None:
            if r is None:
                raise Refused("There is nothing to redo.")
            patch = Patch.from_json(json.loads(r["patch"]))
            _write(c, story, patch, r["id"])
            more = c.execute("SELECT 1 FROM journal WHERE story = ? AND parent = ? LIMIT 1", (story, r["id"])).fetchone()
            now = replace(
                kept, revision=kept.revision + 1, story=patch.apply(kept.story), can_undo=True, can_redo=more is not None
            )
            turned = now, Report(f"Done again: {r['did']}")
    return _now(db, turned[0]), turned[1]


def go_to(db: Database, story: int, entry: int | None, revision: int | None = None) -> tuple[Kept, Report]:
    """To the state right after a journal entry (None: before the first), on whatever branch it lies. Branches stay.

    o--o--o--o  head           back to the entry both have in common, then forward along the other branch
        \\--o--o  entry
    """
    with db.write() as c:
        kept = _load(db, c, story)
        _check(db, kept, revision)
        rows = {r["id"]: r for r in c.execute("SELECT id, parent, did, patch FROM journal WHERE story = ?", (story,))}
        if entry is not None and entry not in rows:
            raise Refused("That edit is not in this story's history.")
        head = c.execute("SELECT head FROM story WHERE id = ?", (story,)).fetchone()[0]
        ahead = [entry]
        while ahead[-1] is not None:
            ahead.append(rows[ahead[-1]]["parent"])
        now, steps = kept.story, []
        while head not in ahead:
            steps.append(Patch.from_json(json.loads(rows[head]["patch"])).inverse())
            head = rows[head]["parent"]
        steps += [Patch.from_json(json.loads(rows[i]["patch"])) for i in reversed(ahead[: ahead.index(head)])]
        if not steps:
            raise Refused("The story stands there already.")
        for p in steps:
            now = p.apply(now)
        _write(c, story, Patch.between(kept.story, now), entry)
        redo = c.execute("SELECT 1 FROM journal WHERE story = ? AND parent IS ? LIMIT 1", (story, entry)).fetchone()
    did = f"Back to: {rows[entry]['did']}" if entry is not None else "Back to the beginning"
    new = replace(kept, revision=kept.revision + 1, story=now, can_undo=entry is not None, can_redo=redo is not None)
    return _now(db, new), Report(did)


def history(db: Database, story: int, limit: int = 300) -> list[dict[str, Any]]:
    """Every edit there was, latest first: whether it is in what stands now, and whether it stands there as the last one."""
    c = db.read()
    head = c.execute("SELECT head FROM story WHERE id = ?", (story,)).fetchone()
    line = {
        r[0]
        for r in c.execute(
            "WITH RECURSIVE line(id) AS (SELECT head FROM story WHERE id = ? UNION ALL"
            " SELECT j.parent FROM journal j JOIN line ON j.id = line.id) SELECT id FROM line",
            (story,),
        )
    }
    rows = c.execute("SELECT * FROM journal WHERE story = ? ORDER BY id DESC LIMIT ?", (story, limit))
    me = db.editor()[0]
    out = [
        {
            **{k: r[k] for k in ("id", "parent", "at", "did")},
            "notes": json.loads(r["notes"]),
            "by": r["editor_name"] if r["editor"] not in ("", me) else "",
        }
        for r in rows
    ]
    before = {r["id"]: r for r in out}
    for r in out:
        r["in"] = r["id"] in line
        r["now"] = head is not None and r["id"] == head[0]
        first = r["parent"]
        r["branch"] = not r["in"] and (first is None or first in line or first not in before)
    return out


def of_project(db: Database, project: int) -> list[Kept]:
    """All stories of a project, in the order they were made."""
    rows = db.read().execute("SELECT id FROM story WHERE project = ? ORDER BY id", (project,)).fetchall()
    return [load(db, r[0]) for r in rows]


def _name(name: str) -> str:
    name = " ".join(name.split())[:80]
    if not name:
        raise Invalid("A story needs a name.")
    return name


def create(db: Database, project: int, name: str, of: int | None = None) -> int:
    """A new story, empty or a copy of another one as it stands (whose history stays with it); it is opened."""
    with db.write() as c:
        made = fresh(c, "story")
        c.execute("INSERT INTO story (id, project, name) VALUES (?, ?, ?)", (made, project, _name(name)))
        if of is not None:
            old = _load(db, c, of)
            if old.project != project:
                raise Missing("There is no such story in the project.")
            _write(c, made, Patch.between(Story(old.story.rate), old.story), None)
        c.execute("UPDATE project SET story = ? WHERE id = ?", (made, project))
    return int(made)


PROPOSED = "proposed"  # and for one that Kovel proposed


def create_with(
    db: Database, project: int, name: str, story: Story, did: str, notes: Sequence[str] = (), how: str = BROUGHT_IN
) -> int:
    """A new story that was made elsewhere, or (`how`) proposed; undo leads back to an empty one. `notes`: what could not be taken,
    or why each piece is in it. One that was brought in is opened, a proposed one lies beside the one that is open."""
    held(story)
    with db.write() as c:
        was = c.execute("SELECT story FROM project WHERE id = ?", (project,)).fetchone()[0]
        made = create(db, project, name)
        if how == PROPOSED:
            c.execute("UPDATE project SET story = ? WHERE id = ?", (was, project))
        empty = Story(story.rate)
        patch = Patch.between(empty, story)
        entry = c.execute(
            "INSERT INTO journal (story, parent, command, params, did, notes, patch) VALUES (?,NULL,?,'{}',?,?,?)",
            (made, how, did, json.dumps(list(notes)), json.dumps(patch.to_json(), separators=(",", ":"))),
        ).lastrowid
        _write(c, made, patch, entry)
    return made


def not_taken(db: Database, story: int) -> list[str]:
    """What could not be taken of the file that a story was brought in from."""
    r = db.read().execute("SELECT notes FROM journal WHERE story = ? AND command = ?", (story, BROUGHT_IN)).fetchone()
    notes: list[str] = json.loads(r[0]) if r else []
    return notes


def proposed(db: Database, project: int) -> list[tuple[int, str, list[str]]]:
    """Stories that were proposed and are still there, the newest first: number, name, why each piece was in it."""
    rows = db.read().execute(
        "SELECT s.id, s.name, j.notes FROM story s JOIN journal j ON j.story = s.id WHERE s.project = ? AND j.command = ?"
        " ORDER BY s.id DESC",
        (project, PROPOSED),
    )
    return [(r[0], r[1], json.loads(r[2])) for r in rows]


def open_story(db: Database, project: int, story: int) -> None:
    """Make this the story that is open."""
    with db.write() as c:
        if not c.execute("SELECT 1 FROM story WHERE id = ? AND project = ?", (story, project)).fetchone():
            raise Missing("There is no such story in the project.")
        c.execute("UPDATE project SET story = ? WHERE id = ?", (story, project))


def rename(db: Database, story: int, name: str) -> None:
    with db.write() as c:
        c.execute("UPDATE story SET name = ? WHERE id = ?", (_name(name), story))


def delete(db: Database, project: int, story: int) -> None:
    """Delete a story with its history; the last one stays."""
    db.guard(story)
    with db.write() as c:
        all_ = [r[0] for r in c.execute("SELECT id FROM story WHERE project = ?", (project,))]
        if story not in all_:
            raise Missing("There is no such story in the project.")
        if len(all_) < 2:
            raise Invalid("A project keeps at least one story. Make another one first.")
        c.execute("DELETE FROM journal WHERE story = ?", (story,))
        c.execute("DELETE FROM story WHERE id = ?", (story,))
        c.execute("UPDATE project SET story = NULL WHERE id = ? AND story = ?", (project, story))
