"""An engine's own loop: take a request, work on it, answer; ended by its pool when it crashes, hangs or outgrows its
memory.

Messages over the pipe are tuples. To the engine: ``("ask", name, arguments)`` and ``("stop",)``. From it:
``("progress", share,
message)``, ``("begun", key, name)``, then one of ``("done", answer)``, ``("refused", error)`` and ``("wrong", what,
traceback)``.
"""

from __future__ import annotations

import importlib
import os
import resource
import signal
import traceback
from multiprocessing.connection import Connection

from deftmason.core.errors import BadInput, Cancelled, MasonError

from ..parent import die_with_parent
from .desk import WORK, Desk

__all__ = ["serve"]

_SLACK = 1_500_000_000  # bytes of private mappings beyond the limit on what is resident: thread stacks, reserved arenas
_SHORT = (
    "This needs more memory than one piece of work may take; use a smaller or coarser scan, or ask for less at once."
)


def _bounded(memory: int) -> None:
    """End with the process that started this one; refuse allocations far beyond the limit instead of filling the
    machine.
    """
    die_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_DATA, (memory + _SLACK, memory + _SLACK))


def serve(pipe: Connection, folder: str, memory: int, also: tuple[str, ...] = ()) -> None:
    """Work for whoever holds the other end of the pipe, until it is closed; ``also``: modules with more that may be
    asked.
    """
    from . import work  # noqa: F401  everything that may be asked

    for module in also:
        importlib.import_module(module)
    _bounded(memory)
    desk = Desk(folder)

    def progress(share: float, message: str = "") -> None:
        if pipe.poll(0):
            pipe.recv()  # the one thing said to an engine at work is to stop
            raise Cancelled()
        pipe.send(("progress", share, message))

    desk.progress = progress
    desk.begun = lambda key, name: pipe.send(("begun", key, name))
    while True:
        try:
            said = pipe.recv()
        except (EOFError, OSError):
            os._exit(0)
        if said[0] != "ask":
            continue  # a stop that came after the answer
        try:
            answer = ("done", WORK[said[1]](desk, **said[2]))
        except MasonError as e:
            answer = ("refused", e)
        except MemoryError:
            answer = ("refused", BadInput(_SHORT))
        except Exception as e:
            answer = ("wrong", type(e).__name__, traceback.format_exc())
        try:
            pipe.send(answer)
        except (BrokenPipeError, OSError):
            os._exit(0)
