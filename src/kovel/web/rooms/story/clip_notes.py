"""What is special about a piece, a cover or a seam, in the few words that stand beside it."""

from __future__ import annotations

from kovel.core.story.covers import heard_as
from kovel.core.story.levels_told import total_told
from kovel.core.story.model import TITLE, Cover, Piece, Sources, Story, Transition
from kovel.core.story.settings import SETTINGS, Setting, Value
from kovel.core.story.sync import same_moment
from kovel.web.pace_notes import pace_note


def transition_note(transition: Transition) -> str:
    """What is set at a seam: `dissolve 12 J 4`."""
    noted_changes = (
        [f"{'dissolve' if transition.blend == 'dissolve' else 'dip'} {transition.length}"] if transition.length else []
    )
    noted_changes += [f"{'J' if transition.split < 0 else 'L'} {abs(transition.split)}"] if transition.split else []
    noted_changes += [f"crossfade {transition.cross}"] if transition.cross else []
    return " ".join(noted_changes)


def _note(setting: Setting, value: Value) -> str:
    if setting.name == "zoom" and isinstance(value, tuple):
        return f"push {value[0][1]:g} to {value[-1][1]:g} %"
    if setting.meets == "here":
        return setting.label.lower()
    return setting.says(value) if setting.name == "zoom" else f"{setting.label.lower()} {setting.says(value)}"


def piece_note(story: Story, sources: Sources, piece: Piece) -> str:
    """What is special about a piece: its own settings, and what is taken of it."""
    told_settings = [
        (SETTINGS[setting], piece.settings[setting])
        for setting in piece.settings
        if SETTINGS[setting].family != "pace" and setting != "level"
    ]
    level = [total_told(story, sources, piece)] if "level" in piece.settings else []
    notes = [
        *([note] if (note := pace_note(piece)) else []),
        *level,
        *(_note(setting, value) for setting, value in told_settings),
    ]
    return ", ".join([*notes, *([f"only its {piece.take}"] if piece.take != "both" else [])])


def cover_note(story: Story, sources: Sources, cover: Cover, at: int) -> str:
    """What is special about a cover: retimed, with its sound, another camera in or out of step."""
    notes = []
    notes += [note] if (note := pace_note(cover)) else []
    if story.value(cover, "natural", sources):
        notes.append("with its sound" if cover.as_shot else f"its sound: {heard_as(cover)}")
    told_settings = [
        SETTINGS[setting]
        for setting in cover.settings
        if SETTINGS[setting].family != "pace" and setting != "natural" and cover.source != TITLE
    ]
    notes += [
        f"level {total_told(story, sources, cover)}"
        if setting.name == "level"
        else _note(setting, cover.settings[setting.name])
        for setting in told_settings
    ]
    notes += _step_note(story, sources, cover, at)
    return ", ".join(notes)


def _step_note(story: Story, sources: Sources, cover: Cover, at: int) -> list[str]:
    """Whether a cover that shows the moment that is heard under it, from another camera, is in step with it."""
    index = story.index_at(at) if at < story.length else None
    piece = story.pieces[index] if index is not None else None
    mine, theirs = sources.get(piece.source or 0) if piece else None, sources.get(cover.source)
    if index is None or piece is None or mine is None or theirs is None or piece.take == "sound":
        return []
    moment = same_moment(mine, theirs, piece.moment(at - story.starts[index]), story.rate)
    if moment is None:
        return []
    return ["in step" if moment == cover.start else f"{cover.start - moment:+d} frames out of step"]
