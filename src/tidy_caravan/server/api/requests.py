"""How requests are taken in: strict JSON, forms with many files, and the route class that sees to both."""

from __future__ import annotations

from collections.abc import Callable, Coroutine
from typing import Any

import orjson
from fastapi import APIRouter, Request, Response
from fastapi.routing import APIRoute

MOST_FILES = 20_000
"""Files of one drop; a folder of more is sent as a zip."""


class StrictRequest(Request):
    """JSON as RFC 8259 has it: no NaN, no infinities, no lone surrogates, no numbers beyond 64 bits."""

    async def json(self) -> Any:
        if not hasattr(self, "_json"):
            self._json = orjson.loads(await self.body())  # its error is a JSONDecodeError, which ends as a 422
        return self._json

    def form(self, **limits: Any) -> Any:
        return super().form(**{**limits, "max_files": MOST_FILES + 1, "max_fields": MOST_FILES + 100})


class StrictRoute(APIRoute):
    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        original = super().get_route_handler()

        async def handler(request: Request) -> Response:
            return await original(StrictRequest(request.scope, request.receive))

        return handler


def router(prefix: str, tag: str) -> APIRouter:
    """A router whose routes take requests in this way."""
    return APIRouter(prefix=prefix, tags=[tag], route_class=StrictRoute)
