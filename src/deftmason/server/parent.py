"""Processes that end with the one that started them, however that ended."""

from __future__ import annotations

import ctypes
import os
import signal

__all__ = ["die_with_parent"]

_DIE_WITH_PARENT = 1  # prctl(2), PR_SET_PDEATHSIG


def die_with_parent() -> None:
    """Be killed when the process that started this one is gone (Linux)."""
    before = os.getppid()
    ctypes.CDLL(None, use_errno=True).prctl(_DIE_WITH_PARENT, signal.SIGKILL)
    if os.getppid() != before:  # it went in between
        os._exit(1)
