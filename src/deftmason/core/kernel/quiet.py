"""The kernel reports every transfer on standard output, which belongs to the program's own answers: it is told not
to."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager

from OCP.Message import Message, Message_PrinterOStream

__all__ = ["hushed", "without_words"]


def hushed() -> None:
    """Take the kernel's printer off; asked again, nothing happens."""
    Message.DefaultMessenger_s().RemovePrinters(Message_PrinterOStream.get_type_descriptor_s())


@contextmanager
def without_words() -> Iterator[None]:
    """While this lasts, nothing the kernel writes to standard output by itself comes out."""
    sys.stdout.flush()
    kept, nothing = os.dup(1), os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nothing, 1)
        yield
    finally:
        os.dup2(kept, 1)
        os.close(kept)
        os.close(nothing)
