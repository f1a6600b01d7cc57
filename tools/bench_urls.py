"""The site's addresses and an empty view to compare with."""

from django.http import HttpRequest, HttpResponse
from django.urls import include, path


def empty(request: HttpRequest) -> HttpResponse:
    return HttpResponse("")


urlpatterns = [path("empty/", empty), path("", include("web.urls"))]
