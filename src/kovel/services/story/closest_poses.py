"""The closest pose at exposed jumps of a story: looked for within the pauses on both sides, in the small grey
pictures."""

from __future__ import annotations

from dataclasses import dataclass

from kovel.core.checks.jump_strength import Grey
from kovel.core.checks.offers import Offer
from kovel.core.checks.poses import CONTEXT, REACH, Pose, Room, closest, room_in
from kovel.core.errors import Invalid
from kovel.core.story.catalogue import run
from kovel.core.story.edit_rules import frames_in_words
from kovel.core.story.model import Piece, Report, Sources, Story
from kovel.core.story.seams import Seam, exposed
from kovel.core.time.rate import Rate, frame_shown
from kovel.core.time.timecode import stamp
from kovel.data_folder import DataFolder
from kovel.services.log.speech_levels import found_pauses
from kovel.services.story.story_checks import pictures
from kovel.store import recordings

TOLD = 8  # jumps of which it is told
AFTER, BEFORE = 0.12, 0.08  # seconds of air behind what was said and before what follows


@dataclass(frozen=True, slots=True)
class At:
    """The closest pose at a seam: the piece after it, story frame, and what there is to gain."""

    piece: int
    frame: int
    pose: Pose


def _pause(data_folder: DataFolder, source: int, edge: int, clock: Rate) -> tuple[int, int] | None:
    """The pause around a frame of a recording, in whole frames that lie inside it."""
    at = clock.frame_to_sample(edge)
    found_pause = next((pause for pause in found_pauses(data_folder, source) if pause.start <= at <= pause.end), None)
    if found_pause is None:
        return None
    start, end = clock.sample_to_frame(found_pause.start), clock.sample_to_frame(found_pause.end)
    return start + (clock.frame_to_sample(start) < found_pause.start), end


def _pose(data_folder: DataFolder, sources: Sources, seam: Seam, clock: Rate) -> Pose | None:
    left_piece, right = seam.left, seam.right
    if (
        left_piece.source is None
        or right.source is None
        or left_piece.source not in sources
        or right.source not in sources
    ):
        return None
    if not (left_piece.clock.as_shot and right.clock.as_shot):
        return None  # their edges stand on clocks of their own
    after, before = (round(room_side * float(clock.fps)) for room_side in (AFTER, BEFORE))
    room_left = room_in(
        _pause(data_folder, left_piece.source, left_piece.end, clock),
        left_piece.end,
        after,
        before,
        max(-REACH, 1 - left_piece.length),
    )
    into = room_in(
        _pause(data_folder, right.source, right.start, clock),
        right.start,
        after,
        before,
        high=min(REACH, right.length - 1),
    )
    room_left = Room(
        room_left.low,
        min(room_left.high, (sources[left_piece.source].length(clock) or left_piece.end) - left_piece.end),
    )
    into = Room(max(into.low, -right.start), into.high)
    if room_left == into == Room(0, 0):
        return None
    greys = _greys(
        data_folder,
        sources,
        left_piece,
        left_piece.end + room_left.low - CONTEXT - 1,
        left_piece.end + room_left.high,
        clock,
    )
    y = _greys(data_folder, sources, right, right.start + into.low, right.start + into.high + CONTEXT + 1, clock)
    return closest(greys, room_left, y, into) if greys is not None and y is not None else None


def _greys(data_folder: DataFolder, sources: Sources, piece: Piece, start: int, end: int, clock: Rate) -> Grey | None:
    """The small grey pictures of frames [a, b) of a piece's recording, on the project's clock; the first one stands
    for those before."""
    every = pictures(data_folder, piece.source or 0)
    if every is None or not len(every):
        return None
    own_rate = sources[piece.source or 0].rate
    shown: Grey = every[
        [min(max(0, frame_shown(max(0, frame), clock, own_rate)), len(every) - 1) for frame in range(start, end)]
    ]
    return shown


def pose_at(data_folder: DataFolder, project: int, story: Story, seam: Seam) -> At | None:
    pose_found = _pose(data_folder, recordings.sources(data_folder.db, project), seam, story.rate)
    return At(seam.right.id, seam.at, pose_found) if pose_found else None


def poses(data_folder: DataFolder, project: int, story: Story) -> list[At]:
    """What can be gained at every exposed jump. A piece between two jumps is moved at both of its ends."""
    return [
        at
        for seam in exposed(story, recordings.sources(data_folder.db, project))
        if (at := pose_at(data_folder, project, story, seam))
    ]


def offered(data_folder: DataFolder, project: int, story: Story, seam: Seam) -> list[Offer]:
    """The closest pose as a way to take some of the jolt out of a jump."""
    at = pose_at(data_folder, project, story, seam)
    if at is None:
        return []
    how = ", ".join(
        f"{what} {frames_in_words(abs(d))} {'later' if d > 0 else 'earlier'}"
        for what, d in (("out", at.pose.out), ("in", at.pose.into))
        if d
    )
    why = f"strength {at.pose.before} to {at.pose.after}: {how}"
    return [Offer("pose", "The closest pose", why, "set_poses", {"poses": [[at.piece, at.pose.out, at.pose.into]]})]


def all_poses(data_folder: DataFolder, project: int, story: Story) -> tuple[tuple[str, dict[str, object]], Report]:
    """One edit that moves every exposed jump to its closest pose; and what there is to judge of it."""
    poses_found = poses(data_folder, project, story)
    if not poses_found:
        raise Invalid("At no exposed jump is there a closer pose within the pauses beside it.")
    asked_edit: dict[str, object] = {"poses": [[at.piece, at.pose.out, at.pose.into] for at in poses_found]}
    _, report = run(story, recordings.sources(data_folder.db, project), "set_poses", asked_edit)
    gains = [
        f"Strength {at.pose.before} to {at.pose.after} at {stamp(at.frame, story.rate)}" for at in poses_found[:TOLD]
    ]
    return ("set_poses", asked_edit), report.with_notes(gains)
