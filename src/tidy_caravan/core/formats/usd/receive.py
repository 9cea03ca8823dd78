"""Stand-in receiver of OpenUSD: the library runs in a child process, which reads the package anew each time."""

from __future__ import annotations

from pathlib import Path

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import CaravanError, UnusableInput
from tidy_caravan.core.formats.shared.pace import heard
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.work.isolation import Child, Lost

JOB = "tidy_caravan.core.formats.usd.native.received:read"
SECONDS, BYTES_A_SECOND = 60.0, 200_000


def receive_usd(file: Path, destination: Destination, fmt: FormatName, tell: Tell = nobody) -> Scene:
    """Raises UnusableInput when the library cannot read it, in our words."""
    child = Child()
    try:
        limit = SECONDS + file.stat().st_size / BYTES_A_SECOND
        answer = child.call(JOB, (str(file), destination.file_convention(fmt)), limit, heard(tell))
    finally:
        child.stop()
    if isinstance(answer, Lost):
        raise UnusableInput(
            "the receiver cannot read it: the file is cut short or damaged; pack again"
            if answer.raised
            else f"the receiver's library failed on it: {answer.reason}",
            where=file.name,
            code="arrival.unreadable",
        )
    if not isinstance(answer, Scene):
        raise CaravanError("the receiver gave no scene", where=file.name, code="arrival.unreadable")
    return answer
