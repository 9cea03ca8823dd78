"""Who may talk to the server: host and origin checks, upload limit, access key or cookie, strict content policy."""

from __future__ import annotations

import hashlib
import hmac
import secrets
import time
from http.cookies import CookieError, SimpleCookie
from urllib.parse import urlsplit

from starlette.middleware.body_limit import RequestBodyLimitMiddleware
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from tidy_caravan.server.problems import answer
from tidy_caravan.server.settings import Settings

POLICY = (
    "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; script-src 'self'; "
    "connect-src 'self' blob:; worker-src 'self' blob:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'"
)
HEADERS = [
    (b"content-security-policy", POLICY.encode()),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"x-frame-options", b"DENY"),
]
LOCAL = {"127.0.0.1", "localhost", "::1"}
COOKIE = "caravan-access"
COOKIE_SECONDS = 30 * 24 * 3600
OPEN = ("/api/sign-in", "/api/sign-out")
"""The only calls that need no key; the pages themselves hold nothing secret."""


def same_key(given: bytes, key: str) -> bool:
    """In constant time, byte by byte, so that a key may hold any character."""
    return bool(key) and hmac.compare_digest(given, key.encode("utf-8", "surrogatepass"))


def token_for(key: str, now: float | None = None) -> str:
    """A cookie's value: end of its life, a nonce, and the key's signature of both. A new key ends all old ones."""
    ends, nonce = str(int((time.time() if now is None else now) + COOKIE_SECONDS)), secrets.token_hex(16)
    return f"{ends}.{nonce}.{_signature(key, ends, nonce)}"


def good_token(token: str, key: str, now: float | None = None) -> bool:
    pieces = token.split(".")
    if len(pieces) != 3 or not pieces[0].isascii() or not pieces[0].isdigit() or len(pieces[0]) > 12:
        return False
    ends, nonce, signature = pieces
    fresh = int(ends) > (time.time() if now is None else now)
    return fresh and hmac.compare_digest(signature.encode("utf-8", "replace"), _signature(key, ends, nonce).encode())


def _signature(key: str, ends: str, nonce: str) -> str:
    secret = b"caravan-cookie:" + key.encode("utf-8", "surrogatepass")
    return hmac.new(hashlib.sha256(secret).digest(), f"{ends}.{nonce}".encode(), "sha256").hexdigest()


def body_limit(settings: Settings) -> int:
    """Bytes of a request: an upload and what a form puts around it."""
    return settings.upload_bytes + (1 << 20)


def too_large(settings: Settings) -> str:
    return f"The upload is larger than {settings.upload_bytes >> 20} MiB. Send the scene in smaller pieces."


class Guard:
    """ASGI middleware. A page of another origin cannot drive a server on loopback, nor a renamed host."""

    def __init__(self, app: ASGIApp, settings: Settings) -> None:
        self.app, self.settings = RequestBodyLimitMiddleware(app, body_limit(settings)), settings

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        raw = {k.lower(): v for k, v in scope["headers"]}
        headers = {k.decode("latin-1"): v.decode("latin-1") for k, v in raw.items()}

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                message["headers"] = [*message.get("headers", []), *HEADERS]
            await send(message)

        refusal = self._refuse(scope, headers, raw)
        if refusal is not None:
            await answer(*refusal)(scope, receive, with_headers)
            return
        await self.app(scope, receive, with_headers)

    def _refuse(
        self, scope: Scope, headers: dict[str, str], raw: dict[bytes, bytes]
    ) -> tuple[int, str, str, str] | None:
        host = host_in(headers.get("host", ""))
        allowed = LOCAL if self.settings.loopback else {*LOCAL, self.settings.host}
        if host not in allowed and not (not self.settings.loopback and self.settings.host in ("0.0.0.0", "::")):
            return (
                421, "host.unknown", "This server does not answer under that name. Use the address it printed.",
                host[:200],
            )  # fmt: skip
        origin = headers.get("origin", "")
        if origin and origin != "null" and place_of(origin) != headers.get("host", ""):
            return 403, "origin.foreign", "A page of another origin may not use this server.", origin[:200]
        if origin == "null" and scope["method"] not in ("GET", "HEAD"):
            return 403, "origin.foreign", "A page without origin may not change anything here.", "null"
        path = str(scope.get("path", ""))
        if (
            not self.settings.loopback
            and path.startswith("/api")
            and path not in OPEN
            and not self._known(headers, raw)
        ):
            return (
                401,
                "access.key",
                "Sign in with the access key, or send it as “Authorization: Bearer …”.",
                "authorization",
            )
        length = headers.get("content-length", "")
        if length.isascii() and length.isdigit() and (len(length) > 18 or int(length) > body_limit(self.settings)):
            return 413, "upload.too-large", too_large(self.settings), "upload"
        return None

    def _known(self, headers: dict[str, str], raw: dict[bytes, bytes]) -> bool:
        given = raw.get(b"authorization", b"")
        if given.lower().startswith(b"bearer ") and same_key(given[7:], self.settings.access_key):
            return True
        try:
            cookie = SimpleCookie(headers.get("cookie", "")).get(COOKIE)
        except CookieError:
            return False
        return cookie is not None and good_token(cookie.value, self.settings.access_key)


def host_in(header: str) -> str:
    """Name in a Host header without its port; empty for a broken one."""
    try:
        return urlsplit(f"//{header}").hostname or ""
    except ValueError:
        return ""


def place_of(origin: str) -> str:
    """Host and port of an Origin header; empty for a broken one, which is nobody's."""
    try:
        return urlsplit(origin).netloc
    except ValueError:
        return ""
