"""Every format in which a story goes to other programs as a timeline, and comes from them."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import opentimelineio as otio

from kovel.core.story.model import Story
from kovel.exchange.edl_in import from_edl
from kovel.exchange.edl_out import not_in_an_edl, to_edl
from kovel.exchange.otio_in import from_otio
from kovel.exchange.otio_out import to_otio
from kovel.exchange.uses import Taken
from kovel.store.projects import Project
from kovel.store.recordings import Recording

Recordings = dict[int, Recording]  # by number


@dataclass(frozen=True, slots=True)
class TimelineFormat:
    """One such format.

    :param name: in addresses, on the command line, and as the ending of its files where `ends` says nothing else
    :param holds: what of a story it can hold, in a few words
    :param write: a story under a name as the text of a file
    :param call: the call that takes a file of it apart in a child (`media/calls.py`)
    :param read: the story of what that call gave
    :param left: what of a story it cannot hold, each in words
    """

    name: str
    label: str
    holds: str
    media_type: str
    write: Callable[[Story, str, Project, Recordings], str]
    call: str
    read: Callable[[dict[str, Any], Project, Recordings], Taken]
    left: Callable[[Story, Project, Recordings], list[str]] = lambda story, project, recordings: []
    ends: str = ""

    @property
    def ending(self) -> str:
        """How files of it end, without the dot."""
        return self.ends or self.name


def _otio(story: Story, name: str, project: Project, recordings: Recordings) -> str:
    written: str = otio.adapters.write_to_string(to_otio(story, name, project, recordings), "otio_json")
    return written


def _otio_before_015(story: Story, name: str, project: Project, recordings: Recordings) -> str:
    """As OpenTimelineIO 0.14 reads it: a clip had one media reference then (its release notes for 0.15)."""
    timeline = to_otio(story, name, project, recordings)
    schemas = otio.versioning.fetch_map("OTIO_CORE", "0.14.0")
    written: str = otio.adapters.write_to_string(timeline, "otio_json", target_schema_versions=schemas)
    return written


TIMELINES = {
    format.name: format
    for format in (
        TimelineFormat(
            "otio",
            "OpenTimelineIO",
            "dialogue, cover lanes and sound as tracks",
            "application/json",
            _otio,
            "read_timeline",
            from_otio,
        ),
        TimelineFormat(
            "otio-0.14",
            "OpenTimelineIO, for older programs",
            "the same, as version 0.14 wrote it",
            "application/json",
            _otio_before_015,
            "read_timeline",
            from_otio,
            ends="otio",
        ),
        TimelineFormat(
            "edl",
            "EDL",
            "what is seen (V) and the dialogue heard (A)",
            "text/plain; charset=utf-8",
            to_edl,
            "read_events",
            from_edl,
            not_in_an_edl,
        ),
    )
}
