"""What makes the site open without a connection: its worker, its manifest, and what to keep."""

from __future__ import annotations

import json
from pathlib import Path

from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.models import AnonymousUser
from django.contrib.staticfiles import finders
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.templatetags.static import static
from django.urls import reverse
from django.views.decorators.http import require_GET

from web.common.version import version
from web.jobs.access import of_job
from web.jobs.models import Job
from web.offline.pages import kept_files, kept_pages

#: Parts of the worker's library, in the order in which they need one another.
LIBRARY = ("core", "routing", "strategies", "expiration", "precaching")


@login_not_required
@require_GET
def worker(request: HttpRequest) -> HttpResponse:
    """The service worker: the shipped script, after what it has to keep."""
    settings = {
        "version": version(),
        "library": [static(f"vendor/workbox-{part}.js") for part in LIBRARY],
        "files": kept_files(),
        "offlinePage": reverse("offline:page"),
    }
    script = Path(str(finders.find("worker/service_worker.js"))).read_text(encoding="utf-8")
    text = f"const SETTINGS = {json.dumps(settings)};\n{script}"
    return HttpResponse(text, content_type="text/javascript")


@login_not_required
@require_GET
def manifest(request: HttpRequest) -> HttpResponse:
    """The web app manifest (W3C), with which browsers install the site."""
    icons = [
        {"src": static(f"img/icon-{size}.png"), "sizes": f"{size}x{size}", "type": "image/png"}
        for size in (192, 512)
    ]
    masked = {"src": static("img/icon-masked-512.png"), "sizes": "512x512", "type": "image/png"}
    document = {
        "name": "Steady Needle",
        "short_name": "Needle",
        "description": "Measure loads, and know how long a battery runs them.",
        "id": "/",
        "start_url": reverse("jobs:list"),
        "scope": "/",
        "display": "standalone",
        "background_color": "#f4f2ec",
        "theme_color": "#fffdf8",
        "icons": [*icons, {**masked, "purpose": "maskable"}],
    }
    return JsonResponse(document, content_type="application/manifest+json")


@login_not_required
@require_GET
def page(request: HttpRequest) -> HttpResponse:
    """What is shown in place of a page that is not on this device.

    It is kept for whoever uses the device next, and so is the same for everybody.
    """
    request.user = AnonymousUser()
    return render(request, "offline/page.html")


@require_GET
@of_job
def to_keep(request: HttpRequest, job: Job) -> HttpResponse:
    """Addresses of the job's pages that a device keeps."""
    return JsonResponse({"pages": kept_pages(job)})
