"""Recipes as files: a job's steps in one JSON, for replay elsewhere."""

from __future__ import annotations

import json
import os

from ..errors import BadInput
from .step import Step, parse_step

__all__ = ["FORMAT", "read_recipe", "recipe_text"]

FORMAT = "deft-mason-recipe"


def recipe_text(name: str, steps: list[dict]) -> str:
    return json.dumps({"format": FORMAT, "version": 1, "name": name, "steps": steps}, indent=1)


def read_recipe(path: str) -> tuple[str, list[dict], list[Step]]:
    """Name, step records and parsed steps. Raises `BadInput` in one sentence."""
    name = os.path.basename(path)
    try:
        with open(path, encoding="utf-8") as f:
            data = json.load(f)
    except FileNotFoundError:
        raise BadInput(f"{name}: there is no such file; check the path.") from None
    except (ValueError, OSError):
        raise BadInput(f"{name}: is not a recipe (no JSON); export the job's recipe again.") from None
    if not isinstance(data, dict) or data.get("format") != FORMAT or not isinstance(data.get("steps"), list):
        raise BadInput(f"{name}: is not a recipe of this program; export the job's recipe again.")
    try:
        return data.get("name", name), data["steps"], [parse_step(s) for s in data["steps"]]
    except BadInput as e:
        raise BadInput(f"{name}: {e.message}") from None
