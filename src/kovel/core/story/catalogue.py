"""Every edit under one name, so that page, command line, journal and tests ask for it in the same words."""

from __future__ import annotations

import inspect
from collections.abc import Mapping
from dataclasses import replace
from functools import cache
from typing import Any, get_type_hints

# the modules whose edits are in the catalogue
from kovel.core.story import (
    along,
    arrangement,
    beds,
    bounds,
    clip_edits,
    covers,
    dialogue,
    framing,
    level_lines,
    marks,
    pace,
    paste,
    removals,
    sound_edits,
    story_markers,
    three_point,
    title_edits,
    transitions,
    trims,
    values,
)
from kovel.core.story.edit_offers import COMMANDS, ENTRIES, Entry
from kovel.core.story.edit_rules import DIALOGUE, Edit
from kovel.core.story.model import SOUNDS, Refused, Sources, Story
from kovel.core.story.several import on_each

MODULES = (
    story_markers,
    dialogue,
    removals,
    arrangement,
    three_point,
    trims,
    transitions,
    covers,
    pace,
    title_edits,
    sound_edits,
    beds,
    values,
    level_lines,
    framing,
    marks,
    along,
    paste,
    clip_edits,
)  # in the order of the list


@cache
def parameters(name: str) -> dict[str, tuple[Any, Any]]:
    """Name -> (type, default or `...`) of what a command needs beyond the story and its sources."""
    command_parameters = COMMANDS[name]
    hints = get_type_hints(command_parameters)
    return {
        name: (hints[name], ... if parameter.default is inspect.Parameter.empty else parameter.default)
        for name, parameter in list(inspect.signature(command_parameters).parameters.items())[2:]
    }


def about(name: str) -> str:
    """What an edit does: the first sentence of its description."""
    text = " ".join((COMMANDS[name].__doc__ or "").split("\n\n")[0].split())
    return text.split(". ")[0].rstrip(".") + "."


def run(story: Story, sources: Sources, name: str, params: Mapping[str, Any]) -> Edit:
    """Carry out a command by name; `Refused` if there is none of that name or its parameters don't fit.

    With `each`, a list of clips, it is done to each of them in one step, in place of the one that is named.
    """
    if name not in COMMANDS:
        raise Refused(f"There is no edit called {name}.")
    bounds.asked(params)
    each, params = params.get("each"), {key: value for key, value in params.items() if key != "each"}
    known = parameters(name)
    missing = [name for name, (_, d) in known.items() if d is ... and name not in params]
    if missing or set(params) - set(known):
        raise Refused(f"{name} needs {', '.join(known)}.")
    edited: Edit = (
        COMMANDS[name](story, sources, **params) if each is None else on_each(story, sources, name, params, each)
    )
    bounds.held(edited[0])
    return edited


def entries() -> list[tuple[str, Entry]]:
    """All declarations, in the order of MODULES."""
    order = {module.__name__: index for index, module in enumerate(MODULES)}
    return sorted(ENTRIES, key=lambda r: order[COMMANDS[r[0]].__module__])


def offered(story: Story) -> list[tuple[str, Entry]]:
    """All edits as they are offered for a story: (name of the edit, entry); those of lanes once for each lane there
    is."""
    every, go_along = marks.lanes(story), along.lanes(story)
    lanes = {
        "lanes": every,
        "heard": [offered_entry for offered_entry in every if offered_entry == DIALOGUE or offered_entry in SOUNDS],
        "along": go_along,
        "locks": [
            DIALOGUE,
            "sounds",
            *(offered_entry for offered_entry in every if offered_entry != DIALOGUE and offered_entry not in SOUNDS),
        ],
    }
    offered_edits = []
    for name, entry in entries():
        for lane in lanes[entry.each] if entry.each else [""]:
            fixed = {name: f"={lane}" if value == "lane" else value for name, value in entry.params.items()}
            offered_edits.append((name, replace(entry, label=entry.label.replace("{lane}", lane), params=fixed)))
    return offered_edits
