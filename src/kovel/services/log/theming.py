"""Themes of a project as they stand, and what was told twice."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import partial

import numpy as np
import numpy.typing as npt

from kovel.core.errors import Invalid
from kovel.core.story.model import Sources
from kovel.core.story.sync import set_time
from kovel.core.time.rate import SAMPLE_RATE
from kovel.core.words import retold
from kovel.core.words.nearness import Said
from kovel.core.words.theme_groups import Statement, grouped, names, nearest_theme, statements, words_of
from kovel.core.words.theme_groups import meant as meaning_of
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import Chore, JobKind, Outcome, Result
from kovel.services.log.recording_languages import spoken
from kovel.services.log.sentence_meaning import Meant, clear_up, keep_up, meant, take_meant
from kovel.services.log.speech_levels import levels
from kovel.store import meanings, recordings, subclips, theme_rows, transcripts
from kovel.store.jobs import Job

Floats = npt.NDArray[np.float32]
COMPARED = 6000  # sentences of which every one is held against every other


_twice: dict[tuple[str, int], tuple[str, list[retold.Pair]]] = {}


@dataclass(frozen=True)
class Shown:
    """A statement in its theme: where it is, who says it, what, and how much of it was kept in the log (samples)."""

    statement: Statement
    theme: int
    by_hand: bool
    kept: int


@dataclass(frozen=True)
class Theme:
    """A theme with its statements by recording and time."""

    id: int
    name: str
    aside: bool
    shown: tuple[Shown, ...]

    @property
    def said(self) -> int:
        """Samples of all its statements."""
        return sum(shown.statement.end - shown.statement.start for shown in self.shown)

    @property
    def kept(self) -> int:
        """Samples of them that were kept in the log."""
        return sum(shown.kept for shown in self.shown)


@dataclass(frozen=True, slots=True)
class Twice:
    """Two sentences that tell the same, how each was told, how loud speech and room are there (dBFS), and what the
    editor said."""

    a: Said
    b: Said
    alike: float
    how: tuple[retold.Telling, retold.Telling]
    level: tuple[float | None, float | None]
    noise: tuple[float | None, float | None]
    better: str


def overlap(a: tuple[int, int], b: tuple[int, int]) -> int:
    return max(0, min(a[1], b[1]) - max(a[0], b[0]))


def _now(data_folder: DataFolder, project: int) -> tuple[Meant, list[Statement], Floats]:
    known = meant(data_folder, project)
    statements_found = statements(known.said, known.rows)
    return known, statements_found, meaning_of(statements_found, known.rows)


def _where(
    data_folder: DataFolder, project: int, found_statements: Sequence[Statement]
) -> list[theme_rows.Placed | None]:
    """The theme of each statement: that of its beginning, or of the kept one that it shares most time with."""
    kept: dict[int, list[theme_rows.Placed]] = {}
    for placed in theme_rows.placed(data_folder.db, project):
        kept.setdefault(placed.recording, []).append(placed)
    statements_there = []
    for statement in found_statements:
        kept_statements = kept.get(statement.recording, [])
        best = max(
            kept_statements, key=lambda p: overlap((p.start, p.end), (statement.start, statement.end)), default=None
        )
        statements_there.append(
            best if best and overlap((best.start, best.end), (statement.start, statement.end)) > 0 else None
        )
    return statements_there


def listing(data_folder: DataFolder, project: int) -> list[Theme]:
    """The themes with their statements, largest first, those set aside last."""
    _, statements_found, _ = _now(data_folder, project)
    clock = recordings.clock_of(data_folder.db, project)
    kept: dict[int, list[tuple[int, int]]] = {}
    for subclip in subclips.of_project(data_folder.db, project):
        if subclip.verdict == "keep":
            kept.setdefault(subclip.recording, []).append(
                (clock.frame_to_sample(subclip.start), clock.frame_to_sample(subclip.end))
            )
    inside: dict[int, list[Shown]] = {}
    for statement, placed in zip(statements_found, _where(data_folder, project, statements_found), strict=True):
        if placed is not None:
            n = sum(
                overlap(kept_statement, (statement.start, statement.end))
                for kept_statement in kept.get(statement.recording, [])
            )
            inside.setdefault(placed.theme, []).append(
                Shown(statement, placed.theme, placed.by_hand, min(n, statement.end - statement.start))
            )
    listed_themes = [
        Theme(theme.id, theme.name, theme.aside, tuple(inside.get(theme.id, ())))
        for theme in theme_rows.listing(data_folder.db, project)
    ]
    return sorted(listed_themes, key=lambda t: (t.aside, -t.said))


def group(data_folder: DataFolder, project: int) -> list[Theme]:
    """Group all statements by meaning. What the editor named, moved, merged or split stays; the rest is grouped
    around it."""
    known, statements_found, _ = _now(data_folder, project)
    if known.lacking:
        raise Invalid(
            "What is said is still being worked out. Group it when that is done; the bar above shows how far it is."
        )
    if len(statements_found) < 2:
        raise Invalid("There is too little said in this project to group: transcribe the interviews first.")
    with theme_rows.grouping(data_folder.db, project):
        follow(data_folder, project, first=True)
    return listing(data_folder, project)


def _reshape(
    data_folder: DataFolder, found_statements: Sequence[Statement], where: Sequence[theme_rows.Placed | None]
) -> None:
    """Statements that are alone in where they were placed, and begin or end elsewhere now, are placed as they are."""
    moved = [
        (statement.recording, placed.start, statement.start, statement.end)
        for statement, placed in zip(found_statements, where, strict=True)
        if placed
        and (placed.start, placed.end) != (statement.start, statement.end)
        and sum(other is placed for other in where) == 1
    ]
    if moved:
        theme_rows.reshape(data_folder.db, moved)


def _middles(where: Sequence[theme_rows.Placed | None], sentence_vectors: Floats) -> dict[int, Floats]:
    """The mean of what is said in each theme, of length 1."""
    inside: dict[int, list[int]] = {}
    for index, placed in enumerate(where):
        if placed:
            inside.setdefault(placed.theme, []).append(index)
    means = {theme: sentence_vectors[indexes].mean(0) for theme, indexes in inside.items()}
    return {theme: mean / max(1e-9, float(np.linalg.norm(mean))) for theme, mean in means.items()}


def _spans(found_statements: Sequence[Statement], indexes: Iterable[int]) -> list[tuple[int, int, int]]:
    return [
        (found_statements[index].recording, found_statements[index].start, found_statements[index].end)
        for index in indexes
    ]


def follow(data_folder: DataFolder, project: int, *, first: bool = False) -> int:
    """Put statements that are in no theme yet into the one they are nearest to, the rest into new ones; how many.
    Themes that are there stay as they are. Nothing happens before the first grouping (`first`)."""
    known, statements_found, theme_groups = _now(data_folder, project)
    there = theme_rows.listing(data_folder.db, project)
    if known.lacking or (not there and not first):
        return 0
    where = _where(data_folder, project, statements_found)
    _reshape(data_folder, statements_found, where)
    new = [index for index, placed in enumerate(where) if placed is None]
    if not new:
        return 0
    middles = _middles(where, theme_groups)
    to: dict[int | None, list[int]] = {}
    for index in new:
        to.setdefault(nearest_theme(theme_groups[index], middles), []).append(index)
    rest = to.pop(None, [])
    of_rest = grouped(theme_groups[rest])
    said_groups = _named(data_folder, known, statements_found, rest, of_rest)
    groups: list[theme_rows.Group] = [(key, "", _spans(statements_found, ids)) for key, ids in to.items()]
    for number in sorted(said_groups):
        together = [index for index, group in zip(rest, of_rest, strict=True) if group == number]
        groups.append((None, said_groups[number], _spans(statements_found, together)))
    theme_rows.put(data_folder.db, project, groups)
    return len(new)


def _named(
    data_folder: DataFolder,
    known: Meant,
    found_statements: Sequence[Statement],
    ids: Sequence[int],
    groups: Sequence[int],
) -> dict[int, str]:
    texts = [found_statements[statement_id].text for statement_id in ids]
    vocabulary = sorted({word for text in texts for word in words_of(text)})
    vectors = meanings.vectors(data_folder.db, vocabulary)
    mean_vectors = np.array(
        [
            known.rows[found_statements[statement_id].first : found_statements[statement_id].last].mean(0)
            for statement_id in ids
        ],
        np.float32,
    )
    return names(
        texts,
        groups,
        mean_vectors,
        {word: vector for word, vector in zip(vocabulary, vectors, strict=True) if vector.any()},
    )


def split(data_folder: DataFolder, project: int, theme: int) -> list[str]:
    """A theme in two or more, by what its statements have in common among themselves."""
    known, statements_found, theme_groups = _now(data_folder, project)
    theme_rows.get(data_folder.db, project, theme)
    ids = [
        index
        for index, placed in enumerate(_where(data_folder, project, statements_found))
        if placed and placed.theme == theme
    ]
    if len(ids) < 2:
        raise Invalid("There is one statement in it: nothing to split.")
    inner = theme_groups[ids] - theme_groups[ids].mean(0)
    groups = grouped(inner / np.maximum(np.linalg.norm(inner, axis=1, keepdims=True), 1e-9))
    if len(set(groups)) < 2 or len(set(groups)) > max(2, len(ids) // 2):
        groups = _halves(inner)
    said_groups = _named(data_folder, known, statements_found, ids, groups)
    parts = [
        (
            said_groups[group_name],
            [
                (statements_found[statement_id].recording, statements_found[statement_id].start)
                for statement_id, other in zip(ids, groups, strict=True)
                if other == group_name
            ],
        )
        for group_name in sorted(said_groups)
    ]
    return theme_rows.split(data_folder.db, project, theme, parts)


def _halves(sentence_vectors: Floats) -> list[int]:
    """In two, along the direction in which statements differ most."""
    _, _, axes = np.linalg.svd(sentence_vectors, full_matrices=False)
    along_axis = sentence_vectors @ axes[0]
    order = np.argsort(along_axis)
    half_of_each = np.zeros(len(along_axis), int)
    half_of_each[order[len(along_axis) // 2 :]] = 1
    return [int(v) for v in half_of_each]


def told_twice(data_folder: DataFolder, project: int, most: int = 100) -> list[Twice]:
    """Pairs of sentences that tell the same, most alike first; those that were judged to be apart are left out."""
    known = meant(data_folder, project)
    said_of = judged(data_folder, project)
    told_pairs = []
    sources = recordings.sources(data_folder.db, project)
    for pair in all_pairs(data_folder, project, known):
        first_spoken, second_spoken = known.said[pair.a], known.said[pair.b]
        if _one_moment(first_spoken, second_spoken, sources):
            continue
        better = said_of.get(
            ((first_spoken.recording, first_spoken.start), (second_spoken.recording, second_spoken.start)), ""
        )
        if better != "apart":
            la, na = _loudness(data_folder, first_spoken)
            lb, nb = _loudness(data_folder, second_spoken)
            how = (_told(data_folder, first_spoken), _told(data_folder, second_spoken))
            told_pairs.append(Twice(first_spoken, second_spoken, pair.alike, how, (la, lb), (na, nb), better))
        if len(told_pairs) == most:
            break
    return told_pairs


def _one_moment(first_spoken: Said, second_spoken: Said, sources: Sources) -> bool:
    """Whether two sentences are one, heard by two cameras or recorders at the same time."""
    first_sync, second_sync = sources[first_spoken.recording].sync, sources[second_spoken.recording].sync
    if (
        first_sync is None
        or second_sync is None
        or first_sync.set != second_sync.set
        or first_spoken.recording == second_spoken.recording
    ):
        return False
    begin, end = (set_time(first_sync, Fraction(n, SAMPLE_RATE)) for n in (first_spoken.start, first_spoken.end))
    other_begin, other_end = (
        set_time(second_sync, Fraction(n, SAMPLE_RATE)) for n in (second_spoken.start, second_spoken.end)
    )
    return begin < other_end and other_begin < end


def judged(data_folder: DataFolder, project: int) -> dict[tuple[tuple[int, int], tuple[int, int]], str]:
    """What the editor said of pairs, by (recording, start) of both."""
    return {
        (judged_pair.a, judged_pair.b): judged_pair.better for judged_pair in theme_rows.judged(data_folder.db, project)
    }


def all_pairs(data_folder: DataFolder, project: int, known: Meant) -> list[retold.Pair]:
    """What tells the same among all sentences; of very many, only what is in one theme is compared."""
    key = (str(data_folder.db.path), project)
    if key in _twice and _twice[key][0] == known.state:
        return _twice[key][1]
    if len(known.said) <= COMPARED:
        pairs_found = retold.told_twice(known.said, known.rows)
    else:
        pairs_found = []
        for theme in listing(data_folder, project):
            ids = [
                sentence_index
                for shown in theme.shown
                for sentence_index in range(shown.statement.first, shown.statement.last)
            ][:COMPARED]
            pairs = retold.told_twice([known.said[statement_id] for statement_id in ids], known.rows[ids])
            pairs_found += [
                retold.Pair(min(ids[pair.a], ids[pair.b]), max(ids[pair.a], ids[pair.b]), pair.alike) for pair in pairs
            ]
        pairs_found.sort(key=lambda p: -p.alike)
    if len(_twice) > 4:
        _twice.clear()
    _twice[key] = (known.state, pairs_found)
    return pairs_found


def _told(data_folder: DataFolder, sentence: Said) -> retold.Telling:
    return retold.telling(
        words_said(data_folder, sentence), spoken(data_folder, recordings.get(data_folder.db, sentence.recording))
    )


def words_said(data_folder: DataFolder, sentence: Said) -> list[Word]:
    return [
        word
        for word in transcripts.words_between(data_folder.db, sentence.recording, sentence.start, sentence.end)
        if sentence.start <= word.start < sentence.end
    ]


def _loudness(data_folder: DataFolder, sentence: Said) -> tuple[float | None, float | None]:
    heard_levels = levels(data_folder, sentence.recording)
    if heard_levels is None:
        return None, None
    start, end = sentence.start // 480, max(sentence.start // 480 + 1, sentence.end // 480)
    level, floor = heard_levels.level[start:end], heard_levels.floor[start:end]
    return (float(np.percentile(level, 75)), float(np.median(floor))) if len(level) else (None, None)


def _take_meaning(data_folder: DataFolder, job: Job, result: Result) -> Outcome:
    message = take_meant(data_folder, job, result)
    follow(data_folder, job.project)
    return Outcome(message, result)


MEANING = JobKind("meaning", "meant", 5.5, _take_meaning, is_long=True, clear=clear_up)
MEANING_KEPT = Chore(4, lambda data: partial(keep_up, data, {}))  # what is lacking is asked for once words have changed
