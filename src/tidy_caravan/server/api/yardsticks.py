"""Yardsticks: made for a destination and format, answered by stand-ins, read into a destination."""

from __future__ import annotations

import datetime
import io
import zipfile
from urllib.parse import quote

from fastapi import Response

from tidy_caravan.core.arrival.habits import HABITS, answer_of, habit_named, yardstick_files
from tidy_caravan.core.conventions.yardstick import Answers, Reading, read_answers
from tidy_caravan.core.formats.registry import format_named
from tidy_caravan.server.api.context import SessionDep, destination_named
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import AnswerRequest, HabitOut, ReadRequest

router = new_router("/api/yardstick", "yardstick")
FIXED_TIME = (1980, 1, 1, 0, 0, 0)


@router.get("/habits")
def habits() -> list[HabitOut]:
    """The stand-in receivers, good and bad."""
    return [HabitOut(name=h.name, title=h.title) for h in HABITS]


@router.get("/{destination}/{fmt}", response_class=Response)
def download_yardstick(destination: str, fmt: str, session: SessionDep) -> Response:
    """The yardstick's files; one file as it is, several as a zip."""
    target = destination_named(session, destination)
    files = yardstick_files(target, fmt)
    if len(files) == 1:
        name, data = next(iter(files.items()))
        kind = "application/octet-stream"
    else:
        body = io.BytesIO()
        with zipfile.ZipFile(body, "w", zipfile.ZIP_DEFLATED) as archive:
            for path, content in files.items():
                archive.writestr(zipfile.ZipInfo(path, FIXED_TIME), content)
        name, data, kind = f"yardstick-{fmt}.zip", body.getvalue(), "application/zip"
    return Response(data, media_type=kind, headers={"Content-Disposition": f'attachment; filename="{quote(name)}"'})


@router.post("/answer")
def answer_for(request: AnswerRequest, session: SessionDep) -> Answers:
    """What a stand-in with that habit shows of the yardstick."""
    target = destination_named(session, request.destination)
    return answer_of(habit_named(request.habit), target, request.format)


@router.post("/read")
def read(request: ReadRequest, session: SessionDep) -> Reading:
    """What follows from the answers; the destination in it can be kept under a name of its own."""
    target = destination_named(session, request.destination)
    format_named(request.format)
    return read_answers(target, request.format, request.answers, datetime.date.today().isoformat())
