"""Remove what nothing names any more: results and files of jobs that are gone, what killed uploads left, pictures
nobody shows.
"""

from __future__ import annotations

from django.conf import settings
from django.core.management.base import BaseCommand
from django.db import OperationalError

from deftmason.server.jobs.collecting import FRESH, UNUSED, collect


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser):
        parser.add_argument("--quiet", action="store_true", help="Say nothing.")
        parser.add_argument(
            "--now", action="store_true", help="Also what was written lately, and uploads not used yet."
        )

    def handle(self, *args, quiet: bool, now: bool, **options):
        try:
            freed = collect(settings.DATA, 0.0 if now else FRESH, 0.0 if now else UNUSED)
        except OperationalError as e:
            if "no such table" in str(e):
                return  # not migrated yet: there is nothing
            raise
        if not quiet:
            self.stdout.write(f"{freed / 1e6:,.1f} MB collected.")
