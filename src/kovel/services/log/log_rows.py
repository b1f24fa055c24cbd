"""The log as a sheet: each subclip with what is said in it, by whom, and how often the story uses it."""

from collections.abc import Sequence
from dataclasses import replace

from kovel.core.sound.pauses import VOICE
from kovel.core.story.usage import by_source, times_used, uses
from kovel.data_folder import DataFolder
from kovel.exchange.log_formats import Line
from kovel.store import projects, recordings, stories, subclips, transcripts


def log_lines(data_folder: DataFolder, project: int, said: bool = True) -> list[Line]:
    """Every subclip of a project, in the order of its recordings; without `said` nothing of what is said in them and
    by whom."""
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    uses_found = by_source(uses(stories.load(data_folder.db, stories.current(data_folder.db, project)).story))
    lines = []
    for subclip in subclips.of_project(data_folder.db, project):
        used = times_used(uses_found.get(subclip.recording, ()), subclip.recording, subclip.start, subclip.end)
        lines.append(Line(subclip, recordings_by_id[subclip.recording], "", "", used))
    return with_said(data_folder, project, lines) if said else lines


def with_said(data_folder: DataFolder, project: int, lines: Sequence[Line]) -> list[Line]:
    """The lines with what is said in them, and who says most of it."""
    sample = projects.get(data_folder.db, project).rate.frame_to_sample
    ranges = [(line.clip.recording, sample(line.clip.start), sample(line.clip.end)) for line in lines]
    lines_with_said = []
    for line, words in zip(lines, transcripts.said_in(data_folder.db, ranges), strict=True):
        names = [who for who, text in words if who and text != VOICE]
        speaker = max(dict.fromkeys(names), key=names.count) if names else ""
        lines_with_said.append(
            replace(line, speaker=speaker, words=" ".join(text for _, text in words if text != VOICE))
        )
    return lines_with_said
