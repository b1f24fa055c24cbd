"""Stories made elsewhere, brought in: a timeline or an edit list becomes a story of its own."""

from kovel.core.errors import Invalid, Told
from kovel.core.plan.plan import make_plan
from kovel.core.story.bounds import could_be_cut, held
from kovel.data_folder import DataFolder
from kovel.exchange.timelines import TIMELINES
from kovel.services.received_files import taken_apart, text_of
from kovel.store import projects, recordings, stories

LARGEST = 50_000_000  # bytes
# what odd values in a file can lead to, whatever was foreseen: it is refused, and nothing is made
UNFORESEEN = (ValueError, TypeError, KeyError, IndexError, AttributeError, ArithmeticError, RecursionError)


def bring_in(data_folder: DataFolder, project: int, kind: str, file: str, body: bytes) -> tuple[int, str, list[str]]:
    """The new story's number and name, and what could not be taken, line by line. `Refused`, and nothing is made,
    where it cannot be read."""
    format = TIMELINES.get(kind)
    if format is None:
        read = [known_format for name, known_format in TIMELINES.items() if name == known_format.ending]
        known = " and ".join(f"{known_format.label} (.{known_format.ending})" for known_format in read)
        raise Invalid(f"Kovel cannot read {file} as a timeline. It reads {known}: export one of these and import that.")
    this_project = projects.get(data_folder.db, project)
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    if len(body) > LARGEST:
        raise Invalid(f"{file} is too large to be a timeline.")
    timeline_told = taken_apart(data_folder, format.call, file, text_of(file, body))
    try:
        taken = format.read(timeline_told, this_project, recordings_by_id)
        if not taken.story.pieces:
            raise Invalid(f"Nothing of {file} could be taken: {' '.join(taken.left[:3]) or 'it is empty.'}")
        sources = recordings.sources(data_folder.db, project)
        held(taken.story)
        if not could_be_cut(taken.story, sources):
            raise Invalid(f"{file} holds ranges or numbers that no story can have. Nothing was taken from it.")
        make_plan(taken.story, sources)  # it can be shown
    except UNFORESEEN as error:
        if isinstance(error, Told):
            raise
        raise Invalid(
            f"{file} holds something that cannot be taken as a story ({type(error).__name__}). "
            "Nothing was taken from it."
        ) from None
    names = {kept.name for kept in stories.of_project(data_folder.db, project)}
    base = taken.name.removeprefix(f"{this_project.name} - ")[:70]
    name = next(
        name for name in (base, *(f"{base} {name_number}" for name_number in range(2, 1000))) if name not in names
    )
    story_id = stories.create_with(data_folder.db, project, name, taken.story, f"Brought in from {file}", taken.left)
    return story_id, name, taken.left
