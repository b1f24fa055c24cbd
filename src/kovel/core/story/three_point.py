"""One edit by three marks out of four, whatever is done with them and whichever of picture and sound is taken."""

from __future__ import annotations

from kovel.core.story import covers, dialogue, sound_edits
from kovel.core.story.covers import three_points
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import Edit, source_of
from kovel.core.story.model import Refused, Sources, Story


@edit(
    entry("Insert by the marks", how="=insert", take="=both", points="marks"),
    entry("Insert only its picture", how="=insert", take="=picture", points="marks"),
    entry("Insert only its sound", how="=insert", take="=sound", points="marks"),
    entry("Overwrite by the marks", how="=overwrite", take="=both", points="marks"),
    entry("Overwrite only the picture", how="=overwrite", take="=picture", points="marks"),
    entry("Overwrite only the sound", how="=overwrite", take="=sound", points="marks"),
    entry("Back-timed insert: ends at the out mark or the playhead", how="=insert", take="=both", points="marks back"),
    entry("Back-timed overwrite", how="=overwrite", take="=both", points="marks back"),
    entry("Back-timed cover", how="=cover", take="=both", points="marks back"),
)
def place(
    story: Story,
    sources: Sources,
    how: str,
    source: int,
    at: int | None = None,
    until: int | None = None,
    start: int | None = None,
    end: int | None = None,
    take: str = "both",
) -> Edit:
    """Insert, overwrite, add, cover or sound by three points; the missing one follows from the others.

    With the shot's in point missing, the edit is back-timed from both out points.
    """
    this_source = source_of(sources, source)
    if how == "cover":
        return covers.lay_cover(story, sources, source, at=at, until=until, start=start, end=end)
    if how == "sound":
        return sound_edits.lay_sound(story, sources, source, at=at, until=until, start=start, end=end, kind="voice")
    if how == "add":
        at, until = story.length, None
    begin, source_in, length = three_points(
        at=at, until=until, start=start, end=end, most=this_source.length(story.rate)
    )
    if begin < 0:
        raise Refused("Back-timed like that it would begin before the story does.")
    if how in ("insert", "add"):
        return dialogue.insert(story, sources, begin, source, source_in, length, take)
    if how == "overwrite":
        return dialogue.overwrite(story, sources, begin, source, source_in, length, take)
    raise Refused("Insert, overwrite, add, cover or sound: one of these.")
