"""Who may talk to Kovel: only pages it served itself, under a name it answers to, and off this machine only with a passphrase."""

import hmac
import ipaddress
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.responses import PlainTextResponse, RedirectResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

CSP = (
    "default-src 'none'; script-src 'self'; style-src-elem 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:; "
    "media-src 'self' blob:; font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
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
        refusal: Response | None = self._refusal(scope, headers)
        if refusal is None and self.passphrase:
            request = Request(scope, receive)
            open_path = scope["path"] == "/login" or scope["path"].startswith("/static/")
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
        if urlsplit(origin).netloc.lower() != host.lower():
            return PlainTextResponse("That request came from another site and was not carried out.", 403)
        return None


def _numeric(name: str) -> bool:
    try:
        ipaddress.ip_address(name.strip("[]"))
    except ValueError:
        return False
    return True


def right(passphrase: str, typed: str) -> bool:
    return hmac.compare_digest(passphrase.encode(), typed.encode())
