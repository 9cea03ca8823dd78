"""Who may talk to the server: host and origin checks, upload limit, access key, strict content policy."""

from __future__ import annotations

import hmac
from urllib.parse import urlsplit

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


class Guard:
    """ASGI middleware. A page of another origin cannot drive a server on loopback, nor a renamed host."""

    def __init__(self, app: ASGIApp, settings: Settings) -> None:
        self.app, self.settings = app, settings

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = {k.decode("latin-1").lower(): v.decode("latin-1") for k, v in scope["headers"]}
        refusal = self._refuse(scope, headers)
        if refusal is not None:
            await answer(*refusal)(scope, receive, send)
            return
        limit, seen = self.settings.upload_bytes + (1 << 20), 0

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > limit:
                raise UploadTooLarge
            return message

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                message["headers"] = [*message.get("headers", []), *HEADERS]
            await send(message)

        try:
            await self.app(scope, counted, with_headers)
        except UploadTooLarge:
            await answer(413, "upload.too-large", self._limit_text(), "upload")(scope, receive, with_headers)

    def _limit_text(self) -> str:
        return f"The upload is larger than {self.settings.upload_bytes >> 20} MiB. Send the scene in smaller pieces."

    def _refuse(self, scope: Scope, headers: dict[str, str]) -> tuple[int, str, str, str] | None:
        host = urlsplit(f"//{headers.get('host', '')}").hostname or ""
        allowed = LOCAL if self.settings.loopback else {*LOCAL, self.settings.host}
        if host not in allowed and not (not self.settings.loopback and self.settings.host in ("0.0.0.0", "::")):
            return 421, "host.unknown", "This server does not answer under that name. Use the address it printed.", host
        origin = headers.get("origin", "")
        if origin and origin != "null" and urlsplit(origin).netloc != headers.get("host", ""):
            return 403, "origin.foreign", "A page of another origin may not use this server.", origin[:200]
        if origin == "null" and scope["method"] not in ("GET", "HEAD"):
            return 403, "origin.foreign", "A page without origin may not change anything here.", "null"
        if not self.settings.loopback:
            given = headers.get("authorization", "").removeprefix("Bearer ")
            if not hmac.compare_digest(given.encode(), self.settings.access_key.encode()):
                return 401, "access.key", "Send the access key as “Authorization: Bearer …”.", "authorization"
        length = headers.get("content-length", "")
        if length.isdigit() and int(length) > self.settings.upload_bytes + (1 << 20):
            return 413, "upload.too-large", self._limit_text(), "upload"
        return None


class UploadTooLarge(Exception):
    """The body grew over the limit while it came in."""
