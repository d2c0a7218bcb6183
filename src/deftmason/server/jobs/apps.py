import os
import threading

from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "deftmason.server.jobs"
    label = "jobs"

    def ready(self) -> None:
        if (
            os.environ.get("DEFT_MASON_CHILD") == "1"
        ):  # web server or worker: the first person should not wait for engines to load
            threading.Thread(target=_warm, daemon=True).start()


def _warm() -> None:
    from .engine import pool

    pool().warm()
