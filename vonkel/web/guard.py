"""What keeps other sites and other machines out: Host and Origin checks, size caps, headers."""

from __future__ import annotations

import base64
import hashlib
import json
from urllib.parse import urlsplit

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ..core.tolerances import MAX_FILE_BYTES

IMPORT_MAP = json.dumps(
    {
        "imports": {
            "preact": "/static/vendor/preact/preact.js",
            "three": "/static/vendor/three/three.module.js",
            "three/loader": "/static/vendor/three/loaders/GLTFLoader.js",
            "three/orbit": "/static/vendor/three/controls/OrbitControls.js",
        }
    }
)
_MAP_HASH = base64.b64encode(hashlib.sha256(IMPORT_MAP.encode()).digest()).decode()

OURS = {"127.0.0.1", "localhost", "::1"}
MAX_BODY = MAX_FILE_BYTES + 1024 * 1024
MAX_JSON = 4 * 1024 * 1024
POLICY = (
    "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; script-src 'self' "
    f"'sha256-{_MAP_HASH}'; connect-src 'self' ws://127.0.0.1:* ws://localhost:*; frame-ancestors 'none'; base-uri 'none'"
)
HEADERS = (
    (b"content-security-policy", POLICY.encode()),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-resource-policy", b"same-origin"),
)


def _host(value: str) -> str:
    try:
        return urlsplit(f"//{value}").hostname or ""
    except ValueError:
        return ""


def _netloc(origin: str) -> str:
    try:
        found = urlsplit(origin)
    except ValueError:
        return ""
    return found.netloc if found.scheme in ("http", "https") else ""


def most(scope: Scope) -> int:
    """The most bytes that a request of this kind may bring: files may be large, what is typed and dragged may not."""
    kind = next((v for k, v in scope["headers"] if k == b"content-type"), b"")
    return MAX_BODY if kind.lower().startswith(b"multipart/form-data") else MAX_JSON


def allowed(scope: Scope) -> str:
    """Why a request is refused, or nothing.

    Host must be a loopback name: a page elsewhere whose name was pointed at this machine is thereby refused.
    Origin, where a browser sends it, must be the page's own.
    """
    headers = {k: v.decode("latin-1") for k, v in scope["headers"]}
    host = headers.get(b"host", "")
    if _host(host) not in OURS:
        return "Vonkel only answers to this machine."
    origin = headers.get(b"origin")
    if origin is not None and _netloc(origin) != host:
        return "Vonkel only answers to its own pages."
    return ""


class Guard:
    """ASGI middleware for requests and sockets alike."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await self.app(scope, receive, send)
            return
        refused = allowed(scope)
        if refused and scope["type"] == "websocket":
            await receive()
            await send({"type": "websocket.close", "code": 4403, "reason": refused})
            return
        if scope["type"] == "http":
            length = next((v for k, v in scope["headers"] if k == b"content-length"), b"0")
            cap = most(scope)
            if refused or not length.isdigit() or int(length) > cap:
                what = refused or "That is more than Vonkel takes at once."
                await _answer(send, 403 if refused else 413, what)
                return

            async def with_headers(message: Message) -> None:
                if message["type"] == "http.response.start":
                    message["headers"] = [*message.get("headers", []), *HEADERS]
                await send(message)

            await self.app(scope, self._capped(receive, cap), with_headers)
            return
        await self.app(scope, receive, send)

    @staticmethod
    def _capped(receive: Receive, cap: int) -> Receive:
        """Bodies without a stated length are cut off at the cap too."""
        seen = 0

        async def inner() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > cap:
                return {"type": "http.disconnect"}
            return message

        return inner


async def _answer(send: Send, status: int, what: str) -> None:
    body = json.dumps({"error": {"what": what, "where": "", "todo": ""}}).encode()
    await send({"type": "http.response.start", "status": status, "headers": [(b"content-type", b"application/json")]})
    await send({"type": "http.response.body", "body": body})
