"""The application: routes, guards, problem documents, the built front end."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI
from fastapi.responses import FileResponse, Response
from fastapi.routing import APIRoute

from tidy_caravan import __version__
from tidy_caravan.server import problems
from tidy_caravan.server.api import (
    access,
    deliveries,
    destinations,
    events,
    hauls,
    library,
    light,
    loading,
    places,
    prices,
    scenes,
    yardsticks,
)
from tidy_caravan.server.api.context import State
from tidy_caravan.server.api.schemas import ProblemOut
from tidy_caravan.server.security import Guard
from tidy_caravan.server.settings import Settings


def operation_id(route: APIRoute) -> str:
    return route.name


def create_app(settings: Settings, work: bool = True) -> FastAPI:
    """The ASGI application. Without `work` no cluster is started (schema generation, route tests)."""
    state = State(settings) if settings.database else None

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        if state is not None and work:
            state.bus.loop = asyncio.get_running_loop()
            state.manager.start()
        yield
        if state is not None and work:
            # a plain thread: while the interpreter ends no pool takes new work
            stopper = threading.Thread(target=state.manager.stop)
            stopper.start()
            while stopper.is_alive():
                await asyncio.sleep(0.05)

    app = FastAPI(
        title="Tidy Caravan",
        version=__version__,
        lifespan=lifespan,
        generate_unique_id_function=operation_id,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
        responses={code: {"model": ProblemOut, "content": {"application/problem+json": {}}} for code in ("4XX", "5XX")},
    )
    app.state.caravan = state
    problems.install(app)
    for module in (access, hauls, scenes, places, loading, light, prices, deliveries, destinations, library, yardsticks,
                   events):  # fmt: skip
        app.include_router(module.router)
    app.add_middleware(Guard, settings=settings)

    @app.api_route("/api/{rest:path}", methods=["GET", "POST", "PUT", "PATCH", "DELETE"], include_in_schema=False)
    def unknown(rest: str) -> Response:
        return problems.answer(404, "not-found", "There is nothing at this address.", f"/api/{rest}"[:300])

    @app.get("/{rest:path}", include_in_schema=False)
    def page(rest: str) -> Response:
        """Files of the built front end; every other address is one of its screens."""
        top = settings.web.resolve()
        try:
            target = (top / rest).resolve()
            there = bool(rest) and target.is_relative_to(top) and target.is_file()
        except (OSError, ValueError):  # names that no file system takes
            return problems.answer(404, "not-found", "There is nothing at this address.", f"/{rest}"[:300])
        if not there and (rest.startswith("assets/") or "." in rest.rsplit("/", 1)[-1]):
            return problems.answer(404, "not-found", "There is no such file in the front end.", f"/{rest}"[:300])
        if there:
            lasting = "public, max-age=31536000, immutable" if rest.startswith("assets/") else "no-cache"
            return FileResponse(target, headers={"Cache-Control": lasting})
        index = top / "index.html"
        if not index.is_file():
            return problems.answer(
                503, "web.not-built", "The front end is not built. Start with ./run demo.", "web/dist"
            )
        return FileResponse(index, headers={"Cache-Control": "no-cache"})

    return app
