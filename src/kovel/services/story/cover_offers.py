"""Shots to cover what is said at a moment of the story, with what is known of their meaning and their pictures."""

from dataclasses import dataclass, replace

import numpy as np

from kovel.core.checks.covering import LONGEST, covers_for, sentence_around
from kovel.core.checks.offers import Offer
from kovel.core.errors import Invalid
from kovel.core.picture.shots import Look, look
from kovel.core.story.model import Story
from kovel.core.time.rate import Rate
from kovel.core.words.writing import together
from kovel.data_folder import DataFolder
from kovel.services.log.sentence_meaning import shots_near
from kovel.services.story.story_checks import said_between, shelf, words_around
from kovel.store import recordings


@dataclass(frozen=True, slots=True)
class Covers:
    """What is said in story frames [a, b), and the shots that could cover it."""

    a: int
    b: int
    said: str
    offers: list[Offer]


def covers(data_folder: DataFolder, project: int, story: Story, at: int, until: int | None = None) -> Covers:
    """For a stretch of the story, or for the sentence at a frame."""
    reach = LONGEST * story.rate.nominal
    if until is None:
        span = sentence_around(words_around(data_folder, story, max(0, at - reach), at + 2 * reach), at, story.rate)
        if span is None:
            raise Invalid("Nothing more is said from here on. Choose words, or go to where somebody speaks.")
    else:
        span = (max(0, at), min(until, story.length))
        if span[1] <= span[0]:
            raise Invalid("That stretch lies outside the story.")
    start, end = span
    said_there = together(word.text for _, _, word in words_around(data_folder, story, start, end))
    near = shots_near(data_folder, project, said_between(data_folder, story, start, end))
    shots = [
        replace(shot, near=near.get((shot.source, shot.start), 0.0)) for shot in shelf(data_folder, project, story)
    ]
    if not shots:
        raise Invalid(
            "There are no shots to cover with. Bring in b-roll or stills under Footage, or set their kind there."
        )
    looks = {
        recording_id: seen
        for recording_id in {shot.source for shot in shots}
        if (seen := _look(data_folder, recording_id))
    }
    return Covers(start, end, said_there, covers_for(span, story.rate, shots, said_there, looks))


def _look(data_folder: DataFolder, recording: int) -> tuple[Look, Rate] | None:
    """What a shot is like from frame to frame; None while that is not made."""
    try:
        motion_rows = np.load(data_folder.derived(recording) / "motion.npy")
    except (OSError, ValueError):
        return None
    own_rate = recordings.get(data_folder.db, recording).rate
    return (look(motion_rows, float(own_rate.fps)), own_rate) if len(motion_rows) else None
