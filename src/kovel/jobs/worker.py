"""A worker process: `python -m kovel.jobs.worker QUEUE COUNT`. Ends when its standard input closes."""

import logging
import os
import sys
import threading

from huey.consumer import Consumer

from kovel.jobs.call_queue import on_this_machine
from kovel.media.fork_server import stand_by


class Quiet(Consumer):  # type: ignore[misc]  # huey says nothing of its types
    """Huey's consumer without signal handlers: it lives and dies with its parent."""

    def _set_signal_handlers(self) -> None:
        pass


def main() -> None:
    os.dup2(2, 1)  # nobody reads what it prints
    stand_by()
    logging.getLogger("huey").setLevel(logging.ERROR)
    consumer = Quiet(
        on_this_machine(sys.argv[1]).huey, workers=int(sys.argv[2]), initial_delay=0.05, max_delay=0.3, periodic=False
    )
    threading.Thread(target=lambda: (sys.stdin.read(), os._exit(0)), daemon=True).start()
    consumer.start()
    threading.Event().wait()


if __name__ == "__main__":
    main()
