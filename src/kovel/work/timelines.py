"""Stories made elsewhere, brought in: a timeline or an edit list becomes a story of its own."""

from kovel.core.plan.plan import make_plan
from kovel.exchange.edl_in import from_edl
from kovel.exchange.otio_in import from_otio
from kovel.store import projects, recordings, stories
from kovel.store.projects import Invalid
from kovel.work.folder import Data

READERS = {"otio": from_otio, "edl": from_edl}


def bring_in(data: Data, project: int, kind: str, file: str, text: str) -> tuple[int, str, list[str]]:
    """The new story's number and name, and what could not be taken, line by line. `Refused`, and nothing is made, where it
    cannot be read."""
    if kind not in READERS:
        raise Invalid(f"{file} is neither a timeline (.otio) nor an edit list (.edl).")
    p = projects.get(data.db, project)
    rows = {r.id: r for r in recordings.of_project(data.db, project)}
    if len(text) > 50_000_000:
        raise Invalid(f"{file} is too large to be a timeline.")
    taken = READERS[kind](text, p, rows)
    if not taken.story.pieces:
        raise Invalid(f"Nothing of {file} could be taken: {' '.join(taken.left[:3]) or 'it is empty.'}")
    make_plan(taken.story, recordings.sources(data.db, project))  # it can be shown
    names = {s.name for s in stories.of_project(data.db, project)}
    base = taken.name.removeprefix(f"{p.name} - ")[:70]
    name = next(n for n in (base, *(f"{base} {k}" for k in range(2, 1000))) if n not in names)
    sid = stories.create_with(data.db, project, name, taken.story, f"Brought in from {file}", taken.left)
    return sid, name, taken.left
