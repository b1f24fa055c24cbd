"""Folders that several machines share, each under a path of its own: what a call names there, and here.

server   /srv/footage/day 1/a.mov     /var/kovel/derived/7
worker   /mnt/nas/day 1/a.mov      /mnt/kovel/derived/7      --media /srv/footage=/mnt/nas --media /var/kovel=/mnt/kovel
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import PurePosixPath
from typing import Any

from kovel.media.files import Unusable

NAMED = (
    "path",
    "out",
    "parts",
    "drawn",
    "tables",
    "fonts",
    "models",
    "model",
    "texts",
    "pcm",
    "derived",
    "made",
)  # hold a path, or several
WITHIN = ("files", "members")  # hold what holds paths


def moved(told: Any, move: Callable[[str], str]) -> Any:
    """The parameters of a call, or its result, with each path in it changed."""
    if isinstance(told, list):
        return [moved(x, move) for x in told]
    if not isinstance(told, dict):
        return told
    new = dict(told)
    for param_name, value in told.items():
        if param_name in WITHIN:
            new[param_name] = (
                {name: moved(x, move) for name, x in value.items()} if isinstance(value, dict) else moved(value, move)
            )
        elif param_name in NAMED:
            new[param_name] = (
                {name: _moved(x, move) for name, x in value.items()} if isinstance(value, dict) else _moved(value, move)
            )
    return new


def _moved(value: Any, move: Callable[[str], str]) -> Any:
    return move(value) if isinstance(value, str) and "/" in value else value  # a model may also be told by a mere name


def paths_of(params: dict[str, Any]) -> Iterator[str]:
    """Every path that a call names."""
    found_paths: list[str] = []

    def note(path: str) -> str:
        found_paths.append(path)
        return path

    moved(params, note)
    yield from found_paths


def roots_needed(params: dict[str, Any], roots: Iterable[str]) -> set[str] | None:
    """Those of these folders that hold what a call names; None where something lies in none of them."""
    kept = list(roots)
    found = {root_of(path, kept) for path in paths_of(params)}
    return None if "" in found else found


def root_of(path: str, roots: Iterable[str]) -> str:
    """The nearest of these folders that a path lies in; empty where it lies in none."""
    return max((root for root in roots if _within(path, root)), key=len, default="")


def _within(path: str, root: str) -> bool:
    """Whether an absolute path lies in a folder, without leaving it on the way."""
    this_path = PurePosixPath(path)
    return this_path.is_absolute() and ".." not in this_path.parts and this_path.is_relative_to(root)


@dataclass(frozen=True, slots=True)
class Shared:
    """Folders of the server and where they are on this machine, as (there, here)."""

    pairs: tuple[tuple[str, str], ...]

    def here(self, path: str) -> str:
        """Where a file of the server is on this machine; `Unusable` if it lies in nothing that is shared."""
        return self._moved(path, self.pairs)

    def there(self, path: str) -> str:
        """What the server calls a file of this machine."""
        return self._moved(path, [(b, a) for a, b in self.pairs])

    def _moved(self, path: str, pairs: Iterable[tuple[str, str]]) -> str:
        for a, b in sorted(pairs, key=lambda x: -len(x[0])):
            if _within(path, a):
                return str(PurePosixPath(b) / PurePosixPath(path).relative_to(a))
        raise Unusable(
            f"{path} lies in no folder that is shared with this machine. Name its folder where the worker is started."
        )

    def call(self, params: dict[str, Any]) -> dict[str, Any]:
        """The parameters of a call as they are on this machine."""
        moved_params: dict[str, Any] = moved(params, self.here)
        return moved_params

    def result(self, result: dict[str, Any]) -> dict[str, Any]:
        """The result of a call as it is on the server."""
        moved_result: dict[str, Any] = moved(result, self.there)
        return moved_result


def parsed(asked: Iterable[str]) -> tuple[tuple[str, str], ...]:
    """`DIR`, where a folder has the same path on both machines, or `THERE=HERE`."""
    return tuple(
        (a.rstrip("/") or "/", (b or a).rstrip("/") or "/")
        for a, _, b in (asked_folder.partition("=") for asked_folder in asked)
    )
