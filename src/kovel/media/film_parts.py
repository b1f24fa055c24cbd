"""Which parts a film is made of, and under which name each is kept (see core.plan.parts): told by what is seen in
it and by all that decides how it is made, so that every machine gives it the same name.

rows     [ A ][ B ][ C ][ D ......... ][ E ]
parts    [ 1      ][ 2               ][ 3  ]     groups: neighbours that one call makes
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from math import ceil
from pathlib import Path
from typing import Any

from kovel.core.plan import parts as division
from kovel.core.plan.outputs import Output, coding_of, frames_made
from kovel.core.time.rate import Rate

DRAWN = 2  # how layers are drawn: another number makes every part anew
GROUP = 1000  # frames that are worth a call of their own

Row = Sequence[Any]  # [at, end, layers]


@dataclass(frozen=True, slots=True)
class FilmPart:
    """One part: where it is kept, its rows [first, last) of the plan, the frame of the film it begins at."""

    path: Path
    first: int
    last: int
    at: int


@dataclass
class FilmParts:
    """A film, or a stretch of one, as its parts are told apart.

    :param plan: `Plan.to_json`, divided; of a stretch, only its rows
    :param files: by source, as `render` takes them
    :param begin: the number of the film's first frame in timecode
    :param tables: the folder of tables of colours; `fonts`: that of the editor's own fonts
    :param until: the story's frame at which the rows end; None for the end of the film
    """

    plan: dict[str, Any]
    files: dict[int, dict[str, Any]]
    output: Output
    size: tuple[int, int]
    begin: int
    tables: Path | None
    fonts: Path | None
    until: int | None

    def __post_init__(self) -> None:
        self.clock = Rate(*self.plan["rate"])
        self.rate = self.output.rate or self.clock
        self.rows: list[tuple[int, int, list[Any]]] = self.plan["pictures"]
        self.length: int = self.plan["length"]
        self.count = frames_made(self.length, self.clock, self.output.rate)

    def first(self, at: int) -> int:
        """The first frame of the film that shows story frame `at` or a later one."""
        return at if self.rate == self.clock else min(self.count, ceil(at * self.rate.fps / self.clock.fps))

    def parts(self, folder: Path) -> Iterator[FilmPart]:
        """All parts of these rows, and where each is kept in a folder."""
        end_of_rows = self.length if self.until is None else self.until
        ending = coding_of(self.output.kind).container
        for start, end in division.stretches(self.rows):
            at = self.first(self.rows[start][0])
            if self.first(self.rows[end][0] if end < len(self.rows) else end_of_rows) > at:  # else between two frames
                part_rows = self.rows[start:end]  # of a slower film
                name = division.name_of(part_rows, self._made_with(part_rows))
                yield FilmPart(folder / f"{name}.{ending}", start, end, at)

    def groups(self, folder: Path) -> list[tuple[int, int, int]]:
        """Rows [first, last) of parts that are not kept yet, as many as are worth a call, and how many parts."""
        found: list[tuple[int, int, int]] = []
        seen: set[Path] = set()
        for part in self.parts(folder):
            if part.path in seen or part.path.exists():
                continue
            seen.add(part.path)
            first, last, count = found[-1] if found else (0, -1, 0)
            if last == part.first and self.rows[part.last - 1][1] - self.rows[first][0] <= GROUP:
                found[-1] = (first, part.last, count + 1)
            else:
                found.append((part.first, part.last, 1))
        return found

    def _made_with(self, part_rows: Sequence[Row]) -> Any:
        """All but what is seen that decides what a part looks like."""
        at, burnt = part_rows[0][0], self.output.kind == "draft"
        drawn = [layer for _, _, layers in part_rows for layer in _all(layers)]
        named = {
            of[name]
            for layer in drawn
            if len(layer) > 4
            for of in (*layer[4].get("look", ()), layer[4].get("title", {}))
            for name in ("table", "font")
            if of.get(name)
        }
        stamps = [
            (other.name, other.stat().st_mtime_ns)
            for path in (self.tables, self.fonts)
            if path and path.is_dir()
            for other in sorted(path.iterdir())
            if other.stem in named
        ]
        pictures = []
        for key in sorted(drawn_sources(part_rows)):
            file = self.files[key]
            facts = Path(file["path"]).stat()
            told = [file["name"], file.get("first"), file.get("drop")] if burnt else []  # written into its pictures
            pictures.append([key, facts.st_size, facts.st_mtime_ns, file["rate"], file["still"], *told])
        return [
            DRAWN,
            self.output.kind,
            self.output.quality,
            self.size,
            self.rate.num,
            self.rate.den,
            str(self.first(at) - at * self.rate.fps / self.clock.fps),
            pictures,
            stamps,
            at + self.begin if burnt else None,
        ]


def drawn_sources(part_rows: Sequence[Row]) -> set[int]:
    """The recordings that are drawn in these rows."""
    return {layer[0] for _, _, layers in part_rows for layer in _all(layers) if layer[0] is not None}


def _all(layers: Sequence[Any]) -> Iterator[Any]:
    """Layers of a plan's JSON, and those they are put together from."""
    for layer in layers:
        yield layer
        if len(layer) > 4:
            yield from _all([*layer[4].get("stack", ()), *([layer[4]["cut"]] if "cut" in layer[4] else [])])
