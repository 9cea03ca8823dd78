"""Live progress as server-sent events (WHATWG HTML, 9.2)."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator

import orjson
from fastapi import Request
from fastapi.responses import StreamingResponse

from tidy_caravan.server.api.context import StateDep
from tidy_caravan.server.api.requests import router as new_router

router = new_router("/api", "events")


@router.get("/events", response_class=StreamingResponse)
async def events(request: Request, state: StateDep, haul: str = "") -> StreamingResponse:
    """Job events of one haul or of all; a comment now and then keeps the line open."""
    queue: asyncio.Queue[dict[str, object]] = asyncio.Queue(maxsize=256)

    async def stream() -> AsyncIterator[bytes]:
        state.bus.queues.add(queue)
        try:
            yield b"retry: 1000\n: connected\n\n"
            while not state.manager.stopping.is_set():
                try:
                    event = await asyncio.wait_for(queue.get(), 1.0)
                except TimeoutError:
                    if await request.is_disconnected():
                        return
                    yield b": still here\n\n"
                    continue
                if not haul or event.get("haul") == haul:
                    yield b"event: job\ndata: " + orjson.dumps(event) + b"\n\n"
        finally:
            state.bus.queues.discard(queue)

    return StreamingResponse(
        stream(), media_type="text/event-stream", headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    )
