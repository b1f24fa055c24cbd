"""Who may talk to Kovel: only pages it served itself, under a name it answers to, and off this machine only with a
passphrase."""

from __future__ import annotations

import hashlib
import hmac
import ipaddress
import re
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable
from secrets import token_urlsafe
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import PlainTextResponse, RedirectResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

CSP = (
    "default-src 'none'; script-src 'self'; style-src-elem 'self'; style-src-attr 'unsafe-inline'; "
    "img-src 'self' data:; "
    "media-src 'self' blob:; font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; "
    "frame-ancestors 'none'"
)
MB = 1_000_000
BODY = 2 * MB  # of a form or an edit
BODIES = (  # of what brings files: (address, most bytes; None: as much as the disk takes)
    (re.compile(r"/p/\d+/footage/upload|/projects\.in"), None),
    (re.compile(r"/p/\d+/sound/voice\S*"), 1000 * MB),
    (re.compile(r"/p/\d+/\S+"), 40 * MB),
)
FILES = "multipart/form-data"
HOST = re.compile(
    r"(?P<name>\[[0-9a-fA-F:.]+\]|[A-Za-z0-9._-]+)(?::\d{1,5})?"
)  # a name or address, and a port: nothing else (RFC 9110)
LOCAL = {"127.0.0.1", "localhost", "[::1]"}


class Guard:
    """ASGI middleware: Host and Origin checks, security headers, passphrase."""

    def __init__(
        self, application: ASGIApp, hosts: set[str], passphrase: str | None, sessions: Sessions | None = None
    ) -> None:
        """`sessions`: who is signed in, where there is a passphrase. `hosts`: further names it answers to; "*":
        under any numeric address, which no other site can take over."""
        self.app, self.hosts, self.passphrase, self.sessions = (
            application,
            LOCAL | {host.lower() for host in hosts},
            passphrase,
            sessions,
        )

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
            if not open_path and not (self.sessions and self.sessions.is_open(request.session.get("in"))):
                refusal = (
                    RedirectResponse("/login", 303)
                    if scope["method"] == "GET"
                    else PlainTextResponse("Sign in first.", 401)
                )

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                extra = {
                    "content-security-policy": CSP,
                    "x-content-type-options": "nosniff",
                    "referrer-policy": "same-origin",
                    "x-frame-options": "DENY",
                    "cross-origin-opener-policy": "same-origin",
                    "cross-origin-resource-policy": "same-origin",
                }
                message["headers"] = [
                    *message["headers"],
                    *((name.encode(), value.encode()) for name, value in extra.items()),
                ]
            await send(message)

        await (refusal or self.app)(scope, receive, with_headers)

    def _refusal(self, scope: Scope, headers: Headers) -> PlainTextResponse | None:
        host = headers.get("host", "")
        named = HOST.fullmatch(host)
        name = named["name"].lower().removesuffix(".") if named else ""
        if name not in self.hosts and not ("*" in self.hosts and _numeric(name)):
            return PlainTextResponse(
                f"Kovel does not answer to the name {host[:80]!r}. "
                "Open it under the address it printed when it started.",
                421,
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
    told_length = headers.get("content-length", "0")
    got = int(told_length) if told_length.isdecimal() and len(told_length) < 16 else most + 1
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
    return HTTPException(
        413, f"That is more than {most / MB:g} MB, the most that can be taken here. Nothing was changed."
    )


class Tries:
    """Wrong passphrases: so many a minute from one address, more have to wait. Many from many addresses slow down
    every try, and lock nobody out: whoever knows the passphrase gets in."""

    ONE, ALL, WITHIN = 6, 40, 60.0
    SLOWER = 2.0  # seconds that each try takes then

    def __init__(self) -> None:
        self._wrong: deque[tuple[float, str]] = deque(maxlen=10_000)
        self._lock = threading.Lock()

    def wait(self, address: str) -> int:
        """Seconds until this address may try again; 0 for now."""
        now = time.monotonic()
        with self._lock:
            while self._wrong and now - self._wrong[0][0] > self.WITHIN:
                self._wrong.popleft()
            own_tries = [t for t, a in self._wrong if a == address]
        return round(own_tries[-self.ONE] + self.WITHIN - now) + 1 if len(own_tries) >= self.ONE else 0

    def pause(self) -> float:
        """Seconds that a try takes longer just now, whoever makes it."""
        with self._lock:
            return self.SLOWER if len(self._wrong) >= self.ALL else 0.0

    def failed(self, address: str) -> None:
        """Notes a wrong passphrase from an address."""
        with self._lock:
            self._wrong.append((time.monotonic(), address))


class Sessions:
    """Who is signed in: a number each, drawn by chance, in the cookie; here only its hash. A cookie that was noted
    before somebody signed out is worth nothing afterwards. Kept by `save`, so that a restart signs nobody out."""

    MOST = 500

    def __init__(self, kept: Iterable[str], save: Callable[[list[str]], None]) -> None:
        self._open, self._save, self._lock = list(kept), save, threading.Lock()

    def open(self) -> str:
        """A new one; what is to stand in its cookie."""
        token = token_urlsafe(32)
        with self._lock:
            self._open = [*self._open, _hashed(token)][-self.MOST :]
            self._save(self._open)
        return token

    def close(self, token: object) -> None:
        """Ends a session."""
        with self._lock:
            self._open = [text for text in self._open if text != _hashed(token)]
            self._save(self._open)

    def is_open(self, token: object) -> bool:
        """Whether a token belongs to a session that is open."""
        return isinstance(token, str) and _hashed(token) in self._open


def _hashed(token: object) -> str:
    return hashlib.sha256(str(token).encode("utf-8", "replace")).hexdigest()


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
