"""Every edit by example, at its bounds: what it makes, tells and refuses. Common practice, no source; read line by line.

`tests/data/edits.txt` holds them as text (see `examples.py`): what changes in it changes what an editor is told. So does
`plans.txt` with the plans of stories (see `planned.py`).
"""

from pathlib import Path

import pytest

from kovel.core.story.catalogue import COMMANDS
from tests.core.examples import BEFORE, done, drawn, examples
from tests.core.planned import planned

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


@pytest.mark.parametrize(("base", "edits", "follows"), PLANS, ids=[f"{b}: {e}" for b, e, _ in PLANS])
def test_plan_example(base: str, edits: str, follows: list[str]) -> None:
    """What a story shows and lets hear, run by run and sound by sound. Common practice, no source; read line by line."""
    assert list(planned(base, edits)) == follows
