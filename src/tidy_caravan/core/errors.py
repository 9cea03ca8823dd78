"""The errors that a person may see: each says what is wrong, where, and what to do."""

from __future__ import annotations


class CaravanError(Exception):
    """Base of every error with a sentence for the user.

    `code` is stable and machine-readable, `where` names the place (file, accessor, step).
    """

    code = "caravan.error"

    def __init__(self, what: str, *, where: str = "", code: str | None = None) -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        if code:
            self.code = code

    def sentence(self) -> str:
        """The whole message in one line."""
        text = f"{self.where}: {self.what}" if self.where else self.what
        return " ".join(text.split())

    def __reduce__(self) -> tuple[object, ...]:
        return _rebuild, (type(self), self.what, self.where, self.code)


def _rebuild(kind: type[CaravanError], what: str, where: str, code: str) -> CaravanError:
    return kind(what, where=where, code=code)


class UnusableInput(CaravanError):
    """Nothing can be made of the input."""

    code = "input.unusable"


class TooLarge(UnusableInput):
    """The input, or what it unpacks to, is over the limits."""

    code = "input.too-large"


class BadRoute(CaravanError):
    """A route, step or selector that cannot be run."""

    code = "route.invalid"


class Cancelled(CaravanError):
    """The user stopped the work."""

    code = "job.cancelled"
