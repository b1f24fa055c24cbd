"""Recordings as they are looked for: by bin, day, camera, roll or kind, by a word, in an order; and named by a
pattern."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from urllib.parse import parse_qsl, urlencode

from kovel.core.errors import Invalid
from kovel.core.time.rate import Rate
from kovel.core.words.languages import NAMES
from kovel.data_folder import DataFolder
from kovel.store import bin_rows, projects, recordings
from kovel.store.bin_rows import Bin
from kovel.store.recordings import Recording

BY = ("day", "camera", "roll", "kind")
ORDERS: dict[str, tuple[str, Callable[[Recording, Rate], tuple[object, ...]]]] = {
    "own": ("own order", lambda r, _: ()),
    "name": ("name", lambda r, _: natural(r.name)),
    "day": ("day, camera", lambda r, _: (natural(r.day), natural(r.camera), natural(r.roll), r.start_timecode)),
    "length": ("longest first", lambda r, clock: (-r.length(clock),)),
    "size": ("largest first", lambda r, _: (-r.size,)),
    "new": ("newest first", lambda r, _: (-r.id,)),
}
FIRST = 100  # recordings that are drawn at once
FIELD = re.compile(r"\{(\w+)(?::(\d))?\}")


def natural(text: str) -> tuple[object, ...]:
    """A key that sorts clip 2 before clip 10."""
    return tuple(
        (0, int(text_part), "") if text_part.isdecimal() else (1, 0, text_part.casefold())
        for text_part in re.split(r"(\d+)", text)
        if text_part
    )


@dataclass(frozen=True, slots=True)
class Shown:
    """Which recordings are shown and how: `bin` is `""` (all), `aside`, `none` (in no bin), a bin's number, or
    `day:2`, `kind:music`..."""

    bin: str = ""
    q: str = ""
    order: str = "own"
    frames: bool = False
    count: int = FIRST

    @property
    def query(self) -> str:
        """The same as a query string."""
        asked_values = {
            "bin": self.bin,
            "q": self.q,
            "order": self.order,
            "frames": "1" if self.frames else "",
            "count": str(self.count),
        }
        return urlencode(asked_values)


def shown(query: str) -> Shown:
    """As `Shown.query` wrote it; what is none is as at first."""
    asked_values = dict(parse_qsl(query))
    order = asked_values.get("order", "own")
    count = asked_values.get("count", "")
    return Shown(
        asked_values.get("bin", "")[:80],
        asked_values.get("q", "")[:120],
        order if order in ORDERS else "own",
        bool(asked_values.get("frames")),
        min(5000, max(FIRST, int(count))) if count.isdecimal() and len(count) < 6 else FIRST,
    )


@dataclass(frozen=True, slots=True)
class Heap:
    """A choice among the recordings: what names it, what it is called, how many there are."""

    key: str
    name: str
    count: int
    own: int = 0  # the number of a bin of the editor's


def heaps(data_folder: DataFolder, project: int, all_recordings: Sequence[Recording]) -> list[tuple[str, list[Heap]]]:
    """What can be chosen, by kind of choice; what all recordings have in common tells none apart and is left out."""
    heaps_by_name: list[tuple[str, list[Heap]]] = []
    for by in BY:
        found_counts = Counter(str(getattr(recording, by)) for recording in all_recordings if getattr(recording, by))
        if len(found_counts) > 1 or (len(found_counts) == 1 and found_counts.total() < len(all_recordings)):
            heaps_by_name.append(
                (
                    by,
                    [
                        Heap(f"{by}:{heap_name}", heap_name, found_counts[heap_name])
                        for heap_name in sorted(found_counts, key=natural)
                    ],
                )
            )
    own_bins = bin_rows.of_project(data_folder.db, project)
    if own_bins:
        loose = [
            recording
            for recording in all_recordings
            if not any(recording.id in folder.recordings for folder in own_bins)
        ]
        heaps_by_name.append(
            (
                "bins",
                [
                    *(Heap(str(folder.id), folder.name, len(folder.recordings), folder.id) for folder in own_bins),
                    *([Heap("none", "in no bin", len(loose))] if loose else []),
                ],
            )
        )
    if aside := sum(recording.aside for recording in all_recordings):
        heaps_by_name.append(("", [Heap("aside", "set aside", aside)]))
    return heaps_by_name


def chosen(data_folder: DataFolder, project: int, all_recordings: Sequence[Recording], s: Shown) -> list[Recording]:
    """The recordings that are shown, in their order."""
    own_bins = bin_rows.of_project(data_folder.db, project) if s.bin else []
    words = s.q.casefold().split()
    clock = recordings.clock_of(data_folder.db, project)
    recordings_found = [
        recording
        for recording in all_recordings
        if _in(recording, s.bin, own_bins) and all(word in _text(recording) for word in words)
    ]
    order_key = ORDERS[s.order][1]
    return sorted(recordings_found, key=lambda r: order_key(r, clock)) if s.order != "own" else recordings_found


def _text(recording: Recording) -> str:
    return (
        f"{recording.name} {recording.kind} {recording.day} {recording.roll} {recording.camera} {recording.path} "
        f"{' '.join(recording.remarks)}"
    ).casefold()


def _in(recording: Recording, choice: str, own: Sequence[Bin]) -> bool:
    by, _, value = choice.partition(":")
    if by in BY:
        return str(getattr(recording, by)) == value
    if choice == "aside":
        return recording.aside
    if choice == "none":
        return not any(recording.id in folder.recordings for folder in own)
    return not choice or any(recording.id in folder.recordings for folder in own if str(folder.id) == choice)


def names(data_folder: DataFolder, project: int, ids: Sequence[int], pattern: str) -> list[tuple[Recording, str]]:
    """New names by a pattern: {name}, {n} (counted; {n:3} as 001), {day}, {camera}, {roll}, {kind}, {timecode},
    {file}. `Invalid` for a field that is none, and for names that would be alike."""
    if not pattern.strip():
        raise Invalid("Type a pattern, for example {day}-{camera}-{n:3}.")
    recordings_to_name = [recordings.get(data_folder.db, recording_id) for recording_id in ids]
    if not recordings_to_name:
        raise Invalid("Choose the recordings that are to be renamed.")
    fields = {field_match[1] for field_match in FIELD.finditer(pattern)}
    known = {"name", "n", "day", "camera", "roll", "kind", "timecode", "file"}
    rest_of_pattern = FIELD.sub("", pattern)
    if fields - known or "{" in rest_of_pattern or "}" in rest_of_pattern:
        what = ", ".join(sorted(fields - known)) or "a brace that stands alone"
        raise Invalid(
            f"A pattern cannot hold {what}. It can hold {', '.join(f'{{{name}}}' for name in sorted(known))}; "
            f"{{n:3}} counts 001, 002."
        )
    taken = {
        recording.name.casefold()
        for recording in recordings.of_project(data_folder.db, project)
        if recording.id not in set(ids)
    }
    names_to_be: list[tuple[Recording, str]] = []
    for index, recording in enumerate(recordings_to_name, 1):
        value = {
            "name": recording.name,
            "day": recording.day,
            "camera": recording.camera,
            "roll": recording.roll,
            "kind": recording.kind,
            "timecode": recording.start_timecode.replace(":", ""),
            "file": recording.path.rsplit("/", 1)[-1].rsplit(".", 1)[0],
        }
        put = lambda m, n=index, value=value: str(n).zfill(int(m[2] or 1)) if m[1] == "n" else value[m[1]]  # noqa: E731
        name = projects.clean_name(FIELD.sub(put, pattern), limit=120)
        if name.casefold() in taken:
            raise Invalid(f"Two recordings would be called {name}. Put {{n}} or {{name}} into the pattern.")
        taken.add(name.casefold())
        names_to_be.append((recording, name))
    return names_to_be


def rename(data_folder: DataFolder, project: int, ids: Sequence[int], pattern: str) -> str:
    """Give recordings names by a pattern, in one undoable step; what was done."""
    new_names = names(data_folder, project, ids, pattern)
    summary = f"{len(new_names)} recording{'s' if len(new_names) != 1 else ''} renamed"
    recordings.update_all(data_folder.db, [(recording.id, {"name": name}) for recording, name in new_names], summary)
    return summary


def _said(field: str, value: str | int) -> str:
    if field == "aside":
        return "set aside" if value else "taken up again"
    if field == "language":
        return f"language {NAMES[str(value)]}" if value else "language found by itself"
    return f"{field} {value}"


def set_all(data_folder: DataFolder, ids: Sequence[int], fields: dict[str, str | int]) -> str:
    """The same kind, day, roll, camera, language or aside for several recordings, in one undoable step; what was
    done."""
    clean = recordings.cleaned(fields)
    if not clean:
        raise Invalid("Choose what is to be set: kind, day, roll, camera, language or aside.")
    summary = (
        f"{len(ids)} recording{'s' if len(ids) != 1 else ''}: "
        f"{', '.join(_said(name, value) for name, value in clean.items())}"
    )
    recordings.update_all(data_folder.db, [(recording_id, clean) for recording_id in ids], summary)
    return summary
