"""How long work takes, on a machine that does other things meanwhile."""

import time


def ends_within(seconds, work, tries=4, here=False):
    """Whether work ends within some seconds at its best: what else the machine does is not its fault.

    ``here``: all of it is done by this process, whose own time on the processors may tell it too.
    """
    for _ in range(tries):
        begin, begun = time.monotonic(), time.process_time()
        work()
        took = time.monotonic() - begin
        if (min(took, time.process_time() - begun) if here else took) < seconds:
            return True
    return False
