"""Addresses: the API, and the single page for everything else."""

from django.conf import settings
from django.http import FileResponse, HttpResponse
from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from .jobs.api import api


@ensure_csrf_cookie
def page(request, *_):
    index = settings.WEB_DIST / "index.html"
    if not index.exists():
        return HttpResponse("The screens are not built yet; run make demo.", status=503, content_type="text/plain")
    return FileResponse(open(index, "rb"), content_type="text/html; charset=utf-8")


handler400 = "deftmason.server.jobs.errors.bad_request"
handler403 = "deftmason.server.jobs.errors.forbidden"
handler404 = "deftmason.server.jobs.errors.not_found"
handler500 = "deftmason.server.jobs.errors.server_error"

urlpatterns = [path("api/", api.urls), re_path(r"^(?!api/|assets/).*$", page)]
