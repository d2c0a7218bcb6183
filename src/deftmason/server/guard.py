"""Before anything else looks at a request: who may speak to this server at all, by which name, and what browsers are
told of it.
"""

from __future__ import annotations

import ipaddress

from django.conf import settings
from django.core.exceptions import DisallowedHost
from django.http import JsonResponse

from .jobs.errors import told

__all__ = ["Guard", "is_loopback"]


def is_loopback(address: str) -> bool:
    if address == "localhost":
        return True
    try:
        return ipaddress.ip_address(address.strip("[]")).is_loopback
    except ValueError:
        return False


class Guard:
    """In local use nobody logs in, so nobody from elsewhere gets in; and no other name is answered, static files
    included.
    """

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        if not settings.SHARED and not is_loopback(request.META.get("REMOTE_ADDR", "")):
            message = "This server is for local use only; start it with DEFT_MASON_SHARED=1 to let others in."
            return JsonResponse(told("not_local", message), status=403)
        try:
            request.get_host()
        except DisallowedHost:
            return JsonResponse(told("bad_host", "This server does not answer to that name."), status=400)
        response = self.get_response(request)
        response.headers.pop("Access-Control-Allow-Origin", None)
        response.headers.setdefault("Cross-Origin-Resource-Policy", "same-origin")
        return response
