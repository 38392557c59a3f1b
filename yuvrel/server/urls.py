"""Where everything is."""

from __future__ import annotations

from django.conf import settings
from django.db import connection
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase, JsonResponse
from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from yuvrel.channels.api import hook

from .api import api
from .metrics import metrics


@ensure_csrf_cookie
def page(request: HttpRequest) -> HttpResponseBase:
    """Every other address is a page of the front end."""
    index = settings.WEB_BUILD / "index.html"
    if not index.exists():
        return HttpResponse("The front end is not built yet: run script/setup.", status=503)
    return FileResponse(index.open("rb"), content_type="text/html; charset=utf-8")


def healthz(request: HttpRequest) -> HttpResponse:
    """The process answers."""
    return JsonResponse({"ok": True})


def readyz(request: HttpRequest) -> HttpResponse:
    """The database answers too."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    return JsonResponse({"ok": True})


urlpatterns = [
    path("api/v1/", api.urls),
    path("hooks/<str:key>", hook),
    path("healthz", healthz),
    path("readyz", readyz),
    path("metrics", metrics),
    re_path(r"^(?!api/|hooks/|static/|_app/).*$", page),
]
