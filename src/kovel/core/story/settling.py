"""What every edit ends in: tethers follow their words, transitions are fitted to their handles, consequences are
told."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from operator import itemgetter
from typing import TypeVar

from kovel.core.story.edit_rules import Edit, capitalised, frames_in_words, lane_key, name_of
from kovel.core.story.fitted_transitions import fit_transitions
from kovel.core.story.marker_places import followed_markers
from kovel.core.story.model import TITLE, Cover, Laid, Report, Section, Sound, Sources, Story
from kovel.core.story.seams import Seam, exposed
from kovel.core.story.tethers import Kept, followed, kept_on_locked
from kovel.core.time.timecode import stamp as clock

L = TypeVar("L", Cover, Sound)
Split = Mapping[int, tuple[int, ...]]  # the pieces that a piece of before became


@dataclass(frozen=True, slots=True)
class _Followed:
    """Covers and sounds after the edit, in place and loose; and by their ids what became of them."""

    covers: list[Cover]
    loose: list[Cover]
    sounds: list[Sound]
    loose_sounds: list[Sound]
    loosened: tuple[int, ...]
    returned: tuple[int, ...]
    lost: dict[int, int]  # frames that their words lost
    held: tuple[int, ...]  # on locked lanes: they kept their length
    lifted: tuple[tuple[int, int, str], ...]  # (id, the lane it moved to, covers or sounds)

    @property
    def every(self) -> list[Laid]:
        """All of them, in place and loose."""
        return _all(self.covers, self.loose, self.sounds, self.loose_sounds)


def settle(
    old_story: Story,
    new_story: Story,
    sources: Sources,
    did: str,
    *,
    split: Split | None = None,
    made: tuple[int, ...] = (),
    playhead: int | None = None,
    keep_covers: bool = False,
) -> Edit:
    """The finished story from a draft `new_story`, and the report.

    `split` says which pieces an old piece became. A cover or sound loses what its words lost (core/tethers.py); one
    that lost all waits in its tray; a loose one whose word is back goes in place again. Two that now meet on one
    lane: the later start moves up to a free lane. A transition whose neighbours parted is dropped, one whose handles
    shrank is shortened.
    """
    split = split or {}
    laid = _follow_words(old_story, new_story, sources, split, keep_covers)
    headings = len(new_story.sections)
    new_story = replace(
        new_story,
        covers=tuple(laid.covers),
        loose=tuple(laid.loose),
        sounds=tuple(laid.sounds),
        loose_sounds=tuple(laid.loose_sounds),
        sections=_sections(old_story, new_story, split) if new_story.sections else (),
        markers=followed_markers(new_story, split) if new_story.markers else (),
    )
    still, about_transitions, shortened = (
        fit_transitions(new_story, sources, split) if new_story.transitions else ((), [], [])
    )
    new_story = replace(new_story, transitions=still)
    jumps = exposed_now(old_story, new_story, sources)
    notes = [*_about_laid(old_story, laid, sources), *about_transitions]
    if len(new_story.sections) < headings:
        notes.append("A heading went with the last of its pieces.")
    notes += about_jumps(jumps, new_story)
    if new_story.length < old_story.length:
        notes += _about_the_end(old_story, new_story, laid, sources)
    at = tuple(jump.at for jump in jumps)
    return new_story, Report(
        capitalised(did), tuple(notes), made, laid.loosened, laid.returned, at, tuple(shortened), playhead
    )


def _follow_words(old_story: Story, new_story: Story, sources: Sources, split: Split, keep_covers: bool) -> _Followed:
    """Covers and sounds with their words, each lane without overlaps."""
    kept = Kept(old_story, new_story, split)
    old_pieces = {piece.id for piece in old_story.pieces}
    covers, loose, shorter = followed(
        kept, (*new_story.covers, *new_story.loose), () if keep_covers else old_story.covers, sources
    )
    covers, loose, held = kept_on_locked(
        kept, covers, loose, old_story.covers, lambda c: lane_key(c.lane) in old_story.locked
    )
    with_shots = replace(new_story, covers=tuple(covers), loose=tuple(loose))
    if _on_covers(new_story):
        kept = Kept(old_story, with_shots, split)
    sounds, loose_sounds, shorter_sounds = followed(
        kept, (*new_story.sounds, *new_story.loose_sounds), old_story.sounds, sources
    )
    sounds, loose_sounds, held_sounds = kept_on_locked(
        kept,
        sounds,
        loose_sounds,
        old_story.sounds,
        lambda x: "sounds" in old_story.locked and x.tether.piece in old_pieces,
    )
    were_loose = {clip.id for clip in _all(old_story.loose, old_story.loose_sounds)}
    length = {clip.id: clip.length for clip in _all(old_story.covers, old_story.sounds)}
    cut, kept_long = {*shorter, *shorter_sounds}, (*held, *held_sounds)
    lost = {
        clip.id: length[clip.id] - clip.length
        for clip in _all(covers, sounds)
        if clip.id in cut and clip.id not in kept_long
    }
    loosened = tuple(clip.id for clip in _all(loose, loose_sounds) if clip.id in length)
    returned = tuple(clip.id for clip in _all(covers, sounds) if clip.id in were_loose)
    covers, lifted_covers = _separate(new_story, covers)
    sounds, lifted_sounds = _separate(with_shots, sounds)
    lifted = (
        *((*lifted_cover, "covers") for lifted_cover in lifted_covers),
        *((*lifted_sound, "sounds") for lifted_sound in lifted_sounds),
    )
    return _Followed(covers, loose, sounds, loose_sounds, loosened, returned, lost, kept_long, lifted)


def _names(laid: _Followed, sources: Sources) -> dict[int, str]:
    """What covers and sounds are called at the beginning of a sentence."""
    return {
        clip.id: capitalised(name_of(sources, clip))
        for clip in laid.every
        if clip.source in sources or clip.source == TITLE
    }


def _about_laid(old_story: Story, laid: _Followed, sources: Sources) -> Iterator[str]:
    """What became of covers and sounds, a sentence each."""
    if not (laid.loosened or laid.returned or laid.lost or laid.lifted or laid.held):
        return
    names = _names(laid, sources)
    shots = {cover.id for cover in (*old_story.covers, *old_story.loose)}
    tied = {clip.id: "shot" if clip.tether.piece in shots else "word" for clip in laid.every}

    def name(laid_id: int) -> str:
        return names.get(laid_id, "A cover")

    for one in laid.loosened:
        yield f"{name(one)} came loose: its {tied[one]} left the story. It waits in the tray."
    for one in laid.returned:
        yield f"{name(one)} is back over its {tied[one]}."
    for one, frames in laid.lost.items():
        yield f"{name(one)} is {frames_in_words(frames)} shorter: the words it lay over left the story."
    for one, lane, what in laid.lifted:
        yield f"{name(one)} moved to lane {lane}, so that both {what} keep their words."
    for one in laid.held:
        yield f"{name(one)} keeps its length, for its lane is locked: it lies over other words now."


def exposed_now(old_story: Story, new_story: Story, sources: Sources) -> list[Seam]:
    """Jump cuts that are seen now and were not before."""
    before = {jump.key for jump in exposed(old_story, sources)}
    return [jump for jump in exposed(new_story, sources) if jump.key not in before]


def about_jumps(jumps: Sequence[Seam], new_story: Story) -> Iterator[str]:
    """Where these jump cuts are, as one sentence; nothing where there are none."""
    if jumps:
        where = ", ".join([*(clock(jump.at, new_story.rate) for jump in jumps[:3]), *(["…"] if len(jumps) > 3 else [])])
        yield f"{'A jump cut is' if len(jumps) == 1 else f'{len(jumps)} jump cuts are'} exposed now (at {where})."


def _about_the_end(old_story: Story, new_story: Story, laid: _Followed, sources: Sources) -> Iterator[str]:
    """What a shorter story no longer reaches: music that runs past its end, and what stands on its clock behind it."""
    names = _names(laid, sources)
    ran_past = {sound.id for sound in old_story.sounds if old_story.at(sound) + sound.length > old_story.length}
    for sound in new_story.sounds:
        at = new_story.at(sound)
        if sound.kind == "music" and at < new_story.length < at + sound.length and sound.id not in ran_past:
            yield f"{names.get(sound.id, 'Music')} now runs past the end of the talk; it is cut off there."
    placed = {clip.id: clip.tether for clip in _all(old_story.covers, old_story.sounds)}
    for one in _all(new_story.covers, new_story.sounds):
        was = placed.get(one.id)
        behind = one.tether.piece == 0 and one.tether.moment >= new_story.length
        if behind and was is not None and was.piece == 0 and was.moment < old_story.length:
            yield f"{names.get(one.id, 'A cover')} stays where it is on the story's clock: behind the end now."


def _on_covers(story: Story) -> bool:
    """Whether a sound is tied to a cover."""
    pieces = {0, *(piece.id for piece in story.pieces)}
    return any(sound.tether.piece not in pieces for sound in (*story.sounds, *story.loose_sounds))


def _all(*clips: Iterable[Laid]) -> list[Laid]:
    return [clip for clip_row in clips for clip in clip_row]


def _separate(story: Story, laid: Sequence[L]) -> tuple[list[L], list[tuple[int, int]]]:
    """Sorted by place, no two overlapping on a lane; the later start yields upwards."""
    shifts = story.shifts
    laid_in_order = sorted(
        [
            (shifts[laid_clip.tether.piece] + laid_clip.tether.moment, laid_clip.lane, laid_clip.id, laid_clip)
            for laid_clip in laid
        ],
        key=itemgetter(0, 1, 2),
    )
    ends: dict[int, tuple[int, L]] = {}
    separate_items: list[L] = []
    lifted = []
    for at, lane, _, laid_clip in laid_in_order:
        while lane in ends and ends[lane][0] - _shared(ends[lane][1], laid_clip) > at:
            lane += 1
        if lane != laid_clip.lane:
            lifted.append((laid_clip.id, lane))
            laid_clip = replace(laid_clip, lane=lane)
        if lane not in ends or ends[lane][0] < at + laid_clip.length:
            ends[lane] = (at + laid_clip.length, laid_clip)
        separate_items.append(laid_clip)
    return separate_items, lifted


def _shared(first_laid: Laid, second_laid: Laid) -> int:
    """Frames that two neighbours on a lane may share: parts of one recording that are joined by a crossfade."""
    if (
        isinstance(first_laid, Sound)
        and isinstance(second_laid, Sound)
        and first_laid.group
        and (first_laid.group, first_laid.source) == (second_laid.group, second_laid.source)
    ):
        return int(min(first_laid.settings["fade_out"], second_laid.settings["fade_in"]))
    return 0


def _sections(old_story: Story, new_story: Story, split: Mapping[int, tuple[int, ...]]) -> tuple[Section, ...]:
    """Headings stay with their piece; if it left, they go to the next one of theirs that is still there."""
    order = {piece.id: index for index, piece in enumerate(new_story.pieces)}
    mine = {section.piece for section in new_story.sections}
    kept_sections = []
    for section in new_story.sections:
        at = section.piece
        if at not in order:
            piece_index = next(
                (index for index, piece in enumerate(old_story.pieces) if piece.id == at), len(old_story.pieces)
            )
            at = 0
            for piece in old_story.pieces[piece_index:]:
                if piece.id != section.piece and piece.id in mine:
                    break
                at = next((split_id for split_id in split.get(piece.id, (piece.id,)) if split_id in order), 0)
                if at:
                    break
        if at:
            kept_sections.append(section if at == section.piece else replace(section, piece=at))
    return tuple(sorted({section.piece: section for section in kept_sections}.values(), key=lambda s: order[s.piece]))
