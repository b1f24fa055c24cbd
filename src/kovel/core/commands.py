"""Every edit under one name, so that page, command line, journal and tests ask for it in the same words."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from typing import Any, get_type_hints

from kovel.core import covers, edits
from kovel.core.edits import Edit
from kovel.core.story import Refused, Sources, Story

COMMANDS: dict[str, Callable[..., Edit]] = {
    f.__name__: f
    for f in (
        edits.add_at_end,
        edits.insert,
        edits.insert_several,
        edits.insert_space,
        edits.overwrite,
        edits.lift,
        edits.extract,
        edits.remove,
        edits.take_out,
        edits.open_again,
        edits.split,
        edits.trim,
        edits.move,
        edits.swap,
        edits.set_lock,
        covers.lay_cover,
        covers.trim_cover,
        covers.move_cover,
        covers.remove_cover,
    )
}


def parameters(name: str) -> dict[str, tuple[Any, Any]]:
    """Name -> (type, default or `...`) of what a command needs beyond the story and its sources."""
    f = COMMANDS[name]
    hints = get_type_hints(f)
    return {
        k: (hints[k], ... if p.default is inspect.Parameter.empty else p.default)
        for k, p in list(inspect.signature(f).parameters.items())[2:]
    }


def run(story: Story, sources: Sources, name: str, params: Mapping[str, Any]) -> Edit:
    """Carry out a command by name; `Refused` if there is none of that name or its parameters don't fit."""
    if name not in COMMANDS:
        raise Refused(f"There is no edit called {name}.")
    known = parameters(name)
    missing = [k for k, (_, d) in known.items() if d is ... and k not in params]
    if missing or set(params) - set(known):
        raise Refused(f"{name} needs {', '.join(known)}.")
    return COMMANDS[name](story, sources, **params)
