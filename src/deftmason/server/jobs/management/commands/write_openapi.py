"""Write the API's description, from which the screens' client types are made: its answers, and every kind's record and
what it tells.
"""

import json
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from pydantic import BaseModel

from deftmason.core.recipe.parse import kinds
from deftmason.core.recipe.step import Told


def _with_model(schemas: dict[str, Any], model: type[BaseModel]) -> None:
    """Add a model and what it is made of. Raises `ValueError` where two models of one name differ."""
    whole = model.model_json_schema(ref_template="#/components/schemas/{model}", mode="serialization")
    for name, schema in {**whole.pop("$defs", {}), model.__name__: whole}.items():
        known = schemas.get(name, schema)
        if known.get("properties", {}).keys() != schema.get("properties", {}).keys():
            raise ValueError(f"Two models are called {name}; rename one.")
        schemas[name] = schema  # where it is also asked for: what is answered holds every field


def described() -> dict[str, Any]:
    """The API's description with every kind's record and what it tells."""
    from deftmason.server.jobs.api import api

    out = api.get_openapi_schema(path_prefix="/api/")
    for kind in kinds().values():
        _with_model(out["components"]["schemas"], kind)
        for told in (t for t in kind.tells.__mro__ if issubclass(t, Told)):
            _with_model(out["components"]["schemas"], told)
    return out


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args, **options):
        text = json.dumps(described(), indent=1, sort_keys=True)
        (settings.ROOT / "web" / "openapi.json").write_text(text + "\n")
