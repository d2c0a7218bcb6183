"""How long work takes, on a machine that does other things meanwhile."""

import time


def ends_within(seconds, work, tries=4):
    """Whether work ends within some seconds at its best: what else the machine does is not its fault."""
    for _ in range(tries):
        begin = time.monotonic()
        work()
        if time.monotonic() - begin < seconds:
            return True
    return False
