"""What is noted of requests: a line for each that failed or was slow, with a number that its answer carries too;
nothing that was typed or sent."""

import logging
import time
from uuid import uuid4

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from kovel.jobs.log_files import note

SLOW = 1.0  # seconds


class Noted:
    """ASGI middleware: numbers each answer (`x-request-id`), notes those that failed or were slow."""

    def __init__(self, application: ASGIApp, log: logging.Logger) -> None:
        self.app, self.log = application, log

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
        except Exception as error:
            failed = f"{type(error).__name__} at {_where(error)}"
            raise
        finally:
            took = time.monotonic() - began
            if failed or status >= 500 or took > SLOW:
                line = {
                    "request": number,
                    "method": scope["method"],
                    "path": scope["path"][:300],
                    "status": status or 500,
                }
                note(self.log, **line, ms=round(1000 * took), **({"failed": failed} if failed else {}))


def _where(error: BaseException) -> str:
    """The place of ours at which something failed."""
    at = ""
    tb = error.__traceback__
    while tb:
        name = tb.tb_frame.f_globals.get("__name__", "")
        if name.startswith("kovel.") and name != __name__:
            at = f"{name}:{tb.tb_lineno}"
        tb = tb.tb_next
    return at
