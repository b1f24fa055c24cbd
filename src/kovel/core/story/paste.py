"""Copies of a stretch of story: plain values that can be put into the same story or another one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import Any, TypeVar

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, check_range, frames_in_words, refuse_locked
from kovel.core.story.line import cut_at, cut_out, placed
from kovel.core.story.model import Cover, Laid, Piece, Refused, Sound, Sources, Story, Tether
from kovel.core.story.patch import cover_from, cover_row, piece_from, piece_row, sound_from, sound_row
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock

Clip = dict[str, list[list[Any]]]
L = TypeVar("L", Cover, Sound)


def copied(story: Story, start: int, end: int) -> Clip:
    """The pieces of [a, b), and the covers and sounds that begin in it, as plain rows."""
    mid, pieces, _, split = cut_out(story, start, end)
    whole = replace(mid, pieces=pieces)
    now: dict[int, tuple[int, ...]] = split
    shots = {cover.id for cover in story.covers}

    def rows(laid: Any, row: Any) -> list[list[Any]]:
        pasted_rows = []
        for laid_clip in laid:
            for piece_id in now.get(laid_clip.tether.piece, (laid_clip.tether.piece,)):
                tether = Tether(piece_id, laid_clip.tether.moment)
                if piece_id and whole.at_of(tether) is not None and piece_id not in shots:
                    pasted_rows.append(row(replace(laid_clip, tether=tether)))
                    break
        return pasted_rows

    return {
        "pieces": [piece_row(piece) for piece in pieces],
        "covers": rows(story.covers, cover_row),
        "sounds": [*rows(story.sounds, sound_row), *_on_shots(story, start, end)],
    }


def copied_clips(story: Story, items: Iterable[int]) -> Clip:
    """These clips as plain rows: pieces with what begins over them, and covers and sounds that were chosen by
    themselves, which are tied to the place of the first clip instead of a piece (0)."""
    chosen = {item: story.item(item) for item in dict.fromkeys(items)}
    begins = {piece.id: at for piece, at in zip(story.pieces, story.starts, strict=False) if piece.id in chosen}
    laid: list[Laid] = [*story.covers, *story.sounds]
    begins |= {clip.id: story.at(clip) for clip in laid if clip.id in chosen}
    if not begins:
        raise Refused("There is nothing to copy. Select clips of the story first.")
    first = min(begins.values())
    pieces = [piece for piece in story.pieces if piece.id in chosen]
    hosts = {piece.id for piece in pieces}

    def free(clips: Iterable[L]) -> Iterator[L]:
        for clip in clips:
            if clip.tether.piece in hosts:
                yield clip
            elif clip.id in chosen:
                yield replace(clip, tether=Tether(0, story.at(clip) - first))

    covers = list(free(story.covers))
    hosts |= {cover.id for cover in covers}  # a sound may be tied to a shot
    return {
        "pieces": [piece_row(piece) for piece in pieces],
        "covers": [cover_row(cover) for cover in covers],
        "sounds": [sound_row(sound) for sound in free(story.sounds)],
    }


def _on_shots(story: Story, start: int, end: int) -> list[list[Any]]:
    """Sounds tied to covers that begin in [a, b)."""
    shots = {cover.id for cover in story.covers if start <= story.at(cover) < end}
    return [sound_row(sound) for sound in story.sounds if sound.tether.piece in shots]


def _parts_of(clip: Clip) -> tuple[list[Piece], list[Cover], list[Sound]]:
    """What a copied stretch holds. Raises `Refused` where it is none, or empty."""
    try:
        pieces = [piece_from(this_piece_row) for this_piece_row in clip["pieces"]]
        covers = [cover_from(this_cover_row) for this_cover_row in clip.get("covers", [])]
        sounds = [sound_from(this_sound_row) for this_sound_row in clip.get("sounds", [])]
    except (KeyError, TypeError, IndexError, ValueError):
        raise Refused("That is no stretch of a story. Copy one first.") from None
    if not (pieces or covers or sounds):
        raise Refused("There is nothing to paste. Copy clips first.")
    laid: list[Laid] = [*covers, *sounds]
    numbers = [number for clip in (*pieces, *laid) for number in (clip.id, clip.start, clip.length, clip.group)]
    numbers += [number for clip in laid for number in (clip.tether.piece, clip.tether.moment, clip.lane)]
    if not all(type(number) is int for number in numbers):
        raise Refused("That is no stretch of a story. Copy one first.")
    return pieces, covers, sounds


def _check_ranges(story: Story, sources: Sources, pieces: list[Piece], laid: list[Laid]) -> None:
    """Refuses what leaves its recording."""
    uses = [(piece.source, *piece.used) for piece in pieces if piece.source is not None]
    for source, start, end in (*uses, *((clip.source, clip.start, clip.end) for clip in laid)):
        check_range(sources, story.rate, source, start, end - start)


def _tied(story: Story, at: int, ids: dict[int, int], laid_clip: Laid) -> Tether | None:
    """What a copied cover or sound is tied to once it is laid: the copy of its piece or shot; what was copied by
    itself, the word at its distance from `at`, music the story's clock. None where its piece was not copied."""
    if laid_clip.tether.piece:
        host = ids.get(laid_clip.tether.piece)
        return None if host is None else Tether(host, laid_clip.tether.moment)
    place = at + laid_clip.tether.moment
    if not 0 <= place < story.length:
        raise Refused("One of the clips would begin after the end of the story. Move the playhead back, then paste.")
    on_clock = isinstance(laid_clip, Sound) and laid_clip.kind == "music"
    return Tether(0, place) if on_clock else story.tether_at(place)


def _laid_again(story: Story, at: int, ids: dict[int, int], clips: list[L]) -> list[L]:
    """Copies of covers or sounds under ids from the story's next one on."""
    ties = [_tied(story, at, ids, clip) for clip in clips]
    return [
        replace(clip, id=story.next_id + index, group=0, tether=tie)
        for index, (clip, tie) in enumerate(zip(clips, ties, strict=True))
        if tie is not None
    ]


@edit(entry("Paste", "Ctrl V", also="duplicate", at="playhead", clip="copied"))
def paste(story: Story, sources: Sources, at: int, clip: Clip) -> Edit:
    """Insert copied pieces at story frame `at`, with what lay on them, and lay copied covers and sounds from there
    on; everything gets ids of its own."""
    pieces, covers, sounds = _parts_of(clip)
    if pieces:
        refuse_locked(story, DIALOGUE)
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")
    _check_ranges(story, sources, pieces, [*covers, *sounds])
    mid, piece_index, split = cut_at(story, at) if pieces else (story, 0, {})
    first = mid.next_id
    ids = {piece.id: first + index for index, piece in enumerate(pieces)}
    new_story = placed(mid, piece_index, [replace(piece, group=0) for piece in pieces])
    made_covers = _laid_again(new_story, at, ids, covers)
    ids |= {cover.id: new_story.next_id + index for index, cover in enumerate(covers)}  # sounds may be tied to them
    new_story = replace(new_story, next_id=new_story.next_id + len(covers))
    made_sounds = _laid_again(new_story, at, ids, sounds)
    new_story = replace(
        new_story,
        covers=(*new_story.covers, *made_covers),
        sounds=(*new_story.sounds, *made_sounds),
        next_id=new_story.next_id + len(sounds),
    )
    total = sum(piece.length for piece in pieces)
    laid_ids = (*(cover.id for cover in made_covers), *(sound.id for sound in made_sounds))
    what = frames_in_words(total) if pieces else f"{len(laid_ids)} clip{'s' if len(laid_ids) > 1 else ''}"
    summary = f"Pasted {what} at {clock(at, story.rate)}"
    return settle(
        story,
        new_story,
        sources,
        summary,
        split=split,
        made=tuple(ids[piece.id] for piece in pieces) or laid_ids,
        playhead=at + total,
    )
