"""What is special about a piece, a cover or a seam, in the few words that stand beside it."""

from __future__ import annotations

from kovel.core.story.covers import heard_as
from kovel.core.story.levels_told import total_told
from kovel.core.story.model import TITLE, Cover, Piece, Sources, Story, Transition
from kovel.core.story.settings import SETTINGS, Setting, Value
from kovel.core.story.sync import same_moment
from kovel.web.pace_notes import pace_note


def transition_note(j: Transition) -> str:
    """What is set at a seam: `dissolve 12 J 4`."""
    rows = [f"{'dissolve' if j.blend == 'dissolve' else 'dip'} {j.length}"] if j.length else []
    rows += [f"{'J' if j.split < 0 else 'L'} {abs(j.split)}"] if j.split else []
    rows += [f"crossfade {j.cross}"] if j.cross else []
    return " ".join(rows)


def _note(s: Setting, v: Value) -> str:
    if s.name == "zoom" and isinstance(v, tuple):
        return f"push {v[0][1]:g} to {v[-1][1]:g} %"
    if s.meets == "here":
        return s.label.lower()
    return s.says(v) if s.name == "zoom" else f"{s.label.lower()} {s.says(v)}"


def piece_note(story: Story, sources: Sources, p: Piece) -> str:
    """What is special about a piece: its own settings, and what is taken of it."""
    told = [(SETTINGS[n], p.settings[n]) for n in p.settings if SETTINGS[n].family != "pace" and n != "level"]
    level = [total_told(story, sources, p)] if "level" in p.settings else []
    notes = [*([x] if (x := pace_note(p)) else []), *level, *(_note(s, v) for s, v in told)]
    return ", ".join([*notes, *([f"only its {p.take}"] if p.take != "both" else [])])


def cover_note(story: Story, sources: Sources, c: Cover, at: int) -> str:
    """What is special about a cover: retimed, with its sound, another camera in or out of step."""
    notes = []
    notes += [x] if (x := pace_note(c)) else []
    if story.value(c, "natural", sources):
        notes.append("with its sound" if c.as_shot else f"its sound: {heard_as(c)}")
    told = [SETTINGS[n] for n in c.settings if SETTINGS[n].family != "pace" and n != "natural" and c.source != TITLE]
    notes += [f"level {total_told(story, sources, c)}" if x.name == "level" else _note(x, c.settings[x.name]) for x in told]
    if at < story.length:
        i = story.index_at(at)
        p = story.pieces[i]
        if p.source is not None and p.source in sources and c.source in sources and p.take != "sound":
            want = same_moment(sources[p.source], sources[c.source], p.moment(at - story.starts[i]), story.rate)
            if want is not None:
                notes.append("in step" if want == c.start else f"{c.start - want:+d} frames out of step")
    return ", ".join(notes)
