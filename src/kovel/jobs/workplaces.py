"""Where calls are made: in children of this machine, or on a cluster (`jobs/cluster.py`). Whoever hands them out sees
one small interface, and knows neither.

submit ──► progress ... progress ──► result: {"result"}, {"unusable"}, {"held"}, {"cancelled"} or {"lost"}
   └─────► stop ─────────────────────────────────────────────────────────────────────┘

A call may be made twice without harm: it writes under names of its own, and its answer counts once. So a place that
does not know what became of one says that it is lost, and it is made again.
"""

import threading
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any, Protocol

from kovel.media import fork_server
from kovel.media.child import Cancelled, Lost, call
from kovel.media.files import NoRoom, Unusable
from kovel.store.db import in_words

Answer = dict[str, Any]
Params = dict[str, Any]
ENDS_WITHIN = 5.0  # seconds that stopped calls are waited for
WARM = ["av", *(f"kovel.media.{m}" for m in ("child", "probe", "glance", "soundtrack", "derive", "pieces", "listen"))]


class Workplace(Protocol):
    """Somewhere calls are made."""

    @property
    def is_here(self) -> bool:
        """Whether that is this machine, which reaches all files and is the first to be asked for what is waited for."""

    @property
    def slots(self) -> int:
        """How many calls at once; 0 while nobody can be asked."""

    def reaches(self, params: Params) -> bool:
        """Whether all the files that a call names can be reached there."""

    def submit(self, key: str, name: str, params: Params, urgency: float = 0, *, fills_machine: bool = False) -> None:
        """Have a call made, under a key of the caller's choice that no other has. The lower `urgency`, the sooner."""

    def progress(self, key: str) -> float | None:
        """How far a call is, 0 to 1; None before it says."""

    def where(self, key: str) -> str:
        """The machine that makes it, as far as that is known; empty for this one."""

    def stop(self, key: str) -> None:
        """Ask for a call to be stopped: its result comes as {"cancelled"}, if it was not ready already."""

    def result(self, key: str) -> Answer | None:
        """How a call ended; None until then. It stays until `forget`."""

    def forget(self, key: str) -> None:
        """Its result has been taken, or counts no more."""

    def close(self) -> None:
        """Stop all calls."""


def answered(make: Callable[[], Any]) -> Answer:
    """How a call ended, whatever it raises."""
    try:
        return {"result": make()}
    except NoRoom as error:
        return {"held": f"{error.what} {error.do}: it goes on by itself."}
    except Lost:
        return {"lost": "the process that worked on it was ended"}
    except Unusable as error:
        return {"unusable": str(error)}
    except Cancelled:
        return {"cancelled": True}
    except Exception as error:  # a job that fails in an unforeseen way must still end
        words = in_words(error)
        unforeseen = f"Something unforeseen went wrong ({type(error).__name__}). Try again."
        return {"unusable": str(words) if words else unforeseen}


@dataclass(slots=True)
class _Call:
    """One that is under way, or has ended."""

    stop: threading.Event = field(default_factory=threading.Event)
    progress: float | None = None
    answer: Answer | None = None
    thread: threading.Thread | None = None

    def work(self, name: str, params: Params) -> None:
        """Make it, in a thread of its own."""

        def heard(progress: float) -> None:
            self.progress = progress

        self.answer = answered(lambda: call(name, params, heard, self.stop.is_set))


class ThisMachine:
    """Children of this process: a thread waits for each."""

    is_here = True

    def __init__(self, slots: int) -> None:
        self.slots = slots
        self._calls: dict[str, _Call] = {}

    def warm_up(self, modules: Iterable[str] = tuple(WARM)) -> None:
        """Have the libraries loaded that the first calls need."""
        fork_server.warm(modules)

    def reaches(self, params: Params) -> bool:
        """Everything."""
        return True

    def submit(self, key: str, name: str, params: Params, urgency: float = 0, *, fills_machine: bool = False) -> None:
        """Begin it at once: whoever hands out counts the slots."""
        begun = self._calls[key] = _Call()
        begun.thread = threading.Thread(target=begun.work, args=(name, params), name=f"call {name}", daemon=True)
        begun.thread.start()

    def progress(self, key: str) -> float | None:
        """How far a call is, 0 to 1."""
        return self._calls[key].progress if key in self._calls else None

    def where(self, key: str) -> str:
        """This machine."""
        return ""

    def stop(self, key: str) -> None:
        """Ends its child."""
        if key in self._calls:
            self._calls[key].stop.set()

    def result(self, key: str) -> Answer | None:
        """How a call ended; one that was never begun here is lost."""
        begun = self._calls.get(key)
        return begun.answer if begun else {"lost": "it was not begun"}

    def forget(self, key: str) -> None:
        """Its result has been taken."""
        self._calls.pop(key, None)

    def close(self) -> None:
        """Ends all children."""
        for begun in self._calls.values():
            begun.stop.set()
        for begun in self._calls.values():
            if begun.thread:
                begun.thread.join(ENDS_WITHIN)
