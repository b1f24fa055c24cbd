"""Pieces of pictures that a page asks for before they are made: a child of its own, kept warm, makes them at once.

What was asked for last comes first: somebody who scrubs is already elsewhere. The child is ended when nobody has
asked for a while, and begun anew after so many pieces, so that no limit of it is ever met.
"""

import contextlib
import json
import threading
import time
from pathlib import Path
from typing import Any

from kovel.media.fork_server import Process, begin
from kovel.media.pieces import place

IDLE = 60.0  # seconds without a request after which the child is ended
MANY = 400  # pieces after which it is begun anew
CPU, MEMORY = 3600, 6 << 30
LOST = 30.0  # seconds a piece may take
ASKED = 1.5  # seconds after which a request that nobody repeats is forgotten


class Now:
    """Ask with `want` as long as it is wanted; it is there once its file is."""

    def __init__(self) -> None:
        self._wanted: dict[
            tuple[int, int], tuple[float, dict[str, Any]]
        ] = {}  # asked for: when last, and how it is made
        self._failed: dict[tuple[int, int], float] = {}
        self._wake = threading.Condition()
        self._thread: threading.Thread | None = None
        self._child: Process | None = None
        self._stopped = False

    def warm(self) -> None:
        """Somebody has opened a recording that is not made: be ready."""
        with self._wake:
            if self._thread is None and not self._stopped:
                self._thread = threading.Thread(target=self._run, name="pieces on demand", daemon=True)
                self._thread.start()
            self._wake.notify()

    def want(self, params: dict[str, Any], number: int) -> bool:
        """Ask, or go on asking, for a piece; False if it cannot be made."""
        piece_key = (int(params["recording"]), number)
        with self._wake:
            if self._failed.get(piece_key, 0.0) > time.monotonic() - 5:
                return False
            self._wanted[piece_key] = (time.monotonic(), params)
        self.warm()
        return True

    def let_go(self, recording: int, number: int) -> None:
        """Nobody waits for this piece any more."""
        with self._wake:
            self._wanted.pop((recording, number), None)

    def stop(self) -> None:
        """Ends, with the child that makes pieces."""
        with self._wake:
            self._stopped = True
            self._wake.notify()
        self._end()

    def _next(self) -> tuple[tuple[int, int], dict[str, Any]] | None:
        """The request that came last; those nobody repeats are forgotten."""
        old = time.monotonic() - ASKED
        self._wanted = {
            key: value
            for key, value in self._wanted.items()
            if value[0] > old and not place(Path(value[1]["out"]), key[1]).exists()
        }
        if not self._wanted:
            return None
        newest = list(self._wanted)[-1]
        near = min(
            wanted_piece for wanted_piece in self._wanted if wanted_piece[0] == newest[0]
        )  # of those of one recording, the first
        piece_key = near if newest[1] - near[1] <= 3 else newest
        return piece_key, self._wanted[piece_key][1]

    def _run(self) -> None:
        pieces_made, idle = 0, time.monotonic()
        while not self._stopped:
            if self._child is None or self._child.poll() is not None:
                self._child, pieces_made = self._begin(), 0
            with self._wake:
                job = self._next()
                if job is None:
                    if time.monotonic() - idle > IDLE:
                        self._end()
                        self._thread = None
                        return
                    self._wake.wait(0.5)
                    continue
            idle = time.monotonic()
            piece_key, params = job
            if not self._make(params, piece_key[1]):
                with self._wake:
                    self._failed[piece_key] = time.monotonic()
                    self._wanted.pop(piece_key, None)
            pieces_made += 1
            if pieces_made >= MANY:
                self._end()
        self._end()

    def _begin(self) -> Process:
        module = "kovel.media.piecemaker"
        return begin(module, [str(CPU), str(MEMORY)], [module, "av"])

    def _make(self, params: dict[str, Any], number: int) -> bool:
        """One piece by the child; False if it could not, or took too long (it is ended then)."""
        child = self._child
        assert child and child.stdin and child.stdout
        timer = threading.Timer(LOST, child.kill)
        timer.start()
        try:
            child.stdin.write(
                json.dumps(
                    {
                        **{param_name: params[param_name] for param_name in ("path", "out", "rate", "frames")},
                        "piece": number,
                    }
                )
                + "\n"
            )
            child.stdin.flush()
            answer = child.stdout.readline()
            return bool(answer) and bool(json.loads(answer).get("made"))
        except (OSError, ValueError):
            return False
        finally:
            timer.cancel()

    def _end(self) -> None:
        child, self._child = self._child, None
        if child is None:
            return
        with contextlib.suppress(OSError):
            child.kill()
            child.wait(5)
