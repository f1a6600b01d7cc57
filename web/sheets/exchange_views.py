"""Jobs in and out."""

from __future__ import annotations

import secrets

from django import forms
from django.contrib import messages
from django.core.cache import cache
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.document import DocumentError
from web.jobs.access import of_job
from web.jobs.models import Job
from web.sheets.exchange import export_job, import_job, preview

#: Largest package taken, and how long one waits to be confirmed.
MOST_BYTES, WAITS_S = 50_000_000, 3600


class PackageForm(forms.Form):
    file = forms.FileField(label="Package", help_text="A .zip that was exported here.")

    def clean_file(self) -> bytes:
        file = self.cleaned_data["file"]
        if file.size > MOST_BYTES:
            raise forms.ValidationError(f"Larger than {MOST_BYTES // 1_000_000} MB.")
        content: bytes = file.read()
        try:
            self.preview = preview(content)
        except DocumentError as error:
            words = str(error)
            raise forms.ValidationError(f"{words[0].upper()}{words[1:]}.") from None
        return content


@require_GET
@of_job
def package(request: HttpRequest, job: Job) -> HttpResponse:
    """The whole job as a data package."""
    response = HttpResponse(export_job(job), content_type="application/zip")
    name = slugify(job.name) or "job"
    response["Content-Disposition"] = f'attachment; filename="{name}.zip"'
    return response


@require_http_methods(["GET", "POST"])
def take_in(request: HttpRequest) -> HttpResponse:
    """Read a package and show what it would add; nothing is stored yet."""
    posted = request.method == "POST"
    form = PackageForm(request.POST, request.FILES) if posted else PackageForm()
    if posted and form.is_valid():
        token = secrets.token_urlsafe(16)
        cache.set(_key(request, token), form.cleaned_data["file"], WAITS_S)
        context = {"preview": form.preview, "token": token}
        return render(request, "sheets/import_preview.html", context)
    return render(
        request, "sheets/import.html", {"form": form}, status=422 if form.is_bound else 200
    )


@require_POST
def confirm(request: HttpRequest) -> HttpResponse:
    """Add what was shown; sent twice it is added once."""
    key = _key(request, request.POST.get("token", ""))
    content = cache.get(key)
    if content is None:
        messages.error(request, "That package waits no longer: choose the file again.")
        return redirect("exchange:import")
    cache.delete(key)
    try:
        job = import_job(content, request.user)
    except DocumentError as error:
        words = str(error)
        messages.error(request, f"Nothing was added. {words[0].upper()}{words[1:]}.")
        return redirect("exchange:import")
    messages.success(request, f"Added {job.name}.")
    return redirect("loads:survey", job.pk)


def _key(request: HttpRequest, token: str) -> str:
    return f"package:{request.user.pk}:{token[:40]}"
