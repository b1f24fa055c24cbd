"""One edit done to each of several clips, in one step: one undo, and one sentence that says how many."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from typing import Any

from kovel.core.story.edit_offers import COMMANDS, ENTRIES
from kovel.core.story.edit_rules import Edit, capitalised, name_of
from kovel.core.story.model import Refused, Report, Sources, Story
from kovel.core.story.settling import about_jumps, exposed_now

ONE_CLIP = ("piece", "cover", "sound", "chosen")  # where a parameter that names one clip is taken from
SAID = 2  # sentences that are told; that there are more is said


SEVERAL_OF_THEIR_OWN = ("slip", "slip_cover", "slip_sound")  # there is an edit of several clips for these


@cache
def clip_parameter(name: str) -> str | None:
    """The parameter that names the clip of an edit which needs nothing else but what is typed: such an edit can be
    done to several. None for the others."""
    found: set[str] = set()
    if name in SEVERAL_OF_THEIR_OWN:
        return None
    for command, entry in ENTRIES:
        sources = {parameter: source for parameter, source in entry.params.items() if isinstance(source, str)}
        others = {source for source in sources.values() if source not in ONE_CLIP and not source.startswith("=")}
        clips = [parameter for parameter, source in sources.items() if source in ONE_CLIP]
        if command == name and len(clips) == 1 and others <= {"typed", "minus typed"}:
            found.update(clips)
    return found.pop() if len(found) == 1 else None


def on_each(story: Story, sources: Sources, name: str, params: Mapping[str, Any], clips: Sequence[int]) -> Edit:
    """An edit of the catalogue done to each of these clips. Those that refuse stay as they are, and it is said why;
    `Refused` where all do, or where the edit is about more than one clip at a time."""
    parameter = clip_parameter(name)
    if parameter is None:
        raise Refused("That is done to one clip at a time. Select one, then try again.")
    return step_by_step(
        story,
        sources,
        clips,
        lambda now, clip: COMMANDS[name](now, sources, **{**params, parameter: clip}),
    )


def step_by_step(
    story: Story,
    sources: Sources,
    clips: Iterable[int],
    step: Callable[[Story, int], Edit],
    did: Callable[[list[int]], str] | None = None,
) -> Edit:
    """The edits that `step` makes of each clip, one after the other, as one edit. `did` says what was done of the
    clips it was done to, where each clip's own sentence would say too little."""
    wanted = list(dict.fromkeys(clips))
    now, done, reports, refused = story, list[int](), list[Report](), list[str]()
    for clip in wanted:
        try:
            now, report = step(now, clip)
        except Refused as error:
            refused.append(f"{_called(story, sources, clip)}: {error}")
            continue
        done.append(clip)
        reports.append(report)
    if not reports:
        raise Refused(" ".join(dict.fromkeys(line.split(": ", 1)[1] for line in refused)) or "Select clips first.")
    if len(wanted) == 1 and did is None:
        return now, reports[0]
    told = did(done) if did else _counted(reports, len(wanted))
    return now, _summed(story, now, sources, reports, told, refused)


def _called(story: Story, sources: Sources, clip: int) -> str:
    try:
        return capitalised(name_of(sources, story.item(clip)))
    except Refused:
        return "A clip"


def _counted(reports: Sequence[Report], asked: int) -> str:
    """`4 clips: A slipped 2 frames later; B slipped 2 frames later; and more`, what is the same once."""
    many = f"{len(reports)} clips" if len(reports) == asked else f"{len(reports)} of {asked} clips"
    said = list(dict.fromkeys(report.did for report in reports))
    more = ["and more"] if len(said) > SAID else []
    return f"{many}: {'; '.join([*said[:SAID], *more])}"


def _summed(
    story: Story, now: Story, sources: Sources, reports: Sequence[Report], did: str, refused: Sequence[str]
) -> Report:
    """One report of all; jumps as they are at the end."""
    was_loose, loose = _loose(story), _loose(now)
    jumps = exposed_now(story, now, sources)
    notes = [note for report in reports for note in report.notes if "exposed now" not in note]
    heads = [report.playhead for report in reports if report.playhead is not None]
    return Report(
        did,
        tuple(dict.fromkeys([*refused, *notes, *about_jumps(jumps, now)])),
        tuple(dict.fromkeys(clip for report in reports for clip in report.made)),
        tuple(clip for clip in loose if clip not in was_loose),
        tuple(clip for clip in was_loose if clip not in loose),
        tuple(jump.at for jump in jumps),
        tuple(dict.fromkeys(clip for report in reports for clip in report.shortened)),
        min(heads, default=None),
        any(report.judged for report in reports),
    )


def _loose(story: Story) -> list[int]:
    """What waits in the trays."""
    return [*(cover.id for cover in story.loose), *(sound.id for sound in story.loose_sounds)]
