"""What every engine holds from its first moment: loaded once, shared by all that are forked from it."""

from . import child, work  # noqa: F401
