"""The family of errors that a user can meet: what happened, where, and what to do about it."""

from __future__ import annotations


class FenwindError(Exception):
    """Root of all expected errors.

    Parameters: message, one sentence that says what is wrong; hint, one sentence that starts with a verb and
    says what to do; where, the place in words (file, line, field or mark), empty when there is none.
    """

    def __init__(self, message: str, *, hint: str, where: str = "") -> None:
        super().__init__(message)
        self.message, self.hint, self.where = message, hint, where

    def __str__(self) -> str:
        return f"{self.where}: {self.message}" if self.where else self.message

    @property
    def one_line(self) -> str:
        """Place, message and hint on one line, as the command line prints it."""
        return f"{self}. {self.hint}".replace("\n", " ")


class ParseError(FenwindError, ValueError):
    """A text that a person typed could not be read as the quantity expected."""


class FormatError(FenwindError, ValueError):
    """A file or clipboard text could not be read."""


class FrameError(FenwindError, ValueError):
    """A coordinate frame is unknown, or an operation in it is not defined."""


class EstimationError(FenwindError, ArithmeticError):
    """A least-squares system could not be solved."""


class DatumDefectError(EstimationError):
    """Some unknowns are not determined by the observations; `parameters` names them."""

    def __init__(self, message: str, *, hint: str, parameters: tuple[str, ...], where: str = "") -> None:
        super().__init__(message, hint=hint, where=where)
        self.parameters = parameters


class ProcedureError(FenwindError, ValueError):
    """A computation lacks what it needs."""


class JobError(FenwindError, OSError):
    """A job file could not be opened, read or written."""
