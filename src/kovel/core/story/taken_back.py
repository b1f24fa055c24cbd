"""One edit taken back from under later ones, where nothing of them builds on it.

edits    A trims piece 1     B lays a cover on piece 2     ->     A undoes: the trim goes, the cover stays
edits    A inserts piece 5   B lays a cover on piece 5     ->     A's cannot go alone: None
"""

from __future__ import annotations

from collections.abc import Container, Hashable, Iterable, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any

from kovel.core.story.bounds import could_be_cut
from kovel.core.story.fitted_transitions import fit_transitions
from kovel.core.story.model import Sources, Story, Transition
from kovel.core.story.patch import ROWS, SETS
from kovel.core.story.settings import Values


def taken_back(before: Story, after: Story, now: Story, sources: Sources) -> Story | None:
    """`now` without the edit that made `after` of `before`; None where something since has changed what it made, or
    stands on it."""
    parts = _parts_back(before, after, now)
    if parts is None:
        return None
    story = replace(now, **parts)
    if not _tied(story):
        return None
    # parts of fitted music go over into each other
    met = _overlapping(story) <= _overlapping(now) | _overlapping(before)
    return story if met and _stands(story, sources) else None


def _parts_back(before: Story, after: Story, now: Story) -> dict[str, Any] | None:
    """What of a story the edit changed, as it is without it; None where something since has changed it too."""
    parts: dict[str, Any] = {}
    for part in ROWS:
        was, part_made, is_now = (getattr(story, part) for story in (before, after, now))
        if was != part_made:
            merged_parts = _merged(was, part_made, is_now)
            if merged_parts is None:
                return None
            parts[part] = tuple(merged_parts)
    for part in SETS:
        parts[part] = _members_back(*(getattr(story, part) for story in (before, after, now)))
        if parts[part] is None:
            return None
    if before.target != after.target:
        if now.target != after.target:
            return None
        parts["target"] = before.target
    settings = _merged(*map(_by_setting, (before, after, now)))
    return None if settings is None else parts | {"settings": _by_scope(settings)}


def _members_back(before: frozenset[Any], after: frozenset[Any], now: frozenset[Any]) -> frozenset[Any] | None:
    """The members of `now` without what came and with what went from `before` to `after`; None where they have changed
    since."""
    came, went = after - before, before - after
    return (now - came) | went if came <= now and now.isdisjoint(went) else None


def _key(row: Any) -> Hashable:
    return (row.left, row.right) if isinstance(row, Transition) else row[:2] if isinstance(row, tuple) else row.id


def _merged(before: Sequence[Any], after: Sequence[Any], now: Sequence[Any]) -> list[Any] | None:
    """The rows of `now` with what changed from `before` to `after` changed back; None where they have changed since."""
    was, rows_made, is_now = (
        {_key(merged_row): merged_row for merged_row in rows_by_key} for rows_by_key in (before, after, now)
    )
    changed = {row_key for row_key in rows_made if rows_made[row_key] != was.get(row_key)}
    if any(is_now.get(row_key) != rows_made[row_key] for row_key in changed) or any(
        row_key in is_now for row_key in was.keys() - rows_made.keys()
    ):
        return None
    merged_rows = {
        row_key: was[row_key] if row_key in changed else merged_row
        for row_key, merged_row in is_now.items()
        if row_key not in changed or row_key in was
    }
    order = _order_back(list(was), list(rows_made), list(is_now), list(merged_rows))
    if order is None or (order := _with_what_went(order, list(was), rows_made)) is None:
        return None
    every = was | merged_rows
    return [every[row_key] for row_key in order]


def _with_what_went(order: list[Any], was: Sequence[Any], made: Container[Any]) -> list[Any] | None:
    """The order with what was taken out back behind what it stood behind; None where that is gone."""
    for key, row_before in zip(was, [None, *was], strict=False):
        if key in made:
            continue
        if row_before is not None and row_before not in order:
            return None
        order.insert(0 if row_before is None else order.index(row_before) + 1, key)
    return order


def _order_back(was: list[Any], made: list[Any], now: list[Any], left: list[Any]) -> list[Any] | None:
    """The order of the rows that are left when an edit is taken back, by their keys; None where they stand in another
    order since."""
    if was != made and [key for key in now if key in made] != [key for key in made if key in now]:
        return None
    in_both = [key for key in was if key in made]
    if in_both == [key for key in made if key in was]:  # it moved none
        return left
    return in_both if now == made else None


def _by_setting(story: Story) -> list[tuple[str, str, Any]]:
    return [(scope, name, value) for scope, values in story.settings for name, value in values.rows]


def _by_scope(scoped_rows: Iterable[tuple[str, str, Any]]) -> tuple[tuple[str, Values], ...]:
    values_by_scope: dict[str, list[tuple[str, Any]]] = {}
    for scope, name, value in scoped_rows:
        values_by_scope.setdefault(scope, []).append((name, value))
    return tuple(sorted((scope, Values(tuple(sorted(values)))) for scope, values in values_by_scope.items()))


def _tied(story: Story) -> bool:
    """Whether all that is in place has its word, and nothing in the tray has."""
    laid = [*(cover.tether for cover in story.covers), *(sound.tether for sound in story.sounds)]
    loose = [*(cover.tether for cover in story.loose), *(sound.tether for sound in story.loose_sounds)]
    return all(map(story.holds, laid)) and not any(map(story.holds, loose))


def _stands(story: Story, sources: Sources) -> bool:
    """Whether edits could have left a story like this."""
    if not could_be_cut(story, sources):
        return False
    heads = [story.index_of(section.piece) for section in story.sections]
    fitting, _, _ = fit_transitions(story, sources, {}) if story.transitions else ((), [], [])
    return heads == sorted(set(heads)) and tuple(fitting) == story.transitions


def _overlapping(story: Story) -> set[tuple[int, int]]:
    """The covers, and the sounds, that lie over each other on one lane."""
    covers = [(cover.lane, start, end, cover.id) for start, end, cover in story.spans]
    sounds = [(sound.lane, story.at(sound), story.at(sound) + sound.length, sound.id) for sound in story.sounds]
    return {
        (one[3], other[3])
        for spans in (sorted(covers), sorted(sounds))
        for one, other in pairwise(spans)
        if one[0] == other[0] and one[2] > other[1]
    }
