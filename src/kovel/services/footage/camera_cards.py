"""Cards and recorders: what is plugged in, what of it was taken already, and copying it safely."""

import shutil
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from kovel.core.errors import Invalid, Missing
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import JobKind, Outcome, Result
from kovel.media import mhl
from kovel.media.copying import FAULT
from kovel.media.derive import checksum
from kovel.services.footage.intake import bring_in_all, files_in, safe
from kovel.store import jobs, projects, recordings
from kovel.store.jobs import Job


@dataclass(frozen=True, slots=True)
class OnCard:
    """A file of a card: its path below it, its size, and the recording that it is already, if it is."""

    path: str
    size: int
    taken: str

    @property
    def name(self) -> str:
        """The file's name."""
        return self.path.rsplit("/", 1)[-1]


@dataclass(frozen=True, slots=True)
class Card:
    name: str
    folder: Path
    files: tuple[OnCard, ...]
    failing: bool

    @property
    def new(self) -> tuple[OnCard, ...]:
        """The files that were not taken before."""
        return tuple(file for file in self.files if not file.taken)

    @property
    def bytes(self) -> int:
        """Bytes of all files."""
        return sum(file.size for file in self.files)


def place(data_folder: DataFolder) -> Path:
    """Where the made-up cards are plugged in."""
    return data_folder.root / "cards"


def listing(data_folder: DataFolder, project: int) -> list[Card]:
    """The cards that are plugged in, and what of each is here already."""
    folder = place(data_folder)
    return (
        [
            card_at(data_folder, project, path)
            for path in sorted(folder.iterdir())
            if path.is_dir() and not path.name.startswith(".")
        ]
        if folder.is_dir()
        else []
    )


def card_at(data_folder: DataFolder, project: int, folder: Path) -> Card:
    """A folder as a card."""
    all_recordings = recordings.of_project(data_folder.db, project)
    sizes: dict[int, list[Any]] = {}
    for recording in all_recordings:
        sizes.setdefault(recording.size, []).append(recording)
    listed_clips = []
    for path in files_in(folder):
        twins = sizes.get(path.stat().st_size, [])
        same = next((twin.name for twin in twins if twin.checksum and twin.checksum == _sum(path)), "") if twins else ""
        listed_clips.append(OnCard(str(path.relative_to(folder)), path.stat().st_size, same))
    return Card(folder.name, folder, tuple(listed_clips), (folder / FAULT).exists())


def _sum(path: Path) -> str:
    """Its checksum, read once as long as it stays as it is: lists are drawn often."""
    st = path.stat()
    return _summed(path, st.st_size, st.st_mtime_ns)


@lru_cache(10_000)
def _summed(path: Path, size: int, changed: int) -> str:
    return checksum(path)


def find(data_folder: DataFolder, project: int, name: str) -> Card:
    """A plugged-in card by its name, or a folder as one."""
    card_found = next((card for card in listing(data_folder, project) if card.name == name), None)
    if card_found:
        return card_found
    folder = Path(name).expanduser()
    if folder.is_dir():
        return card_at(data_folder, project, folder.resolve())
    raise Missing(f"There is no card called {name} plugged in, and no such folder.")


def start_copy(
    data_folder: DataFolder, project: int, card: Card, files: list[str] | None = None, to: Path | None = None
) -> Job:
    """Copy files of a card (those that are not here yet, unless some are named), verify them, bring them in."""
    this_project = projects.get(data_folder.db, project)
    here = {file.path: file for file in card.files}
    wanted = [file.path for file in card.new] if files is None else files
    if unknown := [wanted_file for wanted_file in wanted if wanted_file not in here]:
        raise Missing(f"{unknown[0]} is not on that card.")
    if not wanted:
        raise Invalid("Everything on that card is here already." if card.files else "There is nothing on that card.")
    copy_folder = to or data_folder.uploads(project) / "cards" / safe(card.name)
    need = sum(here[wanted_file].size for wanted_file in wanted)
    if need > shutil.disk_usage(data_folder.root if to is None else to.parent).free:
        raise Invalid(f"That takes {need / 1e9:.1f} GB; there is less room than that where it is copied to.")
    for job in jobs.of_project(data_folder.db, this_project.id, "copy"):
        if job.is_open and job.params["out"] == str(copy_folder):
            raise Invalid("That card is being copied already.")
    return jobs.add(
        data_folder.db, project, "copy", {"card": str(card.folder), "files": wanted, "out": str(copy_folder)}
    )


def take_copied(data_folder: DataFolder, job: Job, result: dict[str, Any]) -> str:
    """Bring in what was copied; in words what was not."""
    paths = [Path(copied_file["path"]) for copied_file in result["copied"]]
    there = {recording.path for recording in recordings.of_project(data_folder.db, job.project)}
    new_recordings, bad = bring_in_all(data_folder, job.project, [path for path in paths if str(path) not in there])
    sums = {copied_file["path"]: copied_file["sha256"] for copied_file in result["copied"]}
    for recording in new_recordings:
        recordings.set_checksum(data_folder.db, recording.id, sums[recording.path])
    return " ".join(bad[:5])


def verify(folder: Path) -> tuple[int, list[str]]:
    """Hold a copied folder against its manifests."""
    if not folder.is_dir():
        raise Missing(f"There is no folder {folder}.")
    return mhl.verify(folder)


def _take(data_folder: DataFolder, job: Job, result: Result) -> Outcome:
    return Outcome(take_copied(data_folder, job, result), result)


COPY = JobKind("copy", "copy", 0, _take)
