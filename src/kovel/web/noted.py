"""What is noted of requests: one line of JSON for each that failed or was slow, with a number that its answer carries too."""

import json
import logging
import time
from logging.handlers import RotatingFileHandler
from pathlib import Path
from uuid import uuid4

from starlette.types import ASGIApp, Message, Receive, Scope, Send

SLOW = 1.0  # seconds
BIG, KEPT = 2_000_000, 3  # bytes of a file of lines, and how many are kept


def notebook(folder: Path) -> logging.Logger:
    """Lines of JSON in kovel.log of a folder; nothing that was typed or sent is in them."""
    log = logging.getLogger(f"kovel {folder}")
    log.setLevel(logging.INFO)
    log.propagate = False
    if not log.handlers:
        try:
            folder.mkdir(exist_ok=True)
            log.addHandler(RotatingFileHandler(folder / "kovel.log", maxBytes=BIG, backupCount=KEPT, delay=True))
        except OSError:
            log.addHandler(logging.NullHandler())
    return log


class Noted:
    """ASGI middleware: numbers each answer (`x-request-id`), notes those that failed or were slow."""

    def __init__(self, app: ASGIApp, log: logging.Logger) -> None:
        self.app, self.log = app, log

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        number, began, status, failed = uuid4().hex[:12], time.monotonic(), 0, ""

        async def numbered(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                message["headers"] = [*message["headers"], (b"x-request-id", number.encode())]
            await send(message)

        try:
            await self.app(scope, receive, numbered)
        except Exception as e:
            failed = f"{type(e).__name__} at {_where(e)}"
            raise
        finally:
            took = time.monotonic() - began
            if failed or status >= 500 or took > SLOW:
                line = {
                    "at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), "request": number, "method": scope["method"],
                    "path": scope["path"][:300], "status": status or 500, "ms": round(1000 * took), **({"failed": failed} if failed else {}),
                }  # fmt: skip
                self.log.info(json.dumps(line))


def _where(e: BaseException) -> str:
    """The place of ours at which something failed."""
    at = ""
    tb = e.__traceback__
    while tb:
        name = tb.tb_frame.f_globals.get("__name__", "")
        if name.startswith("kovel.") and name != __name__:
            at = f"{name}:{tb.tb_lineno}"
        tb = tb.tb_next
    return at
