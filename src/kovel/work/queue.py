"""The queue: Huey on SQLite. A job takes files and parameters and gives back files and a JSON result; it knows no database."""

import time
from typing import Any

from huey import SqliteHuey

from kovel.media.child import Cancelled, call
from kovel.media.files import Unusable
from kovel.store.db import in_words


class Queue:
    """Hands jobs to workers, hears how far they are, tells them to stop."""

    def __init__(self, path: str) -> None:
        self.huey = SqliteHuey("kovel", filename=path, results=True, store_none=True)
        self._task = self.huey.task(name="kovel-job")(self._work)

    def put(self, key: str, name: str, params: dict[str, Any]) -> None:
        """Queue a media call under a key of the caller's choice."""
        self.huey.enqueue(self._task.s(key, name, params, id=key))

    def progress(self, key: str) -> float | None:
        told: float | None = self.huey.get(f"progress {key}", peek=True)
        return told

    def cancel(self, key: str) -> None:
        self.huey.put(f"cancel {key}", time.time())

    def result(self, key: str) -> dict[str, Any] | None:
        """{"result"}, {"unusable"} or {"cancelled"} once finished; it stays until `forget`."""
        ended: dict[str, Any] | None = self.huey.result(key, preserve=True)
        return ended

    def forget(self, key: str) -> None:
        """Its result has been applied, or counts no more."""
        self.huey.result(key)
        self.huey.get(f"progress {key}")
        self.huey.get(f"cancel {key}")

    def clear(self) -> None:
        """Forget all: the job rows in the database are the truth, and are queued again."""
        self.huey.storage.flush_all()

    def _work(self, key: str, name: str, params: dict[str, Any]) -> dict[str, Any]:
        def stop() -> bool:
            return self.huey.get(f"cancel {key}", peek=True) is not None

        try:
            return {"result": call(name, params, lambda x: self.huey.put(f"progress {key}", x), stop)}
        except Unusable as e:
            return {"unusable": str(e)}
        except Cancelled:
            return {"cancelled": True}
        except Exception as e:  # a job that fails in an unforeseen way must still end
            told = in_words(e)
            return {"unusable": str(told) if told else f"Something unforeseen went wrong ({type(e).__name__}). Try again."}
