"""Signing in where an access key is asked for: the key once, then a strict cookie that scripts cannot read."""

from __future__ import annotations

from fastapi import Request, Response
from pydantic import BaseModel, ConfigDict, Field

from tidy_caravan.server.api.context import StateDep
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.problems import Problem
from tidy_caravan.server.security import COOKIE, COOKIE_SECONDS, same_key, token_for

router = new_router("/api", "access")


class SignIn(BaseModel):
    """The access key, whatever characters it holds."""

    model_config = ConfigDict(extra="forbid")

    key: str = Field(max_length=4096)


@router.post("/sign-in", status_code=204)
def sign_in(body: SignIn, state: StateDep, request: Request, response: Response) -> None:
    """Gives the cookie for the right key. Not needed where the server only answers on loopback."""
    if not same_key(body.key.encode("utf-8", "surrogatepass"), state.settings.access_key):
        raise Problem(401, "access.key", "That is not the access key of this server.", "key")
    response.set_cookie(
        COOKIE,
        token_for(state.settings.access_key),
        max_age=COOKIE_SECONDS,
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
        path="/",
    )


@router.post("/sign-out", status_code=204)
def sign_out(response: Response) -> None:
    """Takes the cookie back."""
    response.delete_cookie(COOKIE, path="/", httponly=True, samesite="strict")
