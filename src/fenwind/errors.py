"""The family of errors that a user can meet: what happened, where, and what to do about it."""

from __future__ import annotations

import re
import traceback
from collections.abc import Mapping
from pathlib import Path

#: Letters of a message, and of a word in it, that somebody will read.
LONGEST, LONGEST_WORD = 900, 200


def elided(text: str) -> str:
    """A text whose words are cut in the middle where no person would read them, as what a damaged file holds
    in one cell."""
    if len(text) <= LONGEST_WORD:
        return text
    half = LONGEST_WORD // 2
    text = re.sub(
        rf"\S{{{LONGEST_WORD + 1},}}", lambda found: f"{found[0][:half]} … {found[0][-half:]}", text
    )
    return text if len(text) <= LONGEST else f"{text[:LONGEST]} …"


class FenwindError(Exception):
    """Root of all expected errors.

    Parameters: message, one sentence that says what is wrong; hint, one sentence that starts with a verb
    and says what to do; where, the place in words (file, line, field or mark), empty when there is none;
    marks, the names or ids of marks that stand in message or hint, so that ids can be told as names.
    """

    def __init__(self, message: str, *, hint: str, where: str = "", marks: tuple[str, ...] = ()) -> None:
        message = elided(message)
        super().__init__(message)
        self.message, self.hint, self.where, self.marks = message, hint, where, marks

    def with_names(self, names: Mapping[str, str]) -> FenwindError:
        """The same with the names of marks for their ids."""
        if not self.marks:
            return self
        told = type(self).__new__(type(self), *self.args)
        told.__dict__ |= self.__dict__
        longest_first = sorted(set(self.marks), key=len, reverse=True)
        whole = re.compile(rf"(?<!\w)({'|'.join(map(re.escape, longest_first))})(?!\w)")
        told.message = whole.sub(lambda found: names.get(found[0], found[0]), self.message)
        told.hint = whole.sub(lambda found: names.get(found[0], found[0]), self.hint)
        told.marks = tuple(names.get(key, key) for key in self.marks)
        return told

    def __str__(self) -> str:
        return f"{self.where}: {self.message}" if self.where else self.message

    @property
    def one_line(self) -> str:
        """Place, message and hint on one line, as the command line prints it."""
        return f"{self}. {self.hint}".replace("\n", " ")

    @property
    def sentences(self) -> str:
        """The same as sentences, for where they stand alone."""
        text = self.one_line
        return f"{text[:1].upper()}{text[1:]}{'' if text.endswith('.') else '.'}"


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


class JobBusyError(JobError):
    """The job is open in another window or by another command."""


class DamagedJobError(JobError):
    """A job file is not what was written; a part of it may be intact."""


class StepError(FenwindError):
    """A step ended in an exception that nobody foresaw: a fault of the application, told so that it can be
    reported; what does not stand on the step is there all the same."""

    @classmethod
    def of(cls, error: Exception) -> StepError:
        """The error of a step that raised `error`, with the place in the code for a report."""
        frames = traceback.extract_tb(error.__traceback__)
        place = f", {Path(frames[-1].filename).name} line {frames[-1].lineno}" if frames else ""
        said = " ".join(str(error).split()) or "no words"
        return cls(
            f"this step failed: {said} ({type(error).__name__}{place})",
            hint="Send these words and a copy of the job to whoever maintains Fenwind; "
            "all that does not stand on this step is there",
        )
