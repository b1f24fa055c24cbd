"""A project kept before there were settings and layers opens, looks and sounds the same, and undoes to the same states.

`data/before_settings.sql` was written by that Kovel (schema 7) after random edits; `before_settings.json` holds the
plans it made of the story as it stood and after each of thirty undos, as player and renderer read them then.
"""

import json
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from kovel.core.plan.plan import make_plan
from kovel.core.sound.beats import Beats
from kovel.core.sound.hits import Quick
from kovel.store import decisions, history, kept_settings, recordings, stories
from kovel.store.db import Database
from kovel.store.decisions import QuickDesk

DATA = Path(__file__).parent / "data"
Seen = dict[tuple[Any, ...], float]  # (recording, its frame, zoom, card) -> its share of the picture


def _own(row: list[Any], k: int) -> int | None:
    return None if row[0] is None else (row[1] + k * row[2]) // row[3]


def _seen(rows: list[tuple[tuple[Any, ...], float]]) -> Seen:
    out: Seen = {}
    for image, share in rows:
        if share > 1e-12 and (image[0] is not None or image[3]):
            out[image] = out.get(image, 0) + share
    return out


def as_it_was(plan: dict[str, Any]) -> Iterator[Seen]:
    """Each frame of a plan as it was written then: an image, or a mix of two by name."""

    def image(row: list[Any], k: int, more: dict[str, Any]) -> tuple[Any, ...]:
        return (row[0], _own(row, k), more.get("zoom", 100) if row[0] is not None else 100, tuple(more.get("card", ())))

    for at, end, *row in plan["pictures"]:
        more = row[4] if len(row) > 4 else {}
        for k in range(end - at):
            if "mix" not in more:
                yield _seen([(image(row, k, more), 1.0)])
                continue
            kind, first, of, to, extra = more["mix"]
            w = (first + k + 1) / (of + 1)
            a, b = (1 - w, w) if kind == "dissolve" else (max(0.0, 1 - 2 * w), max(0.0, 2 * w - 1))
            yield _seen([(image(row, k, more), a), (image(to, k, extra), b)])


def as_it_is(plan: dict[str, Any]) -> Iterator[Seen]:
    """Each frame of a plan in layers, put together from the bottom."""
    for at, end, layers in plan["pictures"]:
        for k in range(end - at):
            rows: list[tuple[tuple[Any, ...], float]] = []
            for row in layers:
                more = row[4] if len(row) > 4 else {}
                first, step, of = more.get("opacity", (1, 0, 1))
                share = min(1.0, max(0.0, (first + k * step) / of))
                rows = [(i, s * (1 - share)) for i, s in rows]
                rows.append(
                    ((row[0], _own(row, k), more.get("part", {}).get("zoom", 100), tuple(more.get("card", ()))), share)
                )
            yield _seen(rows)


def test_a_project_of_before_opens_looks_and_undoes_the_same(tmp_path: Path) -> None:
    c = sqlite3.connect(tmp_path / "kovel.db")
    c.executescript((DATA / "before_settings.sql").read_text())
    tighten = {
        "settings": {"shortest": 0.5, "before": 0.1, "after": 0.2, "island": 0.08, "threshold": -44.0},
        "off": ["pa12"],
        "on": ["qu7"],
        "kinds_off": ["filler", "question"],
        "moved": {"pa12": [3, 9], "pa40": [50, 61]},
        "protected": [[5, 8]],
    }
    hits = {
        "how": {"before": 2, "length": 6, "ring": False, "most": 25, "intro": 0, "target": 200},
        "sensitivity": 0.6,
        "off": [9],
        "music": 99,
    }
    beats = {"beats": [10, 20], "tempo": 96.0, "first": 1, "bar": 3}
    kept_as_json = {
        "tighten 1": tighten,
        "tighten 99": tighten,
        "hits 2": hits,
        "beats 4": beats,
        "sync 7": {"curve": [0.5], "windows": [[1, 2]]},
    }
    c.executemany(
        "INSERT INTO setting VALUES (?, ?)",
        [*((k, json.dumps(v)) for k, v in kept_as_json.items()), ("beats 2", ""), ("model", "m")],
    )
    c.commit()
    c.close()
    db = Database(tmp_path / "kovel.db")
    plans = json.loads((DATA / "before_settings.json").read_text())
    d = decisions.desk(db, 1)
    assert (d.settings.threshold, d.off, d.on, d.kinds_off) == (-44.0, ["pa12"], ["qu7"], ["filler", "question"])
    assert (d.moved, d.protected) == (tighten["moved"], [[5, 8]])
    assert decisions.quick(db, 2) == QuickDesk(Quick(2, 6, False, 25, 0, 200), 0.6, [9], None)
    assert decisions.beats(db, 4) == Beats((10, 20), 96.0, 1, 3) and decisions.beats(db, 2) is None
    assert decisions.match(db, 7).windows == [[1, 2]] and kept_settings.get(db, "model") == "m"
    assert [r[0] for r in db.read().execute("SELECT key FROM setting")] == ["model"]
    sources = recordings.sources(db, 1)
    kept = stories.load(db, 1)
    last = kept.story
    assert {n for p in last.pieces for n in p.settings} == {"zoom"} and any(c.settings for c in last.covers)
    for i, before in enumerate(plans):
        if i:
            kept, _ = history.undo(db, 1)
        now = json.loads(json.dumps(make_plan(kept.story, sources).to_json(sources)))
        assert (now["length"], now["samples"]) == (before["length"], before["samples"])
        for t, (a, b) in enumerate(zip(as_it_was(before), as_it_is(now), strict=True)):
            assert a.keys() == b.keys() and all(a[x] == pytest.approx(b[x], abs=1e-12) for x in a), (i, t, a, b)
        for x, y in zip(before["sounds"], now["sounds"], strict=True):
            assert x[:4] == y[:4] and (x[5:] or [192, 192]) == y[5:7] and x[4] == pytest.approx(y[4], rel=1e-12)
    for _ in plans[1:]:
        kept, _ = history.redo(db, 1)
    db.stories.clear()
    assert kept.story == last == stories.load(db, 1).story
