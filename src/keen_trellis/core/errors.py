"""The one family of errors that a user may meet: what happened, where, and what to do."""

from __future__ import annotations


class TrellisError(Exception):
    """Something that cannot be done as asked.

    what: one sentence, in the user's words.  where: file, sheet, field, row or step, or "".
    remedy: what to do about it, or "".  exit_code: what the command line returns for it.  option: what lets
    it through on the command line, or "".
    """

    exit_code = 1
    option = ""

    def __init__(self, what: str, *, where: str = "", remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.remedy = remedy

    def __str__(self) -> str:
        head = f"{self.where}: {self.what}" if self.where else self.what
        return f"{head} {self.remedy}".strip()


class UsageError(TrellisError):
    """The request itself is wrong: an unknown field, a link that names nothing."""

    exit_code = 2


class UnknownFieldError(UsageError):
    """A field is named that the table does not have. name: the field.  near: fields whose names are alike."""

    def __init__(self, name: str, table: str, *, near: tuple[str, ...] = (), remedy: str = "") -> None:
        super().__init__(f"There is no field “{name}” in {table}.", remedy=remedy)
        self.name = name
        self.near = near


class GuardError(TrellisError):
    """A guard does not hold."""

    exit_code = 3


class SourceError(TrellisError):
    """A source cannot be read, or has changed its shape."""

    exit_code = 4


class OutputError(TrellisError):
    """An output cannot be written."""

    exit_code = 5


class FlowFileError(TrellisError):
    """A flow file is invalid, or newer than this program."""

    exit_code = 6


class DataError(TrellisError):
    """The data cannot be computed as set: types that never match, or a result that is too large."""

    exit_code = 7


class Cancelled(Exception):
    """The work was stopped because the user asked for it."""
