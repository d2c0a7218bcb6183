"""Write the API's description, from which the screens' client types are made: its answers, and every kind's record and
what it tells.
"""

import json
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from pydantic import BaseModel

from deftmason.core.recipe.parse import kinds


def _with_model(schemas: dict[str, Any], model: type[BaseModel]) -> None:
    """Add a model and what it is made of. Raises `ValueError` where two models of one name differ."""
    whole = model.model_json_schema(ref_template="#/components/schemas/{model}", mode="serialization")
    for name, schema in {**whole.pop("$defs", {}), model.__name__: whole}.items():
        if schemas.setdefault(name, schema) != schema:
            raise ValueError(f"Two models are called {name}; rename one.")


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args, **options):
        from deftmason.server.jobs.api import api

        description = api.get_openapi_schema(path_prefix="/api/")
        for kind in kinds().values():
            _with_model(description["components"]["schemas"], kind)
            _with_model(description["components"]["schemas"], kind.tells)
        text = json.dumps(description, indent=1, sort_keys=True)
        (settings.ROOT / "web" / "openapi.json").write_text(text + "\n")
