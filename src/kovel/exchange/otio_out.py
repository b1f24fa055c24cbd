"""Stories out as OpenTimelineIO: a track for the dialogue's picture, one for each cover lane, the rest sound.

    V  Dialogue      [ A ][ B ]~[ card ]        ~ a dissolve
    V  Cover 1          [boat]
    A  Dialogue sound  [ A   ][B]               split edits moved its cuts
    A  Natural, Sound 1 ...                     as many tracks as overlap

Positions inside recordings are counted from the recording's own start timecode where it has one, read at the
recording's own rate, so that a conform by timecode finds the same frames. Lanes that are muted, or not on solo, are
left out, as in the plan.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import opentimelineio as otio

from kovel.core.plan.sounds import audible, sounds_on, with_its_sound
from kovel.core.story.model import TITLE, Cover, Piece, Sources, Story
from kovel.core.story.settings import NONE, Values
from kovel.exchange.otio_in import described
from kovel.exchange.sent_files import fingerprint
from kovel.store.projects import Project
from kovel.store.recordings import Recording

Recordings = dict[int, Recording]


def clip_of(
    recording: Recording, project: Project, start: int, length: int, label: str = "", settings: Values = NONE
) -> otio.schema.Clip:
    """Frames [start, start+length) of a recording as a clip that refers to its file. The file's own range is in its
    own frames, what is used of it in the story's. `settings` are those of this use; those of the recording stand
    beside them."""

    def span(a: float, n: int, fps: float) -> otio.opentime.TimeRange:
        return otio.opentime.TimeRange(otio.opentime.RationalTime(a, fps), otio.opentime.RationalTime(n, fps))

    first, own_rate, fps = recording.first, float(recording.rate.fps), float(project.rate.fps)
    whole = span(first, recording.frames, own_rate) if recording.frames is not None else span(0, length, fps)
    media = otio.schema.ExternalReference(Path(recording.path).as_uri(), whole)
    media.name = Path(recording.path).name
    metadata: dict[str, dict[str, Any]] = {"kovel": {"roll": recording.roll, "camera": recording.camera}}
    if settings:
        metadata["kovel"]["settings"] = settings.to_json()
    if recording.settings:
        metadata["kovel"]["recording"] = recording.settings.to_json()
    begin = project.rate.seconds_to_frame(recording.rate.frame_to_seconds(first))
    return otio.schema.Clip(label or recording.name, media, span(begin + start, length, fps), metadata=metadata)


class _Sounded(NamedTuple):
    """A sound that lies beside the dialogue at story frames [at, end): from `start` on its source's clock."""

    at: int
    end: int
    source: int
    start: int
    track: str


@dataclass(frozen=True)
class _Writer:
    """One story on its way out."""

    story: Story
    project: Project
    recordings: Recordings

    @property
    def sources(self) -> Sources:
        """What the story needs to know of its recordings."""
        return {key: recording.source for key, recording in self.recordings.items()}

    def time(self, frames: int) -> otio.opentime.RationalTime:
        """Story frames as a time of the standard."""
        return otio.opentime.RationalTime(frames, float(self.project.rate.fps))

    def gap(self, frames: int) -> otio.schema.Gap:
        """Nothing, for so many frames."""
        return otio.schema.Gap(source_range=otio.opentime.TimeRange(self.time(0), self.time(frames)))

    def clip(self, source: int, start: int, length: int, settings: Values = NONE) -> otio.schema.Clip:
        """Frames of a recording, by its number."""
        return clip_of(self.recordings[source], self.project, start, length, settings=settings)

    def dissolve(self, before: int, after: int) -> otio.schema.Transition:
        """A dissolve that begins so many frames before the cut and ends so many after it."""
        kind = otio.schema.TransitionTypes.SMPTE_Dissolve
        return otio.schema.Transition("Dissolve", kind, self.time(before), self.time(after))

    def dialogue_picture(self) -> otio.schema.Track:
        """The pieces' pictures; cards as generators, dissolves between them."""
        track = otio.schema.Track("Dialogue", kind=otio.schema.TrackKind.Video)
        for index, piece in enumerate(self.story.pieces):
            transition = self.story.transition(index)
            if index and transition.length and transition.blend == "dissolve":
                half = transition.length // 2
                track.append(self.dissolve(half, transition.length - half))
            recording = self.recordings.get(piece.source or 0)
            if recording is None or not recording.picture or piece.take == "sound":
                track.append(card_of(piece, self.gap(piece.length)))
            else:
                track.append(retimed(self.clip(recording.id, piece.used[0], piece.length, piece.settings), piece))
        return track

    def cover_lanes(self) -> Iterator[otio.schema.Track]:
        """A track for each lane of covers that is not muted."""
        for lane in sorted({cover.lane for cover in self.story.covers}):
            if f"cover {lane}" not in self.story.muted:
                yield self.cover_lane(lane)

    def cover_lane(self, lane: int) -> otio.schema.Track:
        """Covers and titles of one lane, with gaps between them."""
        story, sources = self.story, self.sources
        track = otio.schema.Track(f"Cover {lane}", kind=otio.schema.TrackKind.Video)
        known = {TITLE, *self.recordings}
        reached = 0
        for at, end, cover in sorted(story.spans, key=lambda span: span[0]):
            if cover.lane != lane or cover.source not in known:
                continue
            end = min(end, story.length)
            comes = int(cover.settings["appear"])
            where_one_ends = 0 < reached == at
            if comes and where_one_ends and story.value(cover, "through", sources) != "black":
                track.append(self.dissolve(0, comes))
            if at > reached:
                track.append(self.gap(at - reached))
            if cover.source == TITLE:
                track.append(title_of(cover, self.gap(end - at)))
            else:
                track.append(retimed(self.clip(cover.source, cover.start, end - at, cover.settings), cover))
            reached = end
        return track

    def dialogue_sound(self) -> otio.schema.Track:
        """What is heard of the pieces, cut where split edits have it."""
        story = self.story
        track = otio.schema.Track("Dialogue sound", kind=otio.schema.TrackKind.Audio)
        reached = 0
        for index, piece in enumerate(story.pieces):
            recording = self.recordings.get(piece.source or 0)
            if recording is None or not recording.sound or piece.take == "picture" or not audible(story, "dialogue"):
                continue
            begin, until = story.sound_span(index)
            if begin > reached:
                track.append(self.gap(begin - reached))
            if sounds_on(piece):
                first = piece.clock.used(piece.start + begin - story.starts[index], until - begin)[0]
                track.append(retimed(self.clip(recording.id, first, until - begin), piece))
            else:
                track.append(self.gap(until - begin))
            reached = until
        if story.length > reached:
            track.append(self.gap(story.length - reached))
        return track

    def laid_sounds(self) -> list[_Sounded]:
        """Natural sound of covers, and the sounds that are laid, in order; each with the name of its track."""
        story, sources = self.story, self.sources
        sounded_clips = [
            _Sounded(start, min(end, story.length), cover.source, cover.start, "Natural")
            for start, end, cover in story.spans
            if with_its_sound(story, cover, sources)
            and audible(story, "natural")
            and f"cover {cover.lane}" not in story.muted
        ]
        for sound in story.sounds:
            if audible(story, sound.kind):
                at = story.at(sound)
                end = min(at + sound.length, story.length)
                sounded_clips.append(_Sounded(at, end, sound.source, sound.start, f"Sound {sound.lane}"))
        return sorted(
            sounded_clip
            for sounded_clip in sounded_clips
            if sounded_clip.end > sounded_clip.at and sounded_clip.source in self.recordings
        )

    def sound_tracks(self) -> Iterator[otio.schema.Track]:
        """Tracks of the sounds beside the dialogue; where two of a name overlap, as many tracks as it takes."""
        sounded_clips = self.laid_sounds()
        for label in sorted({sounded_clip.track for sounded_clip in sounded_clips}):
            tracks: list[otio.schema.Track] = []
            reached: list[int] = []
            for sounded_clip in (sounded_clip for sounded_clip in sounded_clips if sounded_clip.track == label):
                free = next((number for number, end in enumerate(reached) if end <= sounded_clip.at), len(tracks))
                if free == len(tracks):
                    name = f"{label} {free + 1}" if free else label
                    tracks.append(otio.schema.Track(name, kind=otio.schema.TrackKind.Audio))
                    reached.append(0)
                if sounded_clip.at > reached[free]:
                    tracks[free].append(self.gap(sounded_clip.at - reached[free]))
                tracks[free].append(
                    self.clip(sounded_clip.source, sounded_clip.start, sounded_clip.end - sounded_clip.at)
                )
                reached[free] = sounded_clip.end
            yield from tracks

    def headings(self) -> Iterator[otio.schema.Marker]:
        """A marker for each heading, at the piece that it stands before."""
        for section in self.story.sections:
            at = self.time(self.story.starts[self.story.index_of(section.piece)])
            yield otio.schema.Marker(section.heading, otio.opentime.TimeRange(at, self.time(0)))


def to_otio(story: Story, name: str, project: Project, recordings: Recordings) -> otio.schema.Timeline:
    """A timeline with a track for the dialogue's picture, one for each cover lane, and one for its sound.

    Settings that the standard has no class for are named in the metadata under "kovel", as they are kept: of the
    story on the timeline, of each use and of its recording on the clip.
    """
    writer = _Writer(story, project, recordings)
    timeline = otio.schema.Timeline(f"{project.name} - {name}", global_start_time=writer.time(project.start_frame))
    timeline.tracks.append(writer.dialogue_picture())
    timeline.tracks.extend(writer.cover_lanes())
    timeline.tracks.append(writer.dialogue_sound())
    timeline.tracks.extend(writer.sound_tracks())
    timeline.tracks.markers.extend(writer.headings())
    ours = {"settings": {scope: values.to_json() for scope, values in story.settings}} if story.settings else {}
    if ours:
        timeline.metadata["kovel"] = ours
    timeline.metadata["kovel"] = {**ours, **described(story, recordings), "fingerprint": fingerprint(timeline)}
    return timeline


def title_of(cover: Cover, empty: otio.schema.Gap) -> otio.schema.Clip:
    """A title as a clip that a generator fills, with everything that is set on it."""
    made_reference = otio.schema.GeneratorReference("Title", "Title", parameters=cover.settings.to_json())
    return otio.schema.Clip(
        cover.title.replace("\n", " / "),
        made_reference,
        empty.source_range,
        metadata={"kovel": {"settings": cover.settings.to_json()}},
    )


def card_of(piece: Piece, empty: otio.schema.Gap) -> otio.core.Composable:
    """A card as a clip that a generator fills; anything else without a picture as a gap."""
    if piece.card is None:
        return empty
    made_reference = otio.schema.GeneratorReference(
        "Card", "SolidColor", parameters={"colour": piece.card.colour, "text": piece.card.text}
    )
    return otio.schema.Clip(piece.card.text or "Card", made_reference, empty.source_range)


def retimed(clip: otio.schema.Clip, x: Piece | Cover) -> otio.schema.Clip:
    """A clip with its speed, where it has one, as the standard's own effects say it: on average, where it changes."""
    if isinstance(x, Piece):
        clock = x.clock
        if clock.held is not None:
            clip.effects.append(otio.schema.FreezeFrame())
        elif not clock.as_shot:
            scalar = float(clock.passing(x.end) - clock.passing(x.start)) / x.length
            clip.effects.append(otio.schema.LinearTimeWarp(time_scalar=scalar))
    elif not x.as_shot:
        scalar = x.used / x.length * (-1 if x.settings["backwards"] else 1)
        clip.effects.append(otio.schema.LinearTimeWarp(time_scalar=scalar))
    return clip
