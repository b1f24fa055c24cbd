"""What is not an edit of the story but is looked for by name: where in the other rooms it is done."""

from __future__ import annotations

from dataclasses import dataclass

from kovel.core.story.command_search import Named


@dataclass(frozen=True, slots=True)
class Place:
    """A name, other words for it, and the room it is done in, by its path within the project."""

    label: str
    room: str
    also: tuple[str, ...] = ()

    @property
    def named(self) -> Named:
        """Its name and the words it is found by."""
        return Named(self.label, also=self.also)


PLACES = (
    Place("Music quieter under speech (Sound)", "sound", ("duck", "ducking", "music under")),
    Place("Clean a recording: noise, hum, rumble (Sound)", "sound", ("noise", "denoise", "hiss", "hum", "rumble")),
    Place("Match the loudness of voices (Sound)", "sound", ("normalise", "level voices", "loudness")),
    Place("Fit music to a length (Sound)", "sound", ("shorten music", "music length")),
    Place("Frame and crop by hand (Picture)", "picture", ("crop", "reframe", "zoom", "upright", "vertical")),
    Place("Grade: one camera matched to another (Picture)", "picture", ("grade", "colour", "color", "lut", "look")),
    Place(
        "Take out pauses, fillers and false starts (Tighten)",
        "tighten",
        ("silence", "filler", "um", "jump cuts", "pauses"),
    ),
    Place("Render the film (Hand-off)", "handoff", ("export", "render", "deliver", "output", "save")),
    Place("Captions (Hand-off)", "handoff", ("subtitles", "captions")),
    Place("Import recordings (Footage)", "footage", ("import", "bring in", "upload", "add footage")),
)
