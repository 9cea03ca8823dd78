"""Errors as problem documents (RFC 9457): stable code, a sentence that says what to do, and the place."""

from __future__ import annotations

import logging
import uuid
from typing import Any

import psycopg
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from sqlalchemy.exc import DataError, IntegrityError, OperationalError
from starlette.exceptions import HTTPException

from tidy_caravan.core.errors import BadRoute, CaravanError, TooLarge, UnusableInput
from tidy_caravan.server.faults import disk_full

log = logging.getLogger("tidy_caravan.server")
SENTENCES = {
    400: "The request cannot be read. Send it again as the API describes it.",
    404: "There is nothing at this address.",
    405: "This address does not take that method.",
}
TOO_LARGE = "The upload is larger than this server takes. Send the scene in smaller pieces."


class Problem(Exception):
    """Raise anywhere in a route to answer with a problem document."""

    def __init__(self, status: int, code: str, title: str, where: str = "") -> None:
        super().__init__(title)
        self.status, self.code, self.title, self.where = status, code, title, where


def sayable(text: str) -> str:
    """Text that can be sent: lone surrogates and zero characters are replaced."""
    return text.encode("utf-8", "replace").decode("utf-8").replace("\0", "�")


def answer(status: int, code: str, title: str, where: str = "", headers: dict[str, str] | None = None) -> Response:
    body: dict[str, Any] = {
        "type": f"urn:tidy-caravan:{code}",
        "status": status,
        "code": code,
        "title": sayable(title),
        "where": sayable(where),
    }
    return JSONResponse(body, status_code=status, media_type="application/problem+json", headers=headers)


def install(app: FastAPI) -> None:
    """Every way a request can fail ends in a problem document."""

    @app.exception_handler(Problem)
    async def problem(request: Request, error: Problem) -> Response:
        return answer(error.status, error.code, error.title, error.where)

    @app.exception_handler(CaravanError)
    async def caravan(request: Request, error: CaravanError) -> Response:
        status = 413 if isinstance(error, TooLarge) else 422 if isinstance(error, (UnusableInput, BadRoute)) else 400
        return answer(status, error.code, error.what, error.where)

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> Response:
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"])
        if first["loc"][:1] == ("path",):  # an address that cannot be one is as good as one that is gone
            return answer(404, "not-found", SENTENCES[404], place)
        return answer(422, "request.invalid", f"{first['msg']}. Correct it and send again.", place)

    @app.exception_handler(HTTPException)
    async def http(request: Request, error: HTTPException) -> Response:
        if full := disk_full(error):  # a form's pieces that the temporary folder did not take
            return answer(507, full["code"], full["title"], full["where"])
        if error.status_code == 413:  # the body grew over the limit while it came in
            return answer(413, "upload.too-large", TOO_LARGE, "upload")
        codes = {404: "not-found", 405: "method-not-allowed"}
        return answer(
            error.status_code,
            codes.get(error.status_code, "http"),
            SENTENCES.get(error.status_code, str(error.detail)),
            request.url.path[:300],
            dict(error.headers or {}),
        )

    @app.exception_handler(IntegrityError)
    async def conflict(request: Request, error: IntegrityError) -> Response:
        return answer(
            409, "conflict", "It was changed or deleted at the same moment. Reload and try again.", request.url.path
        )

    @app.exception_handler(OperationalError)
    async def database(request: Request, error: OperationalError) -> Response:
        if full := disk_full(error):
            return answer(507, full["code"], full["title"], full["where"])
        return answer(
            503, "database.unavailable", "The database does not answer. Start the application again.", "database"
        )

    @app.exception_handler(DataError)
    @app.exception_handler(psycopg.DataError)
    async def impossible(request: Request, error: Exception) -> Response:
        return answer(
            422, "request.invalid", "A number or text in the request is more than can be kept. Correct it.",
            request.url.path[:300],
        )  # fmt: skip

    @app.exception_handler(OSError)
    async def disk(request: Request, error: OSError) -> Response:
        if full := disk_full(error):
            return answer(507, full["code"], full["title"], full["where"])
        return unexpected(request, error)

    @app.exception_handler(Exception)
    async def anything(request: Request, error: Exception) -> Response:
        return unexpected(request, error)


def unexpected(request: Request, error: Exception) -> Response:
    entry = uuid.uuid4().hex[:8]
    log.error("entry %s: unexpected fault at %s", entry, request.url.path[:300], exc_info=error)
    return answer(
        500, "server.fault", f"An unexpected fault. Nothing was changed; the log has it as entry {entry}.",
        request.url.path[:300],
    )  # fmt: skip
