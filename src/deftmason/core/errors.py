"""The one way the core refuses: a sentence for a person, and which input it is about."""

from __future__ import annotations


class MasonError(Exception):
    """Something asked for cannot be done; nothing was changed.

    Parameters
    ----------
    message : one sentence: what happened, why, what to do.
    field : name of the input it is about, if one.
    code : short machine word, kept stable for clients.
    """

    def __init__(self, message: str, *, field: str | None = None, code: str = "refused", hint: str | None = None):
        super().__init__(message)
        self.message, self.field, self.code, self.hint = message, field, code, hint


class BadArgument(MasonError):
    """The arguments are wrong (the command's exit status 2)."""

    def __init__(self, message: str, *, field: str | None = None, hint: str | None = None):
        super().__init__(message, field=field, code="bad_argument", hint=hint)


class BadInput(MasonError):
    """The input file or geometry is unusable (the command's exit status 3)."""

    def __init__(self, message: str, *, field: str | None = None, hint: str | None = None):
        super().__init__(message, field=field, code="bad_input", hint=hint)


class Cancelled(MasonError):
    """The user asked for the work to stop."""

    def __init__(self) -> None:
        super().__init__("Stopped as asked; nothing was changed.", code="cancelled")
