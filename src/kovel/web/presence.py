"""Who is there, in memory: who is not heard of for a while is gone, and holds nothing any more."""

from __future__ import annotations

import threading
import time
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from hashlib import sha256

from kovel.core.errors import Told

EDITOR: ContextVar[str | None] = ContextVar(
    "editor", default=None
)  # who asks; empty: a program; None: nobody over HTTP
SOON = 4.0  # and after a page was closed: from one room to the next takes less
GONE = 12.0  # seconds without a word after which somebody is not there any more


class Taken(Told):
    """Somebody else holds the story."""

    status = 423


@dataclass(frozen=True, slots=True)
class Here:
    """An editor: what they are called, where they are, when they were heard of last."""

    id: str
    name: str
    room: str = ""
    frame: int = 0
    seen: float = 0.0


@dataclass
class Together:
    """Who is in which project, and who holds which story."""

    _here: dict[int, dict[str, Here]] = field(default_factory=dict)
    _holds: dict[int, tuple[int, str]] = field(default_factory=dict)  # by story: (project, editor)
    _names: dict[str, str] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def heard_of(self, project: int, editor: str, room: str, frame: int) -> Here:
        """Somebody is there."""
        with self._lock:
            editors_here = self._here.setdefault(project, {})
            name = self._names.setdefault(editor, f"Editor {len(self._names) + 1}")
            editors_here[editor] = Here(editor, name, room, frame, time.monotonic())
            return editors_here[editor]

    def left(self, project: int, editor: str) -> None:
        """A page was closed: unless another one is heard of soon, they are gone."""
        with self._lock:
            editors_here = self._here.get(project, {})
            if editor in editors_here:
                editors_here[editor] = replace(editors_here[editor], seen=time.monotonic() - GONE + SOON)

    def call(self, project: int, editor: str, name: str) -> None:
        """Gives an editor a name."""
        with self._lock:
            self._names[editor] = name
            editors_here = self._here.get(project, {})
            if editor in editors_here:
                editors_here[editor] = replace(editors_here[editor], name=name)

    def others(self, project: int, editor: str) -> list[Here]:
        """Everybody else who is there, by name."""
        now = time.monotonic()
        with self._lock:
            other_editors = [
                here for here in self._here.get(project, {}).values() if here.id != editor and now - here.seen < GONE
            ]
        return sorted(other_editors, key=lambda h: h.name)

    def holder(self, story: int) -> Here | None:
        """Who holds a story, if they are still there."""
        with self._lock:
            project, editor = self._holds.get(story, (0, ""))
            here = self._here.get(project, {}).get(editor)
            return here if here and time.monotonic() - here.seen < GONE else None

    def asking(self) -> tuple[str, str]:
        """Who asks, as the journal keeps it, and what they are called; a program is nobody."""
        editor = EDITOR.get()
        if not editor:
            return "", ""
        with self._lock:
            name = self._names.get(editor, "")
        return sha256(editor.encode()).hexdigest()[:16], name

    def allow(self, story: int) -> None:
        """`Taken` where who asks would change a story that somebody else holds."""
        here, asks = self.holder(story), EDITOR.get()
        if here is not None and asks is not None and asks != here.id:
            raise Taken(
                f"{here.name} is working on this story. Nothing was changed; "
                "take it over at the top of the page, or wait."
            )

    def hold(self, project: int, story: int, editor: str, on: bool) -> None:
        """Hold a story, also one that another held; or give it back."""
        with self._lock:
            if on:
                self._holds[story] = (project, editor)
            elif self._holds.get(story, (0, ""))[1] == editor:
                del self._holds[story]
