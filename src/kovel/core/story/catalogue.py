"""Every edit under one name, so that page, command line, journal and tests ask for it in the same words."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from typing import Any, get_type_hints

from kovel.core.story import covers, dialogue, joins, marks, sounds, trims, values
from kovel.core.story.along import set_along
from kovel.core.story.consequences import Edit
from kovel.core.story.model import Refused, Sources, Story
from kovel.core.story.paste import paste
from kovel.core.story.three_point import place

COMMANDS: dict[str, Callable[..., Edit]] = {
    f.__name__: f
    for f in (
        dialogue.add_at_end, dialogue.insert, dialogue.insert_several, dialogue.insert_space, dialogue.insert_card, dialogue.set_card,
        dialogue.overwrite, dialogue.replace_piece, place, dialogue.lift, dialogue.extract, dialogue.remove, dialogue.close_space,
        dialogue.take_out, dialogue.open_again, dialogue.split, dialogue.join_through, dialogue.trim, dialogue.move, dialogue.move_several,
        dialogue.swap, dialogue.spread, dialogue.set_lock, dialogue.take_only, set_along, paste,
        trims.roll, trims.slip, trims.slide, trims.match_length, trims.extend_to, trims.top, trims.tail, trims.set_length,
        joins.set_blend, joins.split_edit, joins.crossfade,
        covers.lay_cover, covers.lay_several, covers.fill_space, covers.trim_cover, covers.slip_cover, covers.move_cover, covers.replace_cover,
        covers.retime_cover, covers.remove_cover,
        sounds.lay_sound, sounds.trim_sound, sounds.move_sound, sounds.remove_sound,
        marks.set_heading, marks.set_target, marks.set_group, marks.set_muted, marks.set_solo, values.set_value, values.reset_value, values.copy_values,
    )
}  # fmt: skip


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
