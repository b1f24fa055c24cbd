"""What the Sound room shows beside the strip: what is set on what is chosen, and how its recording is cleaned."""

from dataclasses import dataclass
from typing import Any

from kovel.core.plan.sounds import made_of
from kovel.core.story.settings import CLEANING
from kovel.data_folder import DataFolder
from kovel.services.sound import derived_sounds
from kovel.store import jobs, recordings
from kovel.web.settings_panel import Field, Scope, fields


@dataclass(frozen=True, slots=True)
class Spread:
    """How often each level is heard, as lines of a small drawing 180 wide and 36 high."""

    before: str
    after: str


@dataclass(frozen=True, slots=True)
class Cleaned:
    """How a recording is cleaned for every use, and how far that is."""

    fields: list[Field]
    job: jobs.Job | None  # that makes it, or failed to
    hum: float | None  # Hz
    spread: Spread | None


@dataclass(frozen=True, slots=True)
class PanelView:
    """What is set on what is chosen on the strip."""

    chosen: str
    recording: int | None
    scopes: list[Scope]
    scope: str
    fields: list[Field]
    about: list[str]
    cleaned: Cleaned | None


def cleaned_of(data_folder: DataFolder, project: int, source: int | None) -> Cleaned | None:
    """How the recording is cleaned; None where there is none, or it has no sound."""
    recording = recordings.get(data_folder.db, source) if source is not None else None
    if recording is None or not recording.sound:
        return None
    own_values = recording.settings
    cleaning_fields = fields(CLEANING, own_values, lambda name: own_values[name], lambda name: "")
    name = made_of(recording.source)
    job = jobs.latest_of_recordings(data_folder.db, project, "clean").get(recording.id)
    is_of_this = job is not None and (job.is_open or job.has_failed) and job.params["name"] == name
    noise_found = derived_sounds.found_in(data_folder, recording.id) if name else None
    hum = next(iter(noise_found["hum"]), None) if noise_found else None
    return Cleaned(cleaning_fields, job if is_of_this else None, hum, _spread(noise_found))


def _spread(found: dict[str, Any] | None) -> Spread | None:
    if not found:
        return None
    most = max([*found["before"], *found["after"], 1])
    count = len(found["before"])

    def line(level_points: list[int]) -> str:
        return " ".join(
            f"{180 * index / (count - 1):.0f},{36 - 34 * (level_point / most) ** 0.5:.1f}"
            for index, level_point in enumerate(level_points)
        )

    return Spread(line(found["before"]), line(found["after"]))
