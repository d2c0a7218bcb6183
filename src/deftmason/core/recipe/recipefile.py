"""Recipes as files: a job's steps in one JSON, for replay elsewhere."""

from __future__ import annotations

import json
import os

from ..errors import BadInput
from .parse import parse_recipe
from .step import Step

__all__ = ["FORMAT", "read_recipe", "recipe_text"]

FORMAT = "deft-mason-recipe"
_MOST_BYTES = 200_000_000


def recipe_text(name: str, steps: list[dict]) -> str:
    return json.dumps({"format": FORMAT, "version": 1, "name": name, "steps": steps}, indent=1)


def read_recipe(path: str) -> tuple[str, list[dict], list[Step]]:
    """Name, step records and parsed steps. Raises `BadInput` in one sentence."""
    name = os.path.basename(path)
    try:
        if os.path.getsize(path) > _MOST_BYTES:
            raise BadInput(
                f"{name}: is larger than any recipe ({_MOST_BYTES // 1_000_000} MB); choose the recipe file."
            )
        with open(path, encoding="utf-8") as f:
            data = json.load(f)
    except FileNotFoundError:
        raise BadInput(f"{name}: there is no such file; check the path.") from None
    except (ValueError, OSError, RecursionError):
        raise BadInput(f"{name}: is not a recipe (no JSON); export the job's recipe again.") from None
    if not isinstance(data, dict) or data.get("format") != FORMAT or not isinstance(data.get("steps"), list):
        raise BadInput(f"{name}: is not a recipe of this program; export the job's recipe again.")
    if type(data.get("version", 1)) is not int or data.get("version", 1) != 1:
        raise BadInput(f"{name}: is a recipe of version {str(data['version'])[:20]}; this program reads version 1.")
    title = data.get("name")
    try:
        return (
            title if isinstance(title, str) and title.isprintable() else name,
            data["steps"],
            parse_recipe(data["steps"]),
        )
    except BadInput as e:
        raise BadInput(f"{name}: {e.message}") from None
