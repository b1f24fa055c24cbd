"""Who may talk to Kovel: only pages it served itself, under a name it answers to, and off this machine only with a passphrase."""

import hashlib
import hmac
import ipaddress
import re
import threading
import time
from collections import deque
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import PlainTextResponse, RedirectResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

CSP = (
    "default-src 'none'; script-src 'self'; style-src-elem 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:; "
    "media-src 'self' blob:; font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
MB = 1_000_000
BODY = 2 * MB  # of a form or an edit
BODIES = (  # of what brings files: (address, most bytes; None: as much as the disk takes)
    (re.compile(r"/p/\d+/footage/upload|/projects\.in"), None),
    (re.compile(r"/p/\d+/sound/voice\S*"), 1000 * MB),
    (re.compile(r"/p/\d+/\S+"), 40 * MB),
)
FILES = "multipart/form-data"
LOCAL = {"127.0.0.1", "localhost", "[::1]"}


class Guard:
    """ASGI middleware: Host and Origin checks, security headers, passphrase."""

    def __init__(self, app: ASGIApp, hosts: set[str], passphrase: str | None) -> None:
        """`hosts`: further names it answers to; "*": under any numeric address, which no other site can take over."""
        self.app, self.hosts, self.passphrase = app, LOCAL | {h.lower() for h in hosts}, passphrase

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        receive = _counted(receive, _most(scope["path"], headers.get("content-type", "")), headers)
        refusal: Response | None = self._refusal(scope, headers)
        if refusal is None and self.passphrase:
            request = Request(scope, receive)
            open_path = scope["path"] in ("/login", "/health") or scope["path"].startswith("/static/")
            if not open_path and request.session.get("in") is not True:
                refusal = (
                    RedirectResponse("/login", 303) if scope["method"] == "GET" else PlainTextResponse("Sign in first.", 401)
                )

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                extra = {
                    "content-security-policy": CSP, "x-content-type-options": "nosniff", "referrer-policy": "same-origin",
                    "x-frame-options": "DENY", "cross-origin-opener-policy": "same-origin", "cross-origin-resource-policy": "same-origin",
                }  # fmt: skip
                message["headers"] = [*message["headers"], *((k.encode(), v.encode()) for k, v in extra.items())]
            await send(message)

        await (refusal or self.app)(scope, receive, with_headers)

    def _refusal(self, scope: Scope, headers: Headers) -> PlainTextResponse | None:
        host = headers.get("host", "")
        name = (host if host.endswith("]") else host.rsplit(":", 1)[0] if ":" in host else host).lower().removesuffix(".")
        if name not in self.hosts and not ("*" in self.hosts and _numeric(name)):
            return PlainTextResponse(
                f"Kovel does not answer to the name {name[:80]!r}. Open it under the address it printed when it started.", 421
            )
        if scope["method"] in ("GET", "HEAD", "OPTIONS"):
            return None
        origin = headers.get("origin")
        if origin is None:
            # no browser leaves out Origin on such a request from another site; programs send this header instead
            return (
                None
                if headers.get("x-kovel")
                else PlainTextResponse("Requests that change something need an Origin or an X-Kovel header.", 403)
            )
        try:
            came_from = urlsplit(origin).netloc.lower()
        except ValueError:
            came_from = ""
        if came_from != host.lower():
            return PlainTextResponse("That request came from another site and was not carried out.", 403)
        return None


def _most(path: str, kind: str) -> int | None:
    """Bytes that a request may bring."""
    if not kind.startswith(FILES):
        return BODY
    return next((most for at, most in BODIES if at.fullmatch(path)), BODY)


def _counted(receive: Receive, most: int | None, headers: Headers) -> Receive:
    """Refuses, while it comes, a body larger than that: nothing of it is read further, whatever its head says."""
    if most is None:
        return receive
    told = headers.get("content-length", "0")
    got = int(told) if told.isdecimal() and len(told) < 16 else most + 1
    if got > most:
        return _refused(most)
    got = 0

    async def counted() -> Message:
        nonlocal got
        message = await receive()
        got += len(message.get("body", b""))
        if got > most:
            raise _too_much(most)
        return message

    return counted


def _refused(most: int) -> Receive:
    async def refused() -> Message:
        raise _too_much(most)

    return refused


def _too_much(most: int) -> HTTPException:
    return HTTPException(413, f"That is more than {most / MB:g} MB, the most that can be taken here. Nothing was changed.")


class Tries:
    """Wrong passphrases: so many a minute from one address, and from all; more have to wait."""

    ONE, ALL, WITHIN = 6, 40, 60.0

    def __init__(self) -> None:
        self._wrong: deque[tuple[float, str]] = deque(maxlen=10_000)
        self._lock = threading.Lock()

    def wait(self, address: str) -> int:
        """Seconds until this address may try again; 0 for now."""
        now = time.monotonic()
        with self._lock:
            while self._wrong and now - self._wrong[0][0] > self.WITHIN:
                self._wrong.popleft()
            own = [t for t, a in self._wrong if a == address]
            until = [own[-self.ONE]] if len(own) >= self.ONE else []
            until += [self._wrong[-self.ALL][0]] if len(self._wrong) >= self.ALL else []
        return max((round(t + self.WITHIN - now) + 1 for t in until), default=0)

    def failed(self, address: str) -> None:
        with self._lock:
            self._wrong.append((time.monotonic(), address))


def signing(secret: str, passphrase: str) -> str:
    """What signs the cookie: with another passphrase every old one is void."""
    return hmac.new(secret.encode(), passphrase.encode(), hashlib.sha256).hexdigest()


def _numeric(name: str) -> bool:
    try:
        ipaddress.ip_address(name.strip("[]"))
    except ValueError:
        return False
    return True


def right(passphrase: str, typed: str) -> bool:
    return hmac.compare_digest(passphrase.encode(), typed.encode())
