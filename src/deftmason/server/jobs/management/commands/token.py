"""Make a token for a script and print it, this once: ``token NAME [--user USER]``."""

from __future__ import annotations

from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError

from deftmason.server.jobs.tokens import new_token


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser):
        parser.add_argument("name", help="What the token is for.")
        parser.add_argument("--user", help="Whom it speaks for, in shared use.")

    def handle(self, *args, name: str, user: str | None, **options):
        if settings.SHARED != (user is not None):
            raise CommandError("Give --user in shared use, and only there.")
        owner = None
        if user is not None:
            owner = get_user_model().objects.filter(username=user).first()
            if owner is None:
                raise CommandError(f"There is nobody called '{user}' here.")
        self.stdout.write(new_token(owner, name)[1])
