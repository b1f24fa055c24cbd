"""The log as a sheet: each subclip with what is said in it, by whom, and how often the story uses it."""

from kovel.core.sound.pauses import VOICE
from kovel.core.story.usage import by_source, times_used, uses
from kovel.exchange.log import Line
from kovel.store import projects, recordings, stories, subclips
from kovel.work.folder import Data


def log_lines(data: Data, project: int) -> list[Line]:
    """Every subclip of a project, in the order of its recordings."""
    rate = projects.get(data.db, project).rate
    rows = {r.id: r for r in recordings.of_project(data.db, project)}
    found = by_source(uses(stories.load(data.db, stories.current(data.db, project)).story))
    heard = recordings.words_in_subclips(data.db, project, rate)
    out = []
    for c in subclips.of_project(data.db, project):
        a, b = rate.frame_to_sample(c.start), rate.frame_to_sample(c.end)
        said = [w for w in heard.get(c.id, ()) if a <= (w.start + w.end) // 2 < b and w.text != VOICE]
        names = [w.speaker for w in said if w.speaker]
        speaker = max(set(names), key=names.count) if names else ""
        used = times_used(found.get(c.recording, ()), c.recording, c.start, c.end)
        out.append(Line(c, rows[c.recording], speaker, " ".join(w.text for w in said), used))
    return out
