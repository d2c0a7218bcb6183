"""The pool of engines: starts them, gives each request one, watches its time and memory, and replaces those that end.

A job's requests go to the engine that worked on it last while that one is free, so that what it holds stays hot.
Engines are forked from a
process that has only loaded the core (`multiprocessing`'s fork server), so a new one is there in a few hundredths of a
second.
"""

from __future__ import annotations

import contextlib
import logging
import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Callable
from typing import Any

from deftmason.core.errors import Cancelled, MasonError
from deftmason.core.progress import Progress, silent
from deftmason.core.recipe.store import ResultStore

from .child import serve
from .turns import Turn, Turns

__all__ = ["Busy", "Pool", "TooLong", "default_memory"]

log = logging.getLogger(__name__)

_GRACE = 1.0  # seconds an engine that was asked to stop has before it is ended
_LOOK = 0.1  # seconds between two looks at an engine's memory
_MANNERS = 30.0  # seconds of heavy work after which others who wait come first
_BROKE = (signal.SIGSEGV, signal.SIGABRT, signal.SIGFPE, signal.SIGBUS, signal.SIGILL)
_MOST_BROKEN = 6  # steps of one recipe that may end an engine before it is given up
_PAGE = os.sysconf("SC_PAGE_SIZE")


class Busy(MasonError):
    """No engine was free in time; asking again later helps."""

    def __init__(self) -> None:
        super().__init__("Everything here is at work just now; try again in a moment.", code="busy")


class TooLong(MasonError):
    """The work was stopped because it took longer than it may."""

    def __init__(self, message: str):
        super().__init__(message, code="too_long")


class _Lost(Exception):
    """The engine ended under the work. ``key`` and ``name`` are of the step in hand, if one was; ``why`` a sentence's
    middle.
    """

    def __init__(self, why: str, key: str | None, name: str | None, own_fault: bool, fresh: bool):
        self.why, self.key, self.name, self.own_fault, self.fresh = why, key, name, own_fault, fresh


def default_memory() -> int:
    """Bytes one engine may hold: a third of the machine's memory, at least 1.2 GB and at most 12 GB."""
    given = os.environ.get("DEFT_MASON_ENGINE_MEMORY")
    if given:
        return int(float(given) * 1e6)
    return int(min(max(os.sysconf("SC_PHYS_PAGES") * _PAGE / 3, 1.2e9), 12e9))


class _Engine:
    """One engine process and the pipe to it."""

    def __init__(self, context, folder: str, memory: int, also: tuple[str, ...]):
        self.pipe, theirs = context.Pipe()
        self.process = context.Process(target=serve, args=(theirs, folder, memory, also), daemon=True)
        self.process.start()
        theirs.close()
        self.jobs: list[Any] = []
        self.fresh = True

    def resident(self) -> int:
        """Bytes of memory that are this process's own (mapped files are not)."""
        try:
            with open(f"/proc/{self.process.pid}/statm") as f:
                words = f.read().split()
            return (int(words[1]) - int(words[2])) * _PAGE
        except (OSError, IndexError):
            return 0

    def end(self) -> int | None:
        """End it now, if it has not ended; its exit code (minus the signal's number)."""
        self.process.join(0.2 if self.pipe.closed else 0)
        self.process.kill()
        self.process.join(5)
        self.pipe.close()
        return self.process.exitcode


class Pool:
    """``count`` engines at most, working on the results under ``folder``; ``also``: modules with more that may be
    asked.
    """

    def __init__(self, folder: str, count: int | None = None, memory: int | None = None, also: tuple[str, ...] = ()):
        self.folder, self.memory, self.also = folder, memory or default_memory(), also
        self.turns = Turns(count or max(4, (os.cpu_count() or 2) + 2))
        self.store = ResultStore(os.path.join(folder, "results"), 600)
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["deftmason.server.engines.preload"])
        self._free: list[_Engine] = []
        self._at_work = 0
        self._lock = threading.Lock()

    # Asking.

    def ask(
        self,
        asked_for: str,
        /,
        *,
        job: Any = None,
        person: str = "",
        limit: float | None = 8.0,
        heavy: bool = False,
        told: Progress = silent,
        stopped: Callable[[], bool] = lambda: False,
        **arguments: Any,
    ) -> Any:
        """Have an engine do ``asked_for`` (a name of `desk.WORK`) with these arguments and wait for its answer.

        Parameters
        ----------
        job, person : whose work it is: where it stays hot, whose turn it takes.
        limit : seconds it may take, its wait for a turn included; None for any time.  heavy : it may take long: others
            who wait come first after a while.
        told : is told how far the work is.  stopped : whether it is still wanted.

        Raises
        ------
        Busy, TooLong, Cancelled, and whatever the work itself refuses.
        """
        until = None if limit is None else time.monotonic() + limit
        turn = self.turns.take(person, heavy, limit or 600.0, stopped)
        if turn is None:
            raise Cancelled() if stopped() else Busy()
        try:
            fresh = False
            for _ in range(_MOST_BROKEN):
                try:
                    return self._once_through(turn, asked_for, job, until, told, stopped, arguments, fresh)
                except _Lost as lost:
                    fresh = True
                    if lost.own_fault and not lost.fresh:
                        # what it had done before may be to blame: once more, by an engine that did nothing yet
                        continue
                    if lost.key is None or not lost.own_fault:
                        raise MasonError(
                            f"The work was ended: {lost.why}. Nothing was changed; try again.", code="ended"
                        ) from None
                    # The step in hand cannot be worked out: that is its result, and the rest goes on without it.
                    self.store.save_failure(
                        lost.key,
                        f"'{lost.name}' could not be worked out: {lost.why}. Change its sizes or picks a little.",
                        broke=True,
                    )
            raise MasonError(
                "Too many steps of this recipe cannot be worked out; switch the failed ones off.", code="ended"
            )
        finally:
            self.turns.give(turn)

    def warm(self) -> None:
        """Have one engine there before anybody asks."""
        with contextlib.suppress(MasonError):
            self.ask("ready", limit=60.0)

    def close(self) -> None:
        """End the engines that are free."""
        with self._lock:
            free, self._free = self._free, []
        for e in free:
            e.end()

    # An engine's work.

    def _engine(self, job: Any, fresh: bool) -> _Engine:
        """The engine that worked on the job last, else a new one while there is room, else the one idle longest."""
        with self._lock:
            self._free = [e for e in self._free if e.process.is_alive()]
            mine = next((e for e in reversed(self._free) if job in e.jobs), None)
            if fresh or (mine is None and len(self._free) + self._at_work < self.turns.count):
                if fresh and self._free and len(self._free) + self._at_work >= self.turns.count:
                    self._free.pop(0).end()
                chosen = _Engine(self._context, self.folder, self.memory, self.also)
            else:
                chosen = mine or self._free[0]
                self._free.remove(chosen)
            self._at_work += 1
            return chosen

    def _back(self, engine: _Engine, job: Any) -> None:
        engine.jobs = [*[j for j in engine.jobs if j != job], job][-3:]
        engine.fresh = False
        full = engine.resident() > self.memory / 2
        with self._lock:
            self._at_work -= 1
            if not full:
                self._free.append(engine)
        if full:  # what it keeps hot leaves too little room for the next piece of work
            engine.end()

    def _gone(self, engine: _Engine) -> None:
        engine.end()
        with self._lock:
            self._at_work -= 1

    def _once_through(self, turn: Turn, name: str, job, until, told, stopped, arguments, fresh: bool) -> Any:
        engine = self._engine(job, fresh)
        try:
            try:
                engine.pipe.send(("ask", name, arguments))
            except OSError:
                raise _Lost("its process was stopped from outside", None, None, True, engine.fresh) from None
            answer = self._followed(engine, turn, until, told, stopped)
        except BaseException:
            self._gone(engine)
            raise
        self._back(engine, job)
        if answer[0] == "refused":
            raise answer[1]
        if answer[0] == "wrong":
            log.error("An engine failed at %s:\n%s", name, answer[2])
            raise MasonError(f"Something went wrong inside ({answer[1]}); nothing was changed.", code="inside")
        return answer[1]

    def _followed(self, engine: _Engine, turn: Turn, until: float | None, told, stopped) -> tuple:
        """The engine's last word. Raises `_Lost`, `TooLong` or `Cancelled` with the engine no longer to be used."""
        begin, ending, in_hand = time.monotonic(), None, (None, None)
        too_long = False
        while True:
            looked = time.monotonic()
            try:
                while engine.pipe.poll(_LOOK if ending is None else 0.02):
                    said = engine.pipe.recv()
                    if said[0] == "progress":
                        if ending is None:
                            told(said[1], said[2])
                    elif said[0] == "begun":
                        in_hand = said[1:]
                    elif too_long and said[0] == "refused":
                        raise TooLong(_TOO_LONG if turn.heavy else _TOO_MUCH)
                    else:
                        return said
                    if time.monotonic() - looked > _LOOK:  # however much it tells, it is looked at
                        break
            except (EOFError, OSError, ConnectionError):
                code = engine.end()
                own = code is not None and -code in _BROKE
                raise _Lost(
                    "the geometry kernel broke down on it" if own else "its process was stopped from outside",
                    *in_hand,
                    own,
                    engine.fresh,
                ) from None
            spent = time.monotonic() - begin
            if engine.resident() > self.memory:
                raise _Lost(
                    f"it needs more than the {self.memory / 1e9:.1f} GB of memory it may take",
                    *in_hand,
                    True,
                    engine.fresh,
                )
            if ending is None:
                too_long = (until is not None and time.monotonic() > until) or (
                    turn.heavy and spent > _MANNERS and self.turns.others_wait(turn)
                )
                if too_long or stopped():
                    ending = time.monotonic()
                    with contextlib.suppress(OSError):
                        engine.pipe.send(("stop",))
            elif time.monotonic() - ending > _GRACE:
                raise TooLong(_TOO_LONG if turn.heavy else _TOO_MUCH) if too_long else Cancelled()


_TOO_LONG = "This takes longer than a first look may; lay it, and it goes on as a task."
_TOO_MUCH = "This takes longer than an answer may; ask for less at once, or try again when less is going on."
