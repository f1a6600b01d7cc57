"""Pages and files that a browser keeps for when the site cannot be reached."""

from __future__ import annotations

from django.contrib.staticfiles import finders
from django.templatetags.static import static
from django.urls import reverse

from web.jobs.models import Job

#: Folders of static files that pages need without the site, and what is only for other pages.
FOLDERS = ("css/", "js/", "img/", "vendor/")
NOT_KEPT = ("vendor/uplot", "vendor/workbox", "vendor/licences", "vendor/VENDOR")
SUFFIXES = (".css", ".js", ".woff2", ".svg", ".png")
#: Loads of a job whose pages are kept: those with the newest readings.
MOST_LOADS = 12


def kept_files() -> list[str]:
    """Addresses of the styles, scripts, fonts and pictures of the site's pages."""
    names = {
        name
        for finder in finders.get_finders()
        for name, _ in finder.list([])
        if name.startswith(FOLDERS) and name.endswith(SUFFIXES) and not name.startswith(NOT_KEPT)
    }
    return sorted(static(name) for name in names)


def kept_pages(job: Job) -> list[str]:
    """Addresses of a job's pages that work without the site."""
    own = [job.pk]
    names = ("bench:index", "watch:watch", "watch:card", "loads:survey", "loads:add")
    addresses = [reverse(name, args=own) for name in names]
    running = job.trials.live().filter(ended_at=None).values_list("pk", flat=True)[:2]
    addresses += [reverse("trials:trial", args=[job.pk, pk]) for pk in running]
    rounds = job.rounds.live().order_by("-pk").values_list("pk", flat=True)[:1]
    addresses += [reverse("rounds:round", args=[job.pk, pk]) for pk in rounds]
    loads = job.loads.live().order_by("-changed_at").values_list("pk", flat=True)[:MOST_LOADS]
    return addresses + [reverse("loads:load", args=[job.pk, pk]) for pk in loads]
