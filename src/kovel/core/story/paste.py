"""Copies of a stretch of story: plain values that can be put into the same story or another one."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, check_range, frames_in_words, refuse_locked
from kovel.core.story.line import cut_at, cut_out, placed
from kovel.core.story.model import Cover, Laid, Piece, Refused, Sound, Sources, Story, Tether
from kovel.core.story.patch import cover_from, cover_row, piece_from, piece_row, sound_from, sound_row
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock

Clip = dict[str, list[list[Any]]]


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
        "sounds": [*rows(story.sounds, sound_row), *_tied(story, start, end)],
    }


def _tied(story: Story, start: int, end: int) -> list[list[Any]]:
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
    if not pieces:
        raise Refused("There is nothing to paste. Copy a stretch first.")
    return pieces, covers, sounds


@edit(entry("Paste", "Ctrl V", also="duplicate", at="playhead", clip="copied"))
def paste(story: Story, sources: Sources, at: int, clip: Clip) -> Edit:
    """Insert a copied stretch at story frame `at`, with what lay on it; everything gets ids of its own."""
    refuse_locked(story, DIALOGUE)
    pieces, covers, sounds = _parts_of(clip)
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")
    uses = [(piece.source, *piece.used) for piece in pieces if piece.source is not None]
    laid: list[Laid] = [*covers, *sounds]
    for source, start, end in (*uses, *((clip.source, clip.start, clip.end) for clip in laid)):
        check_range(sources, story.rate, source, start, end - start)
    mid, piece_index, split = cut_at(story, at)
    first = mid.next_id
    ids = {piece.id: first + index for index, piece in enumerate(pieces)}
    new_story = placed(mid, piece_index, [replace(piece, group=0) for piece in pieces])
    next_id = new_story.next_id
    made_covers = [
        replace(cover, id=next_id + index, tether=Tether(ids[cover.tether.piece], cover.tether.moment))
        for index, cover in enumerate(covers)
        if cover.tether.piece in ids
    ]
    ids |= {cover.id: next_id + index for index, cover in enumerate(covers)}  # sounds may be tied to them
    next_id += len(covers)
    made_sounds = [
        replace(sound, id=next_id + index, group=0, tether=Tether(ids[sound.tether.piece], sound.tether.moment))
        for index, sound in enumerate(sounds)
        if sound.tether.piece in ids
    ]
    new_story = replace(
        new_story,
        covers=(*new_story.covers, *made_covers),
        sounds=(*new_story.sounds, *made_sounds),
        next_id=next_id + len(sounds),
    )
    total = sum(piece.length for piece in pieces)
    summary = f"Pasted {frames_in_words(total)} at {clock(at, story.rate)}"
    return settle(
        story,
        new_story,
        sources,
        summary,
        split=split,
        made=tuple(ids[piece.id] for piece in pieces),
        playhead=at + total,
    )
