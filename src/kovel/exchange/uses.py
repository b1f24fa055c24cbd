"""Uses of recordings by a timeline made elsewhere, and the story that is built of them.

track V1   [ A ... ][ B ... ]           pieces of the dialogue line: their sound with them where it is there, in step
track V2       [ boat ]          ->     covers, a lane a track
track A1   [ A ... ][ B ... ]           else sounds on the story's clock

What cannot be taken is listed, line by line; nothing is guessed.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

from kovel.core.story.clocks import clock_in
from kovel.core.story.model import Card, Cover, Piece, Section, Sound, Story, Tether, Transition
from kovel.core.story.settings import NONE, Values
from kovel.core.time.rate import Rate
from kovel.store.recordings import Recording

MOST = 50_000  # clips of one timeline


@dataclass
class Taken:
    """The story that was made of it, and what could not be taken, in words."""

    name: str
    story: Story
    left: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Use:
    """A recording used at story frames [at, end): from `start` on its clock (story frames), so much faster."""

    at: int
    end: int
    source: int | None
    start: int = 0
    speed: Fraction = Fraction(1)
    card: Card | None = None
    settings: Values = NONE
    blend: int = 0  # frames of a dissolve into it
    unseen: bool = False  # heard over black

    def in_step(self, other: Use) -> bool:
        """Whether two uses show and play the same moment of the same recording."""
        return self.source == other.source and self.start - self.at == other.start - other.at


ABSENT = "is not among the recordings, or could be several of them"


def found(
    recordings: dict[int, Recording], names: Iterable[str], timecode: Fraction | None = None, reel: str = ""
) -> Recording | None:
    """The one recording of a file name, a name or (last) a reel; of several, the one whose timecode reaches over
    that moment (seconds). None where there is none, and where more than one is left: nothing is guessed."""
    wanted = {name.casefold() for name in names if name}
    stems = {Path(name).stem for name in wanted}
    ways = (
        [
            recording
            for recording in recordings.values()
            if {Path(recording.path).name.casefold(), recording.name.casefold()} & wanted
        ],
        [recording for recording in recordings.values() if Path(recording.path).stem.casefold() in stems],
        [
            recording
            for recording in recordings.values()
            if reel and reel_of(recording).startswith("".join(filter(str.isalnum, reel.upper())))
        ],
    )
    found_uses = next((way for way in ways if way), [])
    if len(found_uses) > 1 and timecode is not None:
        found_uses = [
            recording
            for recording in found_uses
            if 0
            <= timecode - recording.rate.frame_to_seconds(recording.first)
            < (recording.frames or 10**9) / recording.rate.fps
        ]
    return found_uses[0] if len(found_uses) == 1 else None


def reel_of(recording: Recording) -> str:
    """What edit lists call it, as `exchange.story` writes them: roll and camera, else its file."""
    return "".join(
        ch
        for ch in (recording.roll + recording.camera or Path(recording.path).stem).upper()
        if ch.isascii() and ch.isalnum()
    )


@dataclass
class _Builder:
    """A story on its way: what is built of it so far, and the sounds that no piece has taken yet, a row a track."""

    rate: Rate
    recordings: dict[int, Recording]
    spare: list[list[Use]]
    left: list[str]
    next_id: int = 1
    pieces: list[Piece] = field(default_factory=list)
    transitions: list[Transition] = field(default_factory=list)
    heard: dict[int, Use] = field(default_factory=dict)  # by piece: the sound that it took

    def number(self) -> int:
        """The number of the next thing in the story."""
        self.next_id += 1
        return self.next_id - 1

    def fit(self, use: Use) -> Use | None:
        """A use as far as its recording reaches."""
        return _within(use, self.rate, self.recordings, self.left)

    def dialogue(self, base: list[Use]) -> int:
        """Pieces of the lowest pictures, gaps between them; what overlaps is told. Returns where they end."""
        reached = 0
        for index, laid_use in enumerate(base):
            if laid_use.at < reached:
                self.left.append(f"A clip at frame {laid_use.at} overlaps the one before it on its track.")
                continue
            self.gap(laid_use.at - reached)
            reached = laid_use.at
            fit = self.fit(laid_use)
            if fit is not None:
                self.piece(fit, laid_use, base[index + 1] if index + 1 < len(base) else None)
                reached = fit.end
        return reached

    def gap(self, length: int) -> None:
        """A gap at the end, where it has a length."""
        if length > 0:
            self.pieces.append(Piece(self.number(), None, 0, length))

    def piece(self, fit: Use, use: Use, after: Use | None) -> None:
        """One piece, with the sound that lies in step with it; `after` is the use that comes next."""
        number = self.number()
        own_sound = self.take_sound(number, fit, use, after)
        take = "both"
        if fit.source and self.recordings[fit.source].source.sound:
            take = "sound" if use.unseen else "both" if own_sound else "picture"
        settings, start = _paced(fit)
        self.pieces.append(Piece(number, fit.source, start, fit.end - fit.at, fit.card, take, 0, settings))
        if fit.blend and len(self.pieces) > 1:
            piece_left = self.pieces[-2].id
            self.transitions.append(Transition(piece_left, number, blend="dissolve", length=fit.blend))

    def take_sound(self, number: int, fit: Use, use: Use, after: Use | None) -> bool:
        """Whether a spare sound lies in step with a piece; it is the piece's then, up to where the next one begins."""
        for track in self.spare:
            for sound in track:
                if not (sound.source and sound.in_step(fit) and sound.at < fit.end and sound.end > fit.at):
                    continue
                track.remove(sound)
                if after and after.at == use.end < sound.end and sound.in_step(after):  # it runs on in the next piece
                    track.append(replace(sound, at=use.end, start=sound.start + use.end - sound.at))
                    sound = replace(sound, end=use.end)
                self.heard[number] = sound
                return True
        return False

    def covers(self, story: Story, upper: list[list[Use]]) -> tuple[Cover, ...]:
        """Covers of the pictures above, a lane a track."""
        uses = ((lane, laid_use) for lane, track in enumerate(upper, 1) for laid_use in track)
        read_covers = (self.cover(story, lane, laid_use) for lane, laid_use in uses)
        return tuple(cover for cover in read_covers if cover)

    def cover(self, story: Story, lane: int, use: Use) -> Cover | None:
        """One cover; None for a card, a gap, and what begins after the story."""
        fit = self.fit(use)
        if fit is None or fit.card or fit.source is None or fit.at >= story.length:
            return None
        length, own_values = fit.end - fit.at, fit.settings
        if fit.speed != 1 and fit.source:
            used = max(1, round(length * abs(fit.speed)))
            if "speed" not in own_values:
                own_values = own_values.with_value("span", 0 if used == length else used)
            own_values = own_values.with_value("backwards", fit.speed < 0)
        if fit.blend and not own_values["appear"]:
            own_values = own_values.with_value("appear", fit.blend)
        return Cover(self.number(), fit.source, fit.start, length, story.tether_at(fit.at), lane, settings=own_values)

    def sounds(self) -> tuple[Sound, ...]:
        """What no piece took, on the story's clock, a lane a track."""
        uses = ((lane, laid_use) for lane, track in enumerate(self.spare, 1) for laid_use in track)
        read_sounds = (self.sound(lane, laid_use) for lane, laid_use in uses)
        return tuple(sound for sound in read_sounds if sound)

    def sound(self, lane: int, use: Use) -> Sound | None:
        """One sound; None where there is nothing to hear."""
        fit = self.fit(use)
        if fit is None or not fit.source or not self.recordings[fit.source].sound:
            return None
        kind = {"music": "music", "voice": "voice"}.get(self.recordings[fit.source].kind, "effect")
        return Sound(self.number(), fit.source, fit.start, fit.end - fit.at, Tether(0, fit.at), lane, kind)


def built(
    frame_rate: Rate,
    base: list[Use],
    upper: list[list[Use]],
    sounds: list[list[Use]],
    recordings: dict[int, Recording],
    left_out: list[str],
) -> Story:
    """A story of uses: the lowest pictures are its pieces, those above covers, what is heard apart sounds on its
    clock. What cannot be taken is added to `left_out`, in words."""
    over_black = [laid_use for laid_use in base if laid_use.source == 0]  # titles on the lowest track
    if over_black:
        upper = [[*(upper[0] if upper else []), *over_black], *upper[1:]]
    builder = _Builder(frame_rate, recordings, [list(track) for track in sounds], left_out)
    reached = builder.dialogue([laid_use for laid_use in base if laid_use.source != 0])
    builder.gap(max((laid_use.end for track in (*upper, *builder.spare) for laid_use in track), default=0) - reached)
    story = Story(frame_rate, tuple(builder.pieces), next_id=builder.next_id)
    transitions = _split(story, builder.heard, builder.transitions)
    covers, laid = builder.covers(story, upper), builder.sounds()
    return replace(
        story,
        covers=covers,
        sounds=laid,
        transitions=tuple(transition for transition in transitions if not transition.plain),
        next_id=builder.next_id,
    )


def _paced(use: Use) -> tuple[Values, int]:
    """The settings of a piece that runs at the speed of a use, and where it begins on its clock."""
    own_values = use.settings
    for n in ("span", "speed", "steps", "backwards", "held"):
        own_values = own_values.without(n)
    if not use.source or use.speed == 1:
        return own_values, use.start
    if not use.speed:
        return own_values.with_value("held", use.start), use.start
    percent = round(min(1000.0, max(10.0, 100 * float(abs(use.speed)))), 3)
    own_values = own_values.with_value("speed", ((use.start, percent),) if percent != 100 else ()).with_value(
        "backwards", use.speed < 0
    )
    clock = clock_in(own_values)
    first = use.start + max(0, (use.end - use.at) - 1) * abs(use.speed) if use.speed < 0 else use.start
    return own_values, round(clock.at(first))


def _split(story: Story, heard: dict[int, Use], transitions: list[Transition]) -> list[Transition]:
    """Where the sound of two pieces changes before or after their picture does: split edits."""
    blends_by_pieces = {(transition.left, transition.right): transition for transition in transitions}
    for first_piece, second_piece in pairwise(story.pieces):
        first_use, second_use = heard.get(first_piece.id), heard.get(second_piece.id)
        at = story.starts[story.index_of(second_piece.id)]
        if first_use and second_use:
            split = second_use.at - at if first_use.end == second_use.at else 0
        elif second_use:
            split = second_use.at - at if first_piece.source is None else 0
        else:
            split = first_use.end - at if first_use and second_piece.source is None else 0
        if split and -first_piece.length < split < second_piece.length:
            transition = blends_by_pieces.get(
                (first_piece.id, second_piece.id), Transition(first_piece.id, second_piece.id)
            )
            blends_by_pieces[first_piece.id, second_piece.id] = replace(transition, split=split)
    return list(blends_by_pieces.values())


def _within(use: Use, frame_rate: Rate, recordings: dict[int, Recording], left_out: list[str]) -> Use | None:
    """A use as far as its recording reaches; told where that is less, None where it is nothing."""
    if not use.source:
        return use
    total = recordings[use.source].source.length(frame_rate)
    if total is None:
        return replace(use, start=0)
    used = max(1, round((use.end - use.at) * abs(use.speed)))
    start, end = max(0, use.start), min(total, use.start + used)
    if start >= end:
        left_out.append(f"{recordings[use.source].name} at frame {use.at} lies outside of its recording.")
        return None
    if (start, end) == (use.start, use.start + used):
        return use
    left_out.append(
        f"{recordings[use.source].name} at frame {use.at} reaches beyond its recording; "
        f"{used - (end - start)} frames of it are left out."
    )
    at = use.at + (round((start - use.start) / abs(use.speed)) if use.speed else 0)
    length = round((end - start) / abs(use.speed)) if use.speed else use.end - at
    return replace(use, start=start, at=at, end=max(at + 1, at + length))


def headed(story: Story, marks: list[tuple[str, int]]) -> Story:
    """Headings at the pieces that stand at these frames."""
    headings, n = {}, story.next_id
    for name, at in marks:
        if name and 0 <= at < story.length:
            piece = story.pieces[story.index_at(at)]
            headings[piece.id] = Section(n, piece.id, name[:80])
            n += 1
    return replace(story, sections=tuple(headings.values()), next_id=n)
