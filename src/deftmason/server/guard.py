"""In local use nobody logs in, so nobody from elsewhere gets in."""

import ipaddress

from django.conf import settings
from django.http import JsonResponse

__all__ = ["LoopbackOnly", "is_loopback"]


def is_loopback(address: str) -> bool:
    if address == "localhost":
        return True
    try:
        return ipaddress.ip_address(address.strip("[]")).is_loopback
    except ValueError:
        return False


class LoopbackOnly:
    """Refuses requests that do not come from this machine, unless the server is shared."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        if not settings.SHARED and not is_loopback(request.META.get("REMOTE_ADDR", "")):
            message = "This server is for local use only; start it with DEFT_MASON_SHARED=1 to let others in."
            return JsonResponse({"code": "not_local", "message": message, "field": None, "hint": None}, status=403)
        return self.get_response(request)
