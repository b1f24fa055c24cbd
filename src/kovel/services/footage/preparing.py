"""How a recording is prepared: sound first, something to see, then its pictures piece by piece, over all cores.

    sound   |====|                         what is there is seen in the folder: a kill loses the piece at hand
    look    |=|
    pieces       |====|====|    |====|  worker 1
                      |====|====|====|  worker 2
    finish                           |=|

Each step is a call to a child (media.derive, media.soundtrack, media.pieces); the scheduler hands them out.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import JobKind, JobStep, Outcome, Result, SoFar, Steps
from kovel.media.pieces import frames_found, missing, pieces_of, there
from kovel.media.whole_files import keep
from kovel.media.wholeness import shortcomings, take_apart, whole_sound
from kovel.services.log.transcription import listen
from kovel.store import recordings
from kovel.store.jobs import Job

SHORT = 60  # seconds: a recording up to this is made in one go
STRETCH = 150  # pieces a worker makes in a row, at most
LEAST = 16  # and at least, where there are so many
FIRST = 0  # urgency: sound and looks before anything,
WHOLE = LAST = 1  # then short ones, and what ends a long one,
PICTURE = 6  # pieces after everything


def steps(job: Job, so_far: SoFar) -> list[JobStep]:
    """What can be done next for a recording, beside the steps that are under way already."""
    params, folder = job.params, Path(job.params["out"])
    busy, workers = list(so_far.under_way), so_far.here + so_far.elsewhere
    if any(job_step.name in ("finish", "all") for job_step in busy):
        return []  # what it makes whole is nobody else's to make
    base = {key: params[key] for key in ("path", "out", "rate")}
    own_group = params.get("own", 0)  # jobs of older versions say nothing of it
    whole = {**base, **{key: params[key] for key in ("picture", "sound", "frames")}, "own": own_group}
    if (folder / "media.json").exists():  # it is made already; a server may have ended before that was noted
        return [] if busy else [JobStep("finish", "finish", whole, WHOLE)]
    frames = params["frames"]
    if not params["picture"] or frames is None or frames / Rate(*params["rate"]).fps <= SHORT:
        heard_params = {**whole, "heard": params.get("heard", [])}
        at_once = JobStep("all", "derive", heard_params, WHOLE, brings_sound=params["sound"], makes_all=True)
        return [] if busy else [at_once]
    return _by_pieces(params, folder, busy, base, whole, workers)


def _by_pieces(
    params: dict[str, Any],
    folder: Path,
    busy: list[JobStep],
    base: dict[str, Any],
    whole: dict[str, Any],
    workers: int,
) -> list[JobStep]:
    """Next steps of a long recording: its sound, its index or first looks, then its pictures piece by piece."""
    frames, is_own = params["frames"] or 1, bool(whole["own"])
    lacking = []  # those of its steps that go first
    if whole["own"] and not (folder / "own.json").exists():
        lacking.append(JobStep("own", "make_index", {**base, "group": whole["own"]}, FIRST))
    if params["sound"] and not whole_sound(folder):
        piece_params = {**base, "picture": True, "frames": params["frames"], "heard": params.get("heard", [])}
        lacking.append(JobStep("sound", "make_heard_sound", piece_params, FIRST, brings_sound=True))
    joined = (folder / "picture.json").exists()
    gaps = [] if joined else missing(folder, frames, is_own)
    if not gaps and not lacking and not busy:
        return [JobStep("finish", "finish", whole, LAST)]
    looked = joined or (folder / "look.json").exists() or there(folder, is_own)
    if not looked:
        lacking.append(JobStep("look", "make_look", {**base, "frames": frames}, FIRST))
    named = {job_step.name for job_step in busy}
    pieces = _stretches(gaps, busy, pieces_of(frames), {**base, "frames": frames, "own": is_own}, workers)
    return [*(job_step for job_step in lacking if job_step.name not in named), *pieces]


def _stretches(
    gaps: list[tuple[int, int | None]], busy: list[JobStep], total: int, base: dict[str, Any], workers: int
) -> list[JobStep]:
    """The gaps that nobody works on, cut into stretches for so many workers."""
    free = _free(gaps, [job_step.pieces for job_step in busy if job_step.pieces], total)
    frames_left = sum((total if end is None else end) - start for start, end in free)
    size = max(LEAST, min(STRETCH, -(-frames_left // (2 * workers))))
    stretches_left: list[tuple[int, int | None]] = []
    for start, until in free:
        while (total if until is None else until) - start > size + LEAST // 2:
            stretches_left.append((start, start + size))
            start += size
        stretches_left.append((start, until))
    threads = 1 if workers > 1 else 0
    return [
        JobStep(
            f"pieces {start}",
            "make_pieces",
            {**base, "first": start, "last": end, "threads": threads},
            PICTURE,
            (start, end),
        )
        for start, end in stretches_left
    ]


def _free(
    gaps: list[tuple[int, int | None]], taken: list[tuple[int, int | None]], total: int
) -> list[tuple[int, int | None]]:
    """The parts of the gaps that no step has; an end that is None reaches behind the `total` that is expected."""
    spans = sorted((start, total if end is None else end, end is None) for start, end in taken)
    free: list[tuple[int, int | None]] = []
    for start, until in gaps:
        at, end = start, total if until is None else until
        for first, last, is_open in spans:
            if first < max(end, start + 1) and (is_open or last > start):
                if first > at:
                    free.append((at, first))
                at = max(at, last)
        if at < end:
            free.append((at, until))
        elif until is None and not taken and len(gaps) == 1:  # only what lies behind the expected end
            free.append((at, None))
    return free


def progress(job: Job, so_far: SoFar) -> float:
    """How far a recording is, 0 to 1: what is there, and what the steps that are out have told."""
    params, folder, told = job.params, Path(job.params["out"]), so_far.told
    if "all" in told or (folder / "media.json").exists():
        return told.get("all", 0.99)
    shares = {"sound": 0.03 if params["sound"] else 0.0, "finish": 0.03}
    progress_share = 0.0
    if params["sound"]:
        progress_share += shares["sound"] * (1.0 if whole_sound(folder) else told.get("sound", 0.0))
    if (folder / "picture.json").exists():
        return min(
            0.99, 1 - shares["sound"] - shares["finish"] + progress_share + shares["finish"] * told.get("finish", 0.0)
        )
    found_frames = frames_found(folder)
    total = pieces_of(found_frames if found_frames is not None else params["frames"] or 1)
    progress_share += (1 - sum(shares.values())) * min(1.0, len(there(folder, bool(params.get("own")))) / max(1, total))
    return min(0.99, progress_share + shares["finish"] * told.get("finish", 0.0))


def take_step(data_folder: DataFolder, job: Job, step: JobStep, result: Result) -> Outcome:
    """What a step brought: its sound is listened to, and at the end the whole recording is held against what was
    stated of it."""
    assert job.recording is not None
    if "short" in result:
        return Outcome(short=result["short"])
    if step.brings_sound:
        listen(data_folder, job.recording)
    if step.name not in ("all", "finish"):
        return Outcome(goes_on=True)
    folder = Path(job.params["out"])
    if short := shortcomings(folder):
        take_apart(folder)
        return Outcome(short=short)
    recordings.set_whole(data_folder.db, job.recording, result["checksum"], result["frames"])
    mended = job.params.get("mended")
    return Outcome(f"It was prepared again: {mended}." if mended else "", result)


def spared(job: Job, step: JobStep) -> bool:
    """Something to see at once would be nice; the pieces come anyway."""
    if step.name != "look":
        return False
    keep(Path(job.params["out"]) / "look.json", {})
    return True


PREPARE = JobKind("prepare", steps=Steps(steps, progress, take_step, spared))
