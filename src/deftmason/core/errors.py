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

    def __reduce__(self):
        # A refusal travels between processes whole, whatever its class takes.
        return _again, (type(self), self.message, self.field, self.code, self.hint)


class BadArgument(MasonError):
    """The arguments are wrong (the command's exit status 2)."""

    def __init__(self, message: str, *, field: str | None = None, hint: str | None = None):
        super().__init__(message, field=field, code="bad_argument", hint=hint)


class BadInput(MasonError):
    """The input file or geometry is unusable (the command's exit status 3)."""

    def __init__(self, message: str, *, field: str | None = None, hint: str | None = None):
        super().__init__(message, field=field, code="bad_input", hint=hint)


class NoRoom(MasonError):
    """The disk has no room for it."""

    def __init__(self, message: str = "The disk is full; make room on it and do this again. What was saved is kept."):
        super().__init__(message, code="no_room")


class DeviceGone(MasonError):
    """A capture device is not there, or does not answer."""

    def __init__(self, message: str):
        super().__init__(message, code="device")


class Cancelled(MasonError):
    """The user asked for the work to stop."""

    def __init__(self) -> None:
        super().__init__("Stopped as asked; nothing was changed.", code="cancelled")


def _again(kind: type[MasonError], message: str, field: str | None, code: str, hint: str | None) -> MasonError:
    e = kind.__new__(kind)
    MasonError.__init__(e, message, field=field, code=code, hint=hint)
    return e
