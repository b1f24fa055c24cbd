"""The queue: Huey on SQLite, or on Redis for workers on other machines. A job takes files and parameters and gives
back files and a JSON result; it knows no database."""

import json
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

from huey import Huey
from huey.registry import Message
from huey.serializer import Serializer
from huey.storage import SqliteStorage

from kovel.media.child import Cancelled, call
from kovel.media.files import NoRoom, Unusable
from kovel.store.db import in_words

AGAIN = 0.5  # seconds between two tries to hand in an answer

Move = Callable[[dict[str, Any]], dict[str, Any]]


class Plain(Serializer):  # type: ignore[misc]  # huey says nothing of its types
    """JSON: whoever writes into a queue can ask for calls, but not for code of his own."""

    def _serialize(self, data: Any) -> bytes:
        return json.dumps({"message": list(data)} if isinstance(data, Message) else {"data": data}).encode()

    def _deserialize(self, data: bytes) -> Any:
        told_entry = json.loads(data)
        return Message(*told_entry["message"]) if "message" in told_entry else told_entry["data"]


class Lasting(SqliteStorage):  # type: ignore[misc]
    """After a failure of the disk it is opened anew: a connection may have been left amid a transaction, or unable
    to write."""

    @contextmanager
    def db(self, commit: bool = False, close: bool = False) -> Iterator[Any]:
        """A cursor; after a failure the connection is made again."""
        try:
            with super().db(commit, close) as cursor:
                yield cursor
        except sqlite3.Error:
            self.close()
            raise


class Queue:
    """Hands jobs to workers, hears how far they are, tells them to stop."""

    def __init__(self, huey: Huey, here: Move | None = None, there: Move | None = None) -> None:
        """`here` and `there` change the paths of a call into those of this machine, and those of its result back."""
        self.huey = huey
        self._task = self.huey.task(name="kovel-job")(self._work)
        self._here, self._there = here or _as_it_is, there or _as_it_is

    def put(self, key: str, name: str, params: dict[str, Any]) -> None:
        """Queue a media call under a key of the caller's choice."""
        self.huey.enqueue(self._task.s(key, name, params, id=key))

    def progress(self, key: str) -> float | None:
        """How far a call is, 0 to 1; None before it says."""
        told_progress: float | None = self.huey.get(f"progress {key}", peek=True)
        return told_progress

    def cancel(self, key: str) -> None:
        """Asks whoever makes a call to stop."""
        self.huey.put(f"cancel {key}", time.time())

    def result(self, key: str) -> dict[str, Any] | None:
        """{"result"}, {"unusable"}, {"held"} or {"cancelled"} once finished; it stays until `forget`."""
        ended: dict[str, Any] | None = self.huey.get(f"answer {key}", peek=True)
        return ended

    def forget(self, key: str) -> None:
        """Its result has been applied, or counts no more."""
        for what in ("answer", "progress", "cancel"):
            self.huey.get(f"{what} {key}")

    def clear(self) -> None:
        """Forget all: the job rows in the database are the truth, and are queued again."""
        self.huey.storage.flush_all()

    def _work(self, key: str, name: str, params: dict[str, Any]) -> None:
        """Make the call, and hand in the answer as soon as that can be done: a full disk or a lost network passes."""
        answer = self._answer(key, name, params)
        while True:
            try:
                self.huey.put(f"answer {key}", answer)
                return
            except Exception:
                time.sleep(AGAIN)

    def _answer(self, key: str, name: str, params: dict[str, Any]) -> dict[str, Any]:
        def stop() -> bool:
            with suppress(Exception):
                return self.huey.get(f"cancel {key}", peek=True) is not None
            return False

        def progress(x: float) -> None:
            with suppress(Exception):
                self.huey.put(f"progress {key}", x)

        try:
            return {"result": self._there(call(name, self._here(params), progress, stop))}
        except NoRoom as error:
            return {"held": f"{error.what} {error.do}: it goes on by itself."}
        except Unusable as error:
            return {"unusable": str(error)}
        except Cancelled:
            return {"cancelled": True}
        except Exception as error:  # a job that fails in an unforeseen way must still end
            told_words = in_words(error)
            return {
                "unusable": str(told_words)
                if told_words
                else f"Something unforeseen went wrong ({type(error).__name__}). Try again."
            }


def _as_it_is(params: dict[str, Any]) -> dict[str, Any]:
    return params


def on_this_machine(path: str) -> Queue:
    """The queue of a data folder, in a file of its own."""
    return Queue(Huey("kovel", storage_class=Lasting, filename=path, results=False, serializer=Plain()))
