"""Themes of a project: kept, renamed, merged, split, set aside; which statement is of which; what was told twice."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

from kovel.core.errors import Invalid, Missing
from kovel.store import steps
from kovel.store.db import Database, fresh
from kovel.store.projects import clean_name


@dataclass(frozen=True, slots=True)
class Theme:
    id: int
    name: str
    by_hand: bool
    aside: bool


@dataclass(frozen=True, slots=True)
class Placed:
    """Which theme a statement is of: samples of its recording; `by_hand`: the editor put it there."""

    recording: int
    start: int
    end: int
    theme: int
    by_hand: bool


@dataclass(frozen=True, slots=True)
class Judged:
    """What the editor said of a pair: which telling is the better one, or that they tell different things."""

    a: tuple[int, int]
    b: tuple[int, int]
    better: str


def listing(database: Database, project: int) -> list[Theme]:
    theme_rows = database.read().execute(
        "SELECT id, name, by_hand, aside FROM theme WHERE project = ? ORDER BY aside, ordinal, id", (project,)
    )
    return [Theme(theme_row[0], theme_row[1], bool(theme_row[2]), bool(theme_row[3])) for theme_row in theme_rows]


def placed(database: Database, project: int) -> list[Placed]:
    statement_rows = database.read().execute(
        "SELECT s.recording, s.start, s.end, s.theme, s.by_hand FROM theme_statement s JOIN theme t ON t.id = s.theme"
        " WHERE t.project = ? ORDER BY s.recording, s.start",
        (project,),
    )
    return [
        Placed(statement_row[0], statement_row[1], statement_row[2], statement_row[3], bool(statement_row[4]))
        for statement_row in statement_rows
    ]


def get(database: Database, project: int, theme: int) -> Theme:
    for this_theme in listing(database, project):
        if this_theme.id == theme:
            return this_theme
    raise Missing("There is no such theme in the project.")


@contextmanager
def _changed(database: Database, project: int, did: str) -> Iterator[steps.Step]:
    with steps.step(database, project, did) as step:
        step.groups(project)
        yield step


Group = tuple[int | None, str, Sequence[tuple[int, int, int]]]


def put(database: Database, project: int, groups: Sequence[Group]) -> None:
    """Statements (recording, start, end) into themes: those that are there (by number), and new ones (None) under a
    name. No step of the log: it follows from new words."""
    with database.write() as connection:
        last = connection.execute(
            "SELECT coalesce(max(ordinal), 0) FROM theme WHERE project = ?", (project,)
        ).fetchone()[0]
        for theme, name, statement_rows in groups:
            if theme is None:
                theme, last = fresh(connection, "theme"), last + 1
                connection.execute(
                    "INSERT INTO theme (id, project, name, ordinal) VALUES (?,?,?,?)", (theme, project, name, last)
                )
            connection.executemany(
                "INSERT OR REPLACE INTO theme_statement (recording, start, end, theme) VALUES (?,?,?,?)",
                [(*statement_row, theme) for statement_row in statement_rows],
            )


@contextmanager
def grouping(database: Database, project: int) -> Iterator[None]:
    """Group anew in here: what the editor neither named nor put anywhere is taken out first, and all of it is one
    undoable step."""
    with _changed(database, project, "statements grouped into themes") as step:
        own_condition = "SELECT id FROM theme WHERE project = ? AND NOT by_hand"
        step.c.execute(f"DELETE FROM theme_statement WHERE NOT by_hand AND theme IN ({own_condition})", (project,))
        step.c.execute(
            f"DELETE FROM theme WHERE id IN ({own_condition}) "
            "AND NOT EXISTS (SELECT 1 FROM theme_statement WHERE theme = "
            "theme.id)",
            (project,),
        )
        yield


def reshape(database: Database, changed_statements: Sequence[tuple[int, int, int, int]]) -> None:
    """Statements whose edges are others now: (recording, start, new start, new end)."""
    with database.write() as connection:
        for recording, was, start, end in changed_statements:
            connection.execute(
                "UPDATE OR REPLACE theme_statement SET start = ?, end = ? WHERE recording = ? AND start = ?",
                (start, end, recording, was),
            )


def rename(database: Database, project: int, theme: int, name: str) -> str:
    name = clean_name(name)
    old = get(database, project, theme)
    with _changed(database, project, f"theme {old.name} called {name}") as step:
        step.c.execute("UPDATE theme SET name = ?, by_hand = 1 WHERE id = ?", (name, theme))
    return name


def set_aside(database: Database, project: int, themes: Sequence[int]) -> bool:
    """Set themes aside, or take them up again where the first of them is aside; which of the two it was."""
    chosen_themes = [get(database, project, t) for t in dict.fromkeys(themes)]
    if not chosen_themes:
        raise Invalid("Choose one or more themes.")
    aside = not chosen_themes[0].aside
    with _changed(
        database,
        project,
        f"{len(chosen_themes)} theme{'s' if len(chosen_themes) != 1 else ''} "
        f"{'set aside' if aside else 'taken up again'}",
    ) as step:
        step.c.executemany("UPDATE theme SET aside = ? WHERE id = ?", [(aside, theme.id) for theme in chosen_themes])
    return aside


def merge(database: Database, project: int, themes: Sequence[int]) -> Theme:
    """Several themes become the first of them."""
    chosen_themes = [get(database, project, t) for t in dict.fromkeys(themes)]
    if len(chosen_themes) < 2:
        raise Invalid("Choose two or more themes to make them one.")
    with _changed(database, project, f"{len(chosen_themes)} themes made one: {chosen_themes[0].name}") as step:
        for theme in chosen_themes[1:]:
            step.c.execute(
                "UPDATE theme_statement SET theme = ?, by_hand = 1 WHERE theme = ?", (chosen_themes[0].id, theme.id)
            )
            step.c.execute("DELETE FROM theme WHERE id = ?", (theme.id,))
        step.c.execute("UPDATE theme SET by_hand = 1 WHERE id = ?", (chosen_themes[0].id,))
    return chosen_themes[0]


def split(
    database: Database, project: int, theme: int, parts: Sequence[tuple[str, Sequence[tuple[int, int]]]]
) -> list[str]:
    """A theme becomes several: (name, statements); the first part stays where it is."""
    this_theme = get(database, project, theme)
    with _changed(database, project, f"theme {this_theme.name} split") as step:
        at = step.c.execute("SELECT ordinal FROM theme WHERE id = ?", (theme,)).fetchone()[0]
        step.c.execute(
            "UPDATE theme SET ordinal = ordinal + ? WHERE project = ? AND ordinal > ?", (len(parts), project, at)
        )
        for index, (name, statement_rows) in enumerate(parts):
            to = theme
            if index:
                to = fresh(step.c, "theme")
                step.c.execute(
                    "INSERT INTO theme (id, project, name, ordinal) VALUES (?,?,?,?)", (to, project, name, at + index)
                )
            elif not this_theme.by_hand:
                step.c.execute("UPDATE theme SET name = ? WHERE id = ?", (name, theme))
            step.c.executemany(
                "UPDATE theme_statement SET theme = ?, by_hand = 1 WHERE recording = ? AND start = ?",
                [(to, *statement_row) for statement_row in statement_rows],
            )
    return [this_theme.name if this_theme.by_hand else parts[0][0], *(name for name, _ in parts[1:])]


def move(database: Database, project: int, recording: int, start: int, theme: int | None) -> Theme:
    """A statement into another theme, or (None) into one of its own."""
    statement_row = next(
        (other for other in placed(database, project) if (other.recording, other.start) == (recording, start)), None
    )
    if statement_row is None:
        raise Missing("That statement is not there any more.")
    with _changed(database, project, "statement moved to another theme") as step:
        if theme is None:
            theme = fresh(step.c, "theme")
            last = step.c.execute(
                "SELECT coalesce(max(ordinal), 0) FROM theme WHERE project = ?", (project,)
            ).fetchone()[0]
            step.c.execute(
                "INSERT INTO theme (id, project, name, by_hand, ordinal) VALUES (?,?,?,1,?)",
                (theme, project, "new theme", last + 1),
            )
        to = get(database, project, theme)
        step.c.execute(
            "UPDATE theme_statement SET theme = ?, by_hand = 1 WHERE recording = ? AND start = ?",
            (theme, recording, start),
        )
        step.c.execute(
            "DELETE FROM theme WHERE id = ? AND NOT EXISTS (SELECT 1 FROM theme_statement WHERE theme = ?)",
            (statement_row.theme, statement_row.theme),
        )
    return to


def judged(database: Database, project: int) -> list[Judged]:
    verdict_rows = database.read().execute(
        "SELECT a_recording, a_start, b_recording, b_start, better FROM retold WHERE project = ?", (project,)
    )
    return [
        Judged((verdict_row[0], verdict_row[1]), (verdict_row[2], verdict_row[3]), verdict_row[4])
        for verdict_row in verdict_rows
    ]


def judge(database: Database, project: int, a: tuple[int, int], b: tuple[int, int], better: str) -> None:
    """Which of two tellings is the better one (`a`, `b`), that they are `apart`, or (empty) nothing."""
    if better not in ("a", "b", "apart", ""):
        raise Invalid("Say which telling is the better one, or that they tell different things.")
    summary = {
        "a": "better telling chosen",
        "b": "better telling chosen",
        "apart": "not told twice",
        "": "judgement taken back",
    }[better]
    with _changed(database, project, summary) as step:
        key = (project, *a, *b)
        step.c.execute(
            "DELETE FROM retold WHERE project = ? AND a_recording = ? AND a_start = ? AND b_recording = ? AND b_start "
            "= ?",
            key,
        )
        if better:
            step.c.execute("INSERT INTO retold VALUES (?,?,?,?,?,?)", (*key, better))
