"""JSON as its standard has it: no NaN, no infinity, no number that becomes one, no nesting without end; in and out."""

from __future__ import annotations

import json
import math
from typing import Any

from django.http import HttpRequest
from ninja.parser import Parser
from ninja.renderers import JSONRenderer
from ninja.responses import NinjaJSONEncoder

__all__ = ["StrictParser", "StrictRenderer"]


def _none(word: str):
    raise ValueError(f"{word} is no number")


def _finite(text: str) -> float:
    number = float(text)
    if not math.isfinite(number):
        raise ValueError(f"{text[:20]} is too large a number")
    return number


class StrictParser(Parser):
    """Bodies of requests; what is not JSON by its standard raises ValueError, which the API answers with 400."""

    def parse_body(self, request: HttpRequest) -> Any:
        try:
            return json.loads(request.body, parse_constant=_none, parse_float=_finite)
        except RecursionError:
            raise ValueError("nested too deeply") from None


class StrictRenderer(JSONRenderer):
    """Answers; a number that is none is told as null."""

    def render(self, request: HttpRequest, data: Any, *, response_status: int) -> bytes:
        try:
            text = json.dumps(data, cls=NinjaJSONEncoder, allow_nan=False)
        except ValueError:
            text = json.dumps(_without_nan(json.loads(json.dumps(data, cls=NinjaJSONEncoder))), allow_nan=False)
        return text.encode()


def _without_nan(data: Any) -> Any:
    if isinstance(data, float):
        return data if math.isfinite(data) else None
    if isinstance(data, dict):
        return {k: _without_nan(v) for k, v in data.items()}
    if isinstance(data, list):
        return [_without_nan(v) for v in data]
    return data
