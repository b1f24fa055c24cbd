"""Every edit by example, at its bounds: what it makes, tells and refuses. Common practice, no source; read line by
line.

`tests/data/edits.txt` holds them as text (see `examples.py`): what changes in it changes what an editor is told. So
does `plans.txt` with the plans of stories (see `planned.py`).
"""

import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import pytest

from kovel.core.plan.layers import Layer, flat, ratios
from kovel.core.plan.sounds import Heard
from kovel.core.story.catalogue import COMMANDS
from tests.core.examples import BEFORE, done, drawn, examples
from tests.core.planned import plan_of, planned
from tests.core.stories import SOURCES, R

DATA = Path(__file__).parent.parent / "data"
ROWS = list(examples(DATA / "edits.txt"))


@pytest.mark.parametrize(("base", "edit", "follows"), ROWS, ids=[f"{b}: {e}" for b, e, _ in ROWS])
def test_example(base: str, edit: str, follows: list[str]) -> None:
    before = BEFORE[base]()
    was = drawn(before)
    assert done(before, edit) == follows
    assert drawn(before) == was  # a story never changes


def test_no_edit_is_without_an_example() -> None:
    assert {e.split()[0] for _, e, _ in ROWS} == set(COMMANDS)


PLANS = list(examples(DATA / "plans.txt"))
RATIOS = ratios(SOURCES, R)


@pytest.mark.parametrize(("base", "edits", "follows"), PLANS, ids=[f"{b}: {e}" for b, e, _ in PLANS])
def test_plan_example(base: str, edits: str, follows: list[str]) -> None:
    """What a story shows and lets hear, run by run and sound by sound. Common practice, no source; read line by
    line. What is read from its JSON is the same."""
    plan = plan_of(base, edits)
    assert list(planned(plan)) == follows
    rows = json.loads(json.dumps(plan.to_json(SOURCES)))
    assert tuple(Heard.from_json(r) for r in rows["sounds"]) == tuple(replace(h, pace=None) for h in plan.sounds)
    for run, (at, end, layers) in zip(plan.pictures, rows["pictures"], strict=True):
        assert (at, end) == (run.at, run.end)
        read = [x for row in layers for x in Layer.from_json(row).flat()]
        for x, y in zip(read, flat(run.layers), strict=True):
            assert (x.layer.opacity, x.layer.part, x.layer.place, x.layer.letters) == (
                y.opacity,
                y.part,
                y.place,
                y.letters,
            )
            assert (x.layer.image.source, x.layer.image.card, x.layer.image.title) == (
                y.image.source,
                y.image.card,
                y.image.title,
            )
            assert x.steps == y.image.steps(RATIOS.get(y.image.source, Fraction(1)))
