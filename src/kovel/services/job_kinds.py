"""Every kind of job there is, what is seen to beside them, and the scheduler that works on them."""

from collections.abc import Sequence
from datetime import date

from kovel.data_folder import DataFolder
from kovel.jobs.kinds import Chore, JobKind
from kovel.jobs.scheduler import Scheduler
from kovel.jobs.workplaces import Workplace
from kovel.services.footage import camera_cards, disk_space, mending, preparing, relinking, syncing, verifying
from kovel.services.handoff import archiving, rendering
from kovel.services.log import speaker_separation, theming, transcription
from kovel.services.sound import derived_sounds
from kovel.services.tighten import quick_cuts
from kovel.store.backup import daily

JOB_KINDS: tuple[JobKind, ...] = (
    preparing.PREPARE,
    transcription.LISTEN,
    transcription.TRANSCRIBE,
    transcription.ALIGN,
    speaker_separation.VOICES,
    theming.MEANING,
    quick_cuts.PULSE,
    syncing.SYNC,
    relinking.RELINK,
    verifying.VERIFY,
    camera_cards.COPY,
    derived_sounds.CLEAN,
    derived_sounds.RETIME,
    rendering.RENDER,
    archiving.ARCHIVE,
)
BACKED_UP = Chore(30, lambda data: lambda: daily(data.db, data.backups, date.today()))
CHORES = (mending.MENDED_FIRST, disk_space.DISK_WATCHED, BACKED_UP, theming.MEANING_KEPT)


def scheduler_for(
    data_folder: DataFolder, workers: int | None = None, elsewhere: Sequence[Workplace] = ()
) -> Scheduler:
    """What works on the jobs of a data folder, with all of Kovel's kinds."""
    return Scheduler(data_folder, JOB_KINDS, CHORES, workers, elsewhere)
