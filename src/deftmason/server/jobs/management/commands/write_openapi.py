"""Write the API's description, from which the screens' client types are made."""

import json

from django.conf import settings
from django.core.management.base import BaseCommand


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args, **options):
        from deftmason.server.jobs.api import api

        text = json.dumps(api.get_openapi_schema(path_prefix="/api/"), indent=1, sort_keys=True)
        (settings.ROOT / "web" / "openapi.json").write_text(text + "\n")
