"""Notebooks beside the data: a line of JSON for each thing that is worth looking up later, in files that are kept
small."""

import json
import logging
import time
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any

BIG, KEPT = 2_000_000, 3  # bytes of a file of lines, and how many are kept


class Lines(RotatingFileHandler):
    """What cannot be written, for the disk is full, is let go without a word."""

    def handleError(self, record: logging.LogRecord) -> None:
        """A notebook that cannot be written holds up nothing."""
        pass


def notebook(folder: Path, name: str = "kovel.log") -> logging.Logger:
    """Lines in a file of a folder; where it cannot be written they are let go."""
    log = logging.getLogger(f"kovel {folder} {name}")
    log.setLevel(logging.INFO)
    log.propagate = False
    if not log.handlers:
        try:
            folder.mkdir(exist_ok=True)
            log.addHandler(Lines(folder / name, maxBytes=BIG, backupCount=KEPT, delay=True))
        except OSError:
            log.addHandler(logging.NullHandler())
    return log


def note(log: logging.Logger, **what: Any) -> None:
    """One line, with when it was."""
    log.info(json.dumps({"at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), **what}, ensure_ascii=False))
