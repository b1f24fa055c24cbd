"""What is set on a story beside its cutting: headings and target lengths, groups, lanes muted or soloed."""

from __future__ import annotations

from dataclasses import replace

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, in_words, lane_key, refuse_locked
from kovel.core.story.model import SOUNDS, Cover, Item, Piece, Refused, Report, Section, Sources, Story
from kovel.core.story.settling import settle
from kovel.core.story.values import set_value
from kovel.core.time.timecode import running


@edit(
    entry("Heading: TEXT", also="section, chapter", typed="text", default="", piece="piece", heading="typed"),
    entry(
        "Target length of this section: MINUTES",
        typed="minutes",
        default="0",
        piece="piece",
        heading="heading",
        target="typed",
    ),
)
def set_heading(story: Story, sources: Sources, piece: int, heading: str, target: int = 0) -> Edit:
    """Begin a section at a piece, or change its heading and target length; an empty heading takes it away."""
    index = story.index_of(piece)
    text = " ".join(heading.split())[:120]
    if target < 0:
        raise Refused("A target length cannot be negative.")
    old_section = next((section for section in story.sections if section.piece == piece), None)
    other_sections = tuple(section for section in story.sections if section.piece != piece)
    if not text:
        if old_section is None:
            raise Refused("There is no heading here. Type one.")
        return settle(
            story,
            replace(story, sections=other_sections),
            sources,
            f"Heading “{old_section.heading}” taken away",
            playhead=story.starts[index],
        )
    new_section = Section(old_section.id if old_section else story.next_id, piece, text, target)
    if new_section == old_section:
        raise Refused("The heading says that already.")
    draft = replace(story, sections=(*other_sections, new_section), next_id=max(story.next_id, new_section.id + 1))
    # a report without an id: a heading is nothing one chooses
    return settle(story, draft, sources, f"Heading “{text}”", playhead=story.starts[index])


def sections(story: Story) -> list[tuple[Section | None, int, int]]:
    """Each section with its first and its last story frame; None for what stands before the first heading."""
    at = sorted((story.starts[story.index_of(section.piece)], section) for section in story.sections)
    sections_there: list[tuple[Section | None, int, int]] = []
    if story.length and (not at or at[0][0] > 0):
        sections_there.append((None, 0, at[0][0] if at else story.length))
    for index, (a, section) in enumerate(at):
        sections_there.append((section, a, at[index + 1][0] if index + 1 < len(at) else story.length))
    return sections_there


@edit(
    entry(
        "Target length of the story: MINUTES",
        also="running time, duration",
        typed="minutes",
        default="0",
        length="typed",
    )
)
def set_target(story: Story, sources: Sources, length: int) -> Edit:
    """How long the story is to be; 0: no target."""
    if length < 0:
        raise Refused("A target length cannot be negative.")
    if length == story.target:
        raise Refused("That is the target already.")
    return replace(story, target=length), Report(
        f"Target length: {running(length, story.rate)}, minutes and seconds" if length else "Target length taken away"
    )


@edit(
    entry("Group the selected clips", also="link, together, what is chosen", ids="all chosen", on=True),
    entry("Ungroup", ids="all chosen", on=False),
)
def set_group(story: Story, sources: Sources, ids: list[int], on: bool = True) -> Edit:
    """Pieces, or covers, titles and sounds, as one group that moves together and can be set as one; or no longer."""
    clips = _groupable(story, set(ids))
    if on and len(clips) < 2:
        raise Refused("A group needs at least two clips.")
    if not on and not any(clip.group for clip in clips):
        raise Refused("The selected clips are in no group.")
    group = story.next_id if on else 0
    new_story = replace(
        story.with_items({clip.id: replace(clip, group=group) for clip in clips}),
        next_id=story.next_id + on,
    )
    what = in_words(story, (clip.id for clip in clips))
    return settle(story, new_story, sources, f"{what} grouped" if on else f"{what} no longer grouped")


def _groupable(story: Story, chosen: set[int]) -> list[Item]:
    """These clips. Refused where they are not all pieces of the story, or all laid on it, and where one is locked."""
    clips: list[Item] = [clip for clip in story.clips if clip.id in chosen]
    if not chosen or len(clips) < len(chosen):
        raise Refused("Select clips that are in the story.")
    for clip in clips:
        lane = lane_key(clip.lane) if isinstance(clip, Cover) else DIALOGUE if isinstance(clip, Piece) else "sounds"
        refuse_locked(story, lane)
    if len({isinstance(clip, Piece) for clip in clips}) > 1:
        raise Refused(
            "Group pieces with pieces, and covers, titles and sounds with each other: these follow their words anyway."
        )
    return clips


@edit(
    entry("Group seen as one picture", piece="piece", on=True),
    entry("Group seen piece by piece", piece="piece", on=False),
)
def set_as_one(story: Story, sources: Sources, piece: int, on: bool = True) -> Edit:
    """Put the pictures of a piece's group together first, with the covers tied to them: then the group's own
    framing, look and opacity apply to the whole."""
    group = story.piece(piece).group
    if not group:
        raise Refused("That piece is in no group: choose several and group them first.")
    return set_value(story, sources, f"group {group}", "as_one", on)


def lanes(story: Story) -> list[str]:
    """What can be muted or soloed."""
    return [
        DIALOGUE,
        *(lane_key(n) for n in range(1, 1 + max((cover.lane for cover in story.covers), default=1))),
        *SOUNDS,
    ]


@edit(
    entry("Mute {lane}", also="silence", each="lanes", lane="lane", muted=True),
    entry("Unmute {lane}", each="lanes", lane="lane", muted=False),
)
def set_muted(story: Story, sources: Sources, lane: str, muted: bool) -> Edit:
    """Leave a lane out of what is seen and heard, or take it in again. Nothing is removed."""
    if lane not in lanes(story):
        raise Refused("There is no such lane.")
    lanes_muted = story.muted | {lane} if muted else story.muted - {lane}
    if lanes_muted == story.muted:
        raise Refused(f"The {lane} lane is {'already' if muted else 'not'} muted.")
    return replace(story, muted=lanes_muted), Report(f"{lane.capitalize()} {'muted' if muted else 'no longer muted'}")


@edit(
    entry("Solo {lane}", also="listen alone", each="heard", lane="lane", solo=True),
    entry("Solo off {lane}", each="heard", lane="lane", solo=False),
)
def set_solo(story: Story, sources: Sources, lane: str, solo: bool) -> Edit:
    """Hear only this lane (and others on solo)."""
    if lane not in (DIALOGUE, *SOUNDS):
        raise Refused("Only what is heard can be put on solo.")
    lanes_soloed = story.soloed | {lane} if solo else story.soloed - {lane}
    if lanes_soloed == story.soloed:
        raise Refused(f"The {lane} lane is {'already' if solo else 'not'} on solo.")
    return replace(story, soloed=lanes_soloed), Report(
        f"{lane.capitalize()} {'on solo' if solo else 'no longer on solo'}"
    )
