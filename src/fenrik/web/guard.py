"""Stands before every request: who may ask, how much may be sent, and what a browser may do with the answers.

Fenrik has no passwords; it serves the machine it runs on, and names that it was told. A page of another
origin must neither change anything nor read anything through a visitor's browser: the Host header is checked
against other names that lead here (as a hostile name server can arrange), Origin and Sec-Fetch-Site against
requests that other pages send.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, MutableMapping
from typing import Any
from urllib.parse import urlsplit

from starlette.types import ASGIApp, Message, Receive, Scope, Send

LOOPBACK = ("localhost", "127.0.0.1", "[::1]")
MAX_URL = 2000
MAX_BODY = 16_000_000
MAX_UPLOAD = 450_000_000
UPLOADS = ("/part", "/files", "/import")
READING = ("GET", "HEAD", "OPTIONS")

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:;"
    " font-src 'self' data:; connect-src 'self'; worker-src 'self' blob:; manifest-src 'self'; base-uri "
    "'none'; form-action 'none'; frame-ancestors 'none'"
)
HEADERS = {
    "content-security-policy": POLICY,
    "x-content-type-options": "nosniff",
    "x-frame-options": "DENY",
    "referrer-policy": "no-referrer",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
    "permissions-policy": "camera=(), microphone=(), geolocation=(), usb=(), payment=()",
}


class Guard:
    """Refuses what must not come in; everything else goes through with the security headers on its answer.
    `hosts` are the names, besides the loopback's, under which Fenrik may be reached."""

    def __init__(self, app: ASGIApp, hosts: Iterable[str] = ()) -> None:
        self.app = app
        self.hosts = frozenset(h.lower() for h in (*LOOPBACK, *hosts))

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """One request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]}
        refusal = self._refusal(scope, headers)
        if refusal is not None:
            await _refuse(send, *refusal)
            return
        bounded = _Bounded(receive, send, limit_of(scope["path"]))
        await self.app(scope, bounded.receive, bounded.send)

    def _refusal(
        self, scope: MutableMapping[str, Any], headers: dict[str, str]
    ) -> tuple[int, str, str] | None:
        if len(scope.get("raw_path") or b"") + len(scope.get("query_string") or b"") > MAX_URL:
            return 414, f"The address has more than {MAX_URL} characters.", "Shorten it."
        host = headers.get("host", "")
        if name_of(host) not in self.hosts:
            remedy = "Open Fenrik under the address that it printed; other names are given by FENRIK_HOSTS."
            return 421, f"Fenrik is not reached as '{host[:100]}'.", remedy
        site = headers.get("sec-fetch-site", "same-origin")
        if scope["path"].startswith("/api") and site not in ("same-origin", "none"):
            return 403, "Another page asked for this.", "Open Fenrik itself."
        origin = headers.get("origin")
        if scope["method"] not in READING and origin is not None and not _same(origin, host):
            return 403, f"A page of '{origin[:100]}' asked for this change.", "Make it in Fenrik itself."
        length = headers.get("content-length", "0")
        if not length.isdigit() or int(length) > limit_of(scope["path"]):
            return 413, *_too_large(limit_of(scope["path"]))
        return None


def name_of(host: str) -> str:
    """The name in a Host header, without its port."""
    name, colon, port = host.lower().rpartition(":")
    return name if colon and port.isdigit() else host.lower()


def limit_of(path: str) -> int:
    """How many bytes a request to a path may carry."""
    return MAX_UPLOAD if path.startswith("/api/") and path.endswith(UPLOADS) else MAX_BODY


def _same(origin: str, host: str) -> bool:
    try:
        parts = urlsplit(origin)
    except ValueError:
        return False
    return parts.scheme in ("http", "https") and parts.netloc.lower() == host.lower()


def _too_large(limit: int) -> tuple[str, str]:
    return f"The request carries more than {limit / 1e6:.0f} MB.", "Send less at a time."


class _Bounded:
    """Counts a request's body while it streams; over the limit the answer is a refusal, whatever else would
    be sent."""

    def __init__(self, receive: Receive, send: Send, limit: int) -> None:
        self._receive, self._send, self._limit = receive, send, limit
        self._taken, self._refused, self._begun = 0, False, False

    async def receive(self) -> Message:
        """The next piece of the body."""
        if self._refused:
            return {"type": "http.disconnect"}
        message = await self._receive()
        self._taken += len(message.get("body", b""))
        if self._taken > self._limit and not self._begun:
            self._refused = True
            await _refuse(self._send, 413, *_too_large(self._limit))
            return {"type": "http.disconnect"}
        return message

    async def send(self, message: Message) -> None:
        """Passes an answer on, with the security headers."""
        if self._refused:
            return
        if message["type"] == "http.response.start":
            self._begun = True
            given = {name.lower() for name, _ in message.get("headers", [])}
            more = [(k.encode(), v.encode()) for k, v in HEADERS.items() if k.encode() not in given]
            message = {**message, "headers": [*message.get("headers", []), *more]}
        await self._send(message)


async def _refuse(send: Send, status: int, what: str, remedy: str) -> None:
    fault = {"code": "refused", "what": what, "remedy": remedy, "where": ""}
    body = json.dumps({"error": fault, "message": f"{what} {remedy}"}).encode()
    headers = {
        "content-type": "application/json",
        "content-length": str(len(body)),
        "connection": "close",
        **HEADERS,
    }
    await send(
        {
            "type": "http.response.start",
            "status": status,
            "headers": [(k.encode(), v.encode()) for k, v in headers.items()],
        }
    )
    await send({"type": "http.response.body", "body": body})
