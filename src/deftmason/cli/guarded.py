"""A command worked on in a process of its own, so that a file which breaks the geometry kernel ends in a sentence and
not in a crash.
"""

from __future__ import annotations

import os
import resource
import signal
import sys

__all__ = ["in_a_child"]

_BROKE = (signal.SIGSEGV, signal.SIGABRT, signal.SIGBUS, signal.SIGFPE, signal.SIGILL)
_SHARE = 0.9  # of the machine's memory one command may ask for


def in_a_child() -> None:
    """Returns in a child process; this one waits for it and exits as it did, with status 3 and a sentence where it
    broke down.
    """
    child = os.fork()
    if child == 0:
        most = int(_SHARE * os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        resource.setrlimit(resource.RLIMIT_DATA, (most, most))
        return
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the child has it too, and says what there is to say
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda n, _: os.kill(child, n))
    _, status = os.waitpid(child, 0)
    code = os.waitstatus_to_exitcode(status)
    if code >= 0:
        os._exit(code)
    if -code in _BROKE or -code == signal.SIGKILL:
        files = [a for a in sys.argv[2:] if os.path.isfile(a)]
        about = ", ".join(os.path.basename(f) for f in files[:2]) or "this"
        why = (
            "needs more memory than this machine has"
            if -code == signal.SIGKILL
            else "broke the geometry kernel; the file is damaged or holds what no part has"
        )
        print(f"mason: {about}: {why}. Export it again, simpler.", file=sys.stderr, flush=True)
        os._exit(3)
    os._exit(128 - code)
