"""How far a recording is prepared, for the rooms that can work with what is there already."""

from dataclasses import dataclass

from fastapi import Request

from kovel.core.time.rate import SAMPLE_RATE
from kovel.data_folder import media_facts
from kovel.store import jobs, projects
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.web.pages import clock, web


@dataclass(frozen=True, slots=True)
class Making:
    """How far the making of a recording is, as parts/making.html draws it."""

    project: Project
    r: Recording
    job: jobs.Job | None  # that is open
    samples: int  # of its sound that are there
    said: str


def making_of(request: Request, recording: Recording) -> Making:
    data_folder = web(request).data
    job = jobs.latest_of_recordings(data_folder.db, recording.project).get(recording.id)
    facts = media_facts(data_folder, recording.id) or {}
    samples = facts.get("samples", 0)
    said_progress = "All of it can be worked on; pictures are made where you look first, then from the front."
    if recording.sound and not facts.get("sounded"):
        said_progress = f"Sound so far: {clock(samples // SAMPLE_RATE)}."
    open_ = job if job and job.is_open else None
    return Making(projects.get(data_folder.db, recording.project), recording, open_, samples, said_progress)
