"""What an engine holds while it works: the results, the files brought in, whom to tell how far it is."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any, TypeVar

from deftmason.core.errors import BadInput
from deftmason.core.progress import Progress, silent
from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.records import is_checksum
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.step import Step
from deftmason.core.recipe.store import ResultStore

__all__ = ["Desk", "WORK", "asked", "blob_file"]

F = TypeVar("F", bound=Callable[..., Any])

WORK: dict[str, Callable[..., Any]] = {}


def asked(work: F) -> F:
    """Make a function one that engines may be asked for, by its name."""
    WORK[work.__name__] = work
    return work


@asked
def ready(desk: Desk) -> None:
    """Nothing: an engine that answers is there."""


def blob_file(folder: str, sha256: str) -> str:
    """Where a file brought in lies under the data folder. Raises `BadInput` for what is no checksum: it would be a
    path.
    """
    if not is_checksum(sha256):
        raise BadInput("A file is named by its checksum, 64 hexadecimal digits.", field="sha256")
    return os.path.join(folder, "blobs", sha256[:2], sha256)


class Desk:
    """One engine's window on the data folder.

    ``progress`` is told how far the work is and raises `Cancelled`; ``begun`` is told each step's key and name before
    it runs.
    """

    def __init__(self, folder: str, hot: int = 48):
        self.folder = folder
        self.store = ResultStore(os.path.join(folder, "results"), hot)
        self.progress: Progress = silent
        self.begun: Callable[[str, str], None] = lambda key, name: None

    def scan_file(self, sha256: str, name: str) -> str:
        path = blob_file(self.folder, sha256)
        if not os.path.exists(path):
            raise BadInput(f"The file of '{name}' is no longer on this server; bring it in again.")
        return path

    def replay(self, steps: list[dict]) -> Replay:
        return self.replay_steps(parse_recipe(steps))

    def replay_steps(self, steps: list[Step]) -> Replay:
        return Replay(steps, self.store, self.scan_file, begun=self.begun)

    def room(self, name: str) -> str:
        """A path in the folder of temporary files."""
        folder = os.path.join(self.folder, "tmp")
        os.makedirs(folder, exist_ok=True)
        return os.path.join(folder, name)
