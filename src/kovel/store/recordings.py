"""Recordings and their words, as rows. The files themselves are never written."""

import json
import re
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from kovel.core.story.model import Source, Sync
from kovel.core.story.settings import NONE, SETTINGS, Values
from kovel.core.story.values import on_recording
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, parse_entry
from kovel.core.words.languages import NAMES
from kovel.core.words.meaning import Said
from kovel.core.words.transcript import Word
from kovel.store import steps
from kovel.store.db import Database, fresh
from kovel.store.projects import Invalid, Missing, clean_name
from kovel.store.wordrows import write_words

KINDS = ("interview", "b-roll", "sound", "music", "still", "voice")


@dataclass(frozen=True, slots=True)
class Recording:
    id: int
    project: int
    path: str
    name: str
    kind: str
    roll: str
    camera: str
    day: str
    aside: bool
    size: int
    checksum: str
    rate: Rate
    frames: int | None
    picture: bool
    sound: bool
    width: int
    height: int
    channels: int
    start_timecode: str
    remarks: tuple[str, ...]
    ready: bool
    microphones: tuple[str, ...] = ()  # its sound channels over all tracks, by name
    heard: tuple[int, ...] = ()  # which of them are heard; none: the first track as it is
    poster: int | None = None  # frame of the project's clock that stands for it; None: one is chosen
    changed: int = 0  # when its file was written, in ns; 0: not known
    language: str = ""  # the code of the one that the editor said it is in; empty: found by itself
    spoken: str = ""  # and of the one that was found
    sync: Sync | None = None
    sync_sure: float = 0.0
    sync_how: str = ""
    settings: Values = NONE

    @property
    def source(self) -> Source:
        """What the core needs of it. Two recordings of one roll and camera share a setup; without a roll each is its own."""
        setup = f"{self.roll}/{self.camera}" if self.roll and self.kind == "interview" else f"#{self.id}"
        return Source(
            self.id, self.name, self.rate, self.frames, self.picture, self.sound, setup, self.sync, self.settings, self.channels
        )  # fmt: skip

    @property
    def tongue(self) -> str:
        """The code of its language, as far as it is known."""
        return self.language or self.spoken

    @property
    def drops(self) -> bool:
        """Whether its timecode drops frames."""
        return ";" in self.start_timecode

    @property
    def first(self) -> int:
        """Its start timecode in its own frames; 0 where there is none."""
        try:
            return parse_entry(self.start_timecode, self.rate, drop=self.drops) if self.start_timecode else 0
        except TimeError:
            return 0

    def face(self, clock: Rate) -> int:
        """The frame that stands for it in lists: the editor's choice, else one a third into it."""
        return self.length(clock) // 3 if self.poster is None else min(self.poster, self.length(clock) - 1)

    def length(self, clock: Rate) -> int:
        """Frames of the project's clock; a still counts as 5 seconds where a length is needed."""
        return self.source.length(clock) or clock.nominal * 5


@lru_cache(4096)  # the same row is asked for again and again: by every edit, by every page
def _recording(r: sqlite3.Row) -> Recording:
    return Recording(
        r["id"], r["project"], r["path"], r["name"], r["kind"], r["roll"], r["camera"], r["day"], bool(r["aside"]), r["size"],
        r["checksum"], Rate(r["rate_num"], r["rate_den"]), r["frames"], bool(r["picture"]), bool(r["sound"]), r["width"],
        r["height"], r["channels"], r["start_timecode"], tuple(json.loads(r["remarks"])), bool(r["ready"]), tuple(json.loads(r["microphones"])), tuple(json.loads(r["heard"])), r["poster"], r["changed"], r["language"], r["spoken"],
        None if r["sync_set"] is None else Sync(r["sync_set"], r["sync_offset"], r["sync_ppm"]), r["sync_sure"], r["sync_how"],
        Values.from_json(json.loads(r["settings"])),
    )  # fmt: skip


def add(
    db: Database,
    project: int,
    path: str,
    name: str,
    kind: str,
    facts: dict[str, Any],
    *,
    roll: str = "",
    camera: str = "",
    day: str = "",
) -> Recording:
    """A new recording from what the probe found (`facts`); `Invalid` if that file is in the project already."""
    with db.write() as c:
        old = c.execute("SELECT name, gone FROM recording WHERE project = ? AND path = ?", (project, path)).fetchone()
        if old and old["gone"]:
            raise Invalid(f"{old['name']} was taken out of this project. Bring it back, in Footage under “Taken out”.")
        if old:
            raise Invalid(f"{old['name']} is already in this project.")
        rid = fresh(c, "recording")
        c.execute(
            "INSERT INTO recording (id, project, path, name, kind, roll, camera, day, ordinal, size, rate_num, rate_den, frames, picture, sound,"
            " width, height, channels, start_timecode, remarks, changed, microphones, heard)"
            " VALUES (?,?,?,?,?,?,?,?,(SELECT coalesce(max(ordinal), 0) + 1 FROM recording WHERE project = ?),?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
            (rid, project, path, clean_name(name, limit=120), kind, roll, camera, day, project, facts["size"], facts["rate"][0], facts["rate"][1],
             facts["frames"], facts["picture"], facts["sound"], facts["width"], facts["height"], facts["channels"],
             facts["start_timecode"], json.dumps(facts["remarks"]), facts.get("changed", 0),
             json.dumps(facts.get("microphones", [])), json.dumps(facts.get("heard", []))),
        )  # fmt: skip
    return get(db, rid)


def get(db: Database, recording: int) -> Recording:
    r = db.read().execute("SELECT * FROM recording WHERE id = ?", (recording,)).fetchone()
    if r is None:
        raise Missing("There is no such recording in the project.")
    return _recording(r)


def of_project(db: Database, project: int) -> list[Recording]:
    rows = db.read().execute("SELECT * FROM recording WHERE project = ? AND gone IS NULL ORDER BY ordinal, id", (project,))
    return [_recording(r) for r in rows]


def taken_out(db: Database, project: int) -> list[Recording]:
    """Those that were taken out of a project and can be brought back, the last one first."""
    rows = db.read().execute(
        "SELECT * FROM recording WHERE project = ? AND gone IS NOT NULL ORDER BY gone DESC, id", (project,)
    )
    return [_recording(r) for r in rows]


def all_ids(db: Database) -> set[int]:
    """Every recording there is, those of deleted projects too: these can be brought back."""
    return {r[0] for r in db.read().execute("SELECT id FROM recording")}


def sources(db: Database, project: int) -> dict[int, Source]:
    return {r.id: r.source for r in of_project(db, project)}


def in_stories(db: Database) -> set[int]:
    """Recordings that any story uses."""
    rows = db.read().execute("SELECT source FROM piece UNION SELECT source FROM cover UNION SELECT source FROM laid_sound")
    return {r[0] for r in rows}


def cleaned(fields: Mapping[str, str | int]) -> dict[str, str | int]:
    """Values for columns of a recording as they are kept; `Invalid` for what cannot be."""
    fields = dict(fields)
    if "name" in fields:
        fields["name"] = clean_name(str(fields["name"]), limit=120)
    if fields.get("kind", "b-roll") not in KINDS:
        raise Invalid(f"A recording is one of: {', '.join(KINDS)}.")
    if fields.get("language", "") not in ("", *NAMES):
        raise Invalid("That is no language that can be heard.")
    for k in ("roll", "camera", "day"):
        if k in fields:
            fields[k] = str(fields[k]).strip()[:40]
    return fields


def update(db: Database, recording: int, **fields: str | int) -> Recording:
    """Change name, kind, roll, camera, day, language, aside or poster."""
    return update_all(db, [(recording, cleaned(fields))])[0]


def update_all(db: Database, rows: Sequence[tuple[int, Mapping[str, str | int]]], did: str = "") -> list[Recording]:
    """Change several recordings of one project: clean values, as `update` makes them. One undoable step of the log."""
    found = [get(db, i) for i, _ in rows]
    if not found:
        raise Invalid("Choose one or more recordings.")
    with steps.step(db, found[0].project, did or f"{found[0].name} changed") as s:
        for i, fields in rows:
            s.update(i, fields)
    return [get(db, i) for i, _ in rows]


def set_value(db: Database, recording: int, setting: str, value: object) -> tuple[Recording, str]:
    """Set a setting of a recording, in every story of its project, or (None) take it back; and what was done. Undone in the
    log."""
    with db.write():
        r = get(db, recording)
        new = on_recording(r.source, setting, value)
        s = SETTINGS[setting]
        did = f"{r.name}: {s.label.lower()} {'taken back' if value is None else s.says(new[setting])}"
        with steps.step(db, r.project, did) as step:
            step.set(recording, json.dumps(new.to_json()))
    return get(db, recording), did


def reorder(db: Database, recording: int, before: int | None) -> None:
    """Put a recording before another one of its project (None: last)."""
    r = get(db, recording)
    rest = [x.id for x in of_project(db, r.project) if x.id != recording]
    if before is not None and before not in rest:
        raise Missing("There is no such recording in the project to put it before.")
    rest.insert(len(rest) if before is None else rest.index(before), recording)
    with db.write() as c:
        c.executemany("UPDATE recording SET ordinal = ? WHERE id = ?", [(i, x) for i, x in enumerate(rest)])


def set_ready(db: Database, recording: int) -> None:
    """It can be opened: what is known of it is known, and what is made of it comes."""
    with db.write() as c:
        c.execute("UPDATE recording SET ready = 1 WHERE id = ?", (recording,))


def set_whole(db: Database, recording: int, checksum: str, frames: int | None) -> None:
    """Everything is made of it; `frames` is the exact count found while making it."""
    with db.write() as c:
        c.execute("UPDATE recording SET ready = 1, checksum = ?, frames = ? WHERE id = ?", (checksum, frames, recording))


def remove(db: Database, recording: int) -> None:
    """Take a recording out of its project (never its file), with its words and subclips: an undoable step of the log. Refused
    while a story uses it."""
    used = (
        db.read()
        .execute(
            "SELECT 1 FROM piece WHERE source = ?1 UNION SELECT 1 FROM cover WHERE source = ?1"
            " UNION SELECT 1 FROM laid_sound WHERE source = ?1 LIMIT 1",
            (recording,),
        )
        .fetchone()
    )
    if used:
        raise Invalid("The story uses this recording. Take it out of the story first, or set it aside.")
    with db.write() as c:
        r = get(db, recording)
        with steps.step(db, r.project, f"{r.name} taken out") as step:
            step.taken_out(recording)
        c.execute("UPDATE job SET state = 'cancelled' WHERE recording = ? AND state IN ('waiting', 'working')", (recording,))


def bring_back(db: Database, recording: int) -> Recording:
    """A recording that was taken out is in its project again, with all that belongs to it; an undoable step of the log."""
    r = get(db, recording)
    with steps.step(db, r.project, f"{r.name} brought back") as step:
        step.taken_out(recording, out=False)
    return r


def forget(db: Database, ids: Sequence[int]) -> None:
    """Take recordings away for good that were taken out."""
    with db.write() as c:
        c.executemany("DELETE FROM recording WHERE id = ? AND gone IS NOT NULL", [(i,) for i in ids])


def clock_of(db: Database, project: int) -> Rate:
    """The project's rate, on which all positions inside its recordings are counted."""
    r = db.read().execute("SELECT rate_num, rate_den FROM project WHERE id = ?", (project,)).fetchone()
    if r is None:
        raise Missing("There is no such project. It may have been deleted.")
    return Rate(*r)


def said(db: Database, recording: int) -> str:
    """What names the state of a recording's words: another one after each change."""
    r = db.read().execute("SELECT added, said FROM recording WHERE id = ?", (recording,)).fetchone()
    return f"{r[0]} {r[1]}" if r else ""


def words(db: Database, recording: int) -> tuple[Word, ...]:
    """All words of a recording in order; read again only when they were changed since."""
    state = said(db, recording)
    known = db.words.get(recording)
    if known is None or known[0] != state:
        rows = db.read().execute(
            "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? ORDER BY i", (recording,)
        )
        known = (state, tuple(Word(*r) for r in rows))
        if len(db.words) > 20:
            db.words.clear()
        db.words[recording] = known
    return known[1]


def set_heard(db: Database, recording: int, heard: Sequence[int]) -> None:
    """Which microphones of a recording are heard."""
    with db.write() as c:
        c.execute("UPDATE recording SET heard = ?, channels = ? WHERE id = ?", (json.dumps(list(heard)), len(heard), recording))


def set_spoken(db: Database, recording: int, code: str) -> None:
    """The language that was found in its sound or its words."""
    with db.write() as c:
        c.execute("UPDATE recording SET spoken = ? WHERE id = ?", (code, recording))


def set_changed(db: Database, recording: int, changed: int) -> None:
    """Its file was written anew, but is the same."""
    with db.write() as c:
        c.execute("UPDATE recording SET changed = ? WHERE id = ?", (changed, recording))


def set_checksum(db: Database, recording: int, checksum: str) -> None:
    """The SHA-256 of its file, known before it is prepared."""
    with db.write() as c:
        c.execute("UPDATE recording SET checksum = ? WHERE id = ?", (checksum, recording))


def replace_file(db: Database, recording: int, path: str, facts: Mapping[str, Any]) -> None:
    """Another file of the same recording takes its place: size, rate and picture are its own, the checksum is found anew."""
    with db.write() as c:
        c.execute(
            "UPDATE recording SET path = ?, size = ?, checksum = '', rate_num = ?, rate_den = ?, frames = ?, width = ?, height = ?,"
            " channels = ?, remarks = ?, changed = ?, microphones = ?, heard = ?, ready = 0 WHERE id = ?",
            (path, facts["size"], *facts["rate"], facts["frames"], facts["width"], facts["height"], facts["channels"],
             json.dumps(facts["remarks"]), facts.get("changed", 0), json.dumps(facts.get("microphones", [])),
             json.dumps(facts.get("heard", [])), recording),
        )  # fmt: skip


def words_between(db: Database, recording: int, start: int, end: int) -> list[Word]:
    """Words that begin in samples [start, end), and the one that is under way at `start`."""
    rows = db.read().execute(
        "SELECT text, start, end, speaker, sure FROM word WHERE recording = ?1 AND start < ?3"
        " AND start >= coalesce((SELECT max(start) FROM word WHERE recording = ?1 AND start <= ?2), ?2) ORDER BY start, i",
        (recording, start, end),
    )
    return [Word(*r) for r in rows]


UNSURE = 0.4  # of a word that needs a look


def next_unsure(db: Database, recording: int, sample: int, back: bool = False) -> tuple[Word | None, int]:
    """The first word from a sample on (or the last before it) that the recogniser was unsure of, and how many there are."""
    way = "start < ? ORDER BY start DESC" if back else "start >= ? ORDER BY start"
    r = (
        db.read()
        .execute(
            f"SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND sure < {UNSURE} AND {way} LIMIT 1",
            (recording, sample),
        )
        .fetchone()
    )
    n = db.read().execute(f"SELECT count(*) FROM word WHERE recording = ? AND sure < {UNSURE}", (recording,)).fetchone()[0]
    return Word(*r) if r else None, n


def corrected(db: Database, project: int, most: int = 300) -> list[str]:
    """Words that the editor wrote into transcripts which a recogniser made: those it did not know, the most frequent first."""
    rows = db.read().execute(
        "SELECT w.text FROM word w JOIN recording r ON r.id = w.recording WHERE r.project = ? AND w.sure = 1.0 AND EXISTS"
        " (SELECT 1 FROM word x WHERE x.recording = w.recording AND x.sure < 1.0) GROUP BY w.text ORDER BY count(*) DESC LIMIT ?",
        (project, most),
    )
    return [r[0] for r in rows]


def words_before(db: Database, recording: int, sample: int, count: int) -> list[Word]:
    """The last words that begin before a sample, the last one first."""
    rows = db.read().execute(
        "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND start < ? ORDER BY start DESC, i DESC LIMIT ?",
        (recording, sample, count),
    )
    return [Word(*r) for r in rows]


LONGEST = 4 * 48_000  # samples a word takes, hardly ever more


def said_in(db: Database, ranges: Sequence[tuple[int, int, int]]) -> list[list[tuple[str, str]]]:
    """The words (speaker, text) in each of the ranges (recording, first sample, end): one query for all. A word belongs where its
    middle lies."""
    rows = db.read().execute(
        "WITH r AS MATERIALIZED (SELECT key, value ->> 0 AS of, value ->> 1 AS a, value ->> 2 AS b FROM json_each(?))"
        " SELECT (SELECT group_concat(said, x'1e') FROM (SELECT w.speaker || x'1f' || w.text AS said FROM word w"
        f" WHERE w.recording = r.of AND w.start >= r.a - {LONGEST} AND w.start < r.b"
        " AND (w.start + w.end) / 2 >= r.a AND (w.start + w.end) / 2 < r.b ORDER BY w.start, w.i)) FROM r ORDER BY key",
        (json.dumps(ranges),),
    )
    return [[(w[0], w[2]) for x in r[0].split("\x1e") if (w := x.partition("\x1f"))] if r[0] else [] for r in rows]


def speakers(db: Database, recording: int) -> list[str]:
    rows = db.read().execute(
        "SELECT DISTINCT speaker FROM sentence WHERE recording = ? AND speaker != '' ORDER BY 1", (recording,)
    )
    return [r[0] for r in rows]


def speakers_of_project(db: Database, project: int) -> list[str]:
    """Everybody who is named in what is said in a project, by name."""
    rows = db.read().execute(
        "SELECT DISTINCT s.speaker FROM sentence s JOIN recording r ON r.id = s.recording"
        " WHERE r.project = ? AND r.gone IS NULL AND s.speaker != '' ORDER BY 1",
        (project,),
    )
    return [r[0] for r in rows]


def sentences_between(db: Database, recording: int, start: int, end: int) -> list[Said]:
    """Sentences that are heard in samples [start, end)."""
    rows = db.read().execute(
        "SELECT recording, start, end, speaker, text FROM sentence WHERE recording = ? AND start < ? AND end > ? ORDER BY start",
        (recording, end, start),
    )
    return [Said(*r) for r in rows]


def turns(db: Database, recording: int, apart: int) -> list[tuple[int, int, str]]:
    """(start, end, speaker) in samples of what is said in one go: sentences of one speaker no more than `apart` from each other."""
    out: list[tuple[int, int, str]] = []
    for a, b, who in db.read().execute(
        "SELECT start, end, speaker FROM sentence WHERE recording = ? ORDER BY start", (recording,)
    ):
        if out and out[-1][2] == who and a - out[-1][1] < apart:
            out[-1] = (out[-1][0], max(b, out[-1][1]), who)
        else:
            out.append((a, b, who))
    return out


def has_words(db: Database, project: int) -> set[int]:
    rows = db.read().execute(
        "SELECT id FROM recording r WHERE project = ? AND gone IS NULL AND EXISTS (SELECT 1 FROM word WHERE recording = r.id)",
        (project,),
    )
    return {r[0] for r in rows}


def set_words(db: Database, recording: int, said: Sequence[Word], did: str = "") -> None:
    """Replace all of a recording's words, and what is searched of them; one undoable step of the log."""
    r = get(db, recording)
    change_words(db, recording, 0, words(db, recording), said, did or f"words of {r.name}")


def add_heard(db: Database, recording: int, heard: Sequence[Word]) -> None:
    """The words that a transcription under way has heard behind those that are there; no step of the log: it is not done."""
    with db.write() as c:
        have = c.execute("SELECT count(*), coalesce(max(end), 0) FROM word WHERE recording = ?", (recording,)).fetchone()
        new = [w for w in heard if w.start >= have[1]]
        if new:
            write_words(c, recording, have[0], 0, new)


def forget_heard(db: Database, recording: int, heard: Sequence[Word]) -> None:
    """Take the words of a transcription under way out again, if they are as it heard them: its end brings all of them."""
    if [(w.text, w.start) for w in words(db, recording)] == [(w.text, w.start) for w in heard]:
        with db.write() as c:
            write_words(c, recording, 0, len(heard), ())


def change_words(db: Database, recording: int, at: int, old: Sequence[Word], new: Sequence[Word], did: str) -> None:
    """Put `new` in place of `old`, the words from index `at` on; one undoable step. `Invalid` if they are not there any more."""
    project = get(db, recording).project
    with steps.step(db, project, did) as s:
        rows = s.c.execute(
            "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND i >= ? AND i < ? ORDER BY i",
            (recording, at, at + len(old)),
        )
        if [Word(*r) for r in rows] != list(old):
            raise Invalid("The words were changed elsewhere meanwhile. Reload the page, then correct them.")
        write_words(s.c, recording, at, len(old), new)
        s.replaced(recording, at, old, new)


def words_from(db: Database, recording: int, start: int, count: int) -> tuple[int, list[Word]]:
    """Up to `count` words from the one that begins at sample `start` on, and its index; empty if none begins there."""
    r = db.read().execute("SELECT min(i) FROM word WHERE recording = ? AND start = ?", (recording, start)).fetchone()
    if r[0] is None:
        return 0, []
    return r[0], words_at(db, recording, r[0], count)


def words_at(db: Database, recording: int, at: int, count: int) -> list[Word]:
    """Words `at` to `at + count`, as far as there are any."""
    rows = db.read().execute(
        "SELECT text, start, end, speaker, sure FROM word WHERE recording = ? AND i >= ? AND i < ? ORDER BY i",
        (recording, at, at + count),
    )
    return [Word(*r) for r in rows]


@dataclass(frozen=True, slots=True)
class Found:
    """A sentence that was said: where, by whom, and its text with the found words between \x02 and \x03."""

    recording: int
    start: int
    end: int
    speaker: str
    text: str


def search(db: Database, project: int, asked: str, limit: int = 200) -> list[Found]:
    """Sentences with all the words asked for, best first. "quoted words" stand together; a word with * at its end begins so."""
    terms = [q or w for q, w in re.findall(r'"([^"]+)"|([^\s"]+)', asked)]
    query = []
    for t in terms:
        words = re.sub(r"[^\w\s]", " ", t.replace("\u2019", " ")).split()
        if words:
            query.append('"' + " ".join(words) + '"' + ("*" if t.endswith("*") else ""))
    if not query:
        return []
    rows = db.read().execute(
        "SELECT s.recording, s.start, s.end, s.speaker, highlight(sentence_search, 0, char(2), char(3)) AS text"
        " FROM sentence_search JOIN sentence s ON s.id = sentence_search.rowid JOIN recording r ON r.id = s.recording"
        " WHERE sentence_search MATCH ? AND r.project = ? AND r.gone IS NULL ORDER BY rank LIMIT ?",
        (" ".join(query), project, limit),
    )
    return [Found(*r) for r in rows]


def set_sync(db: Database, rows: Sequence[tuple[int, Sync | None, float, str]]) -> None:
    """Put recordings on the clock of a sync set, or (None) take them out: (recording, place, how sure, how found)."""
    with db.write() as c:
        for recording, sync, sure, how in rows:
            where = (None, 0, 0.0) if sync is None else (sync.set, sync.offset, sync.ppm)
            c.execute(
                "UPDATE recording SET sync_set = ?, sync_offset = ?, sync_ppm = ?, sync_sure = ?, sync_how = ? WHERE id = ?",
                (*where, sure, how, recording),
            )


def new_set(db: Database) -> int:
    """A number no sync set has yet."""
    return int(db.read().execute("SELECT coalesce(max(sync_set), 0) + 1 FROM recording").fetchone()[0])
