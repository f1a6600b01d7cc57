"""Export and import of jobs."""

from __future__ import annotations

from typing import Any

from django import forms
from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.document import DocumentError, parse_json
from web.common.bodies import takes_up_to
from web.common.downloads import attachment, json_attachment
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.sheets.documents import add_load_document, add_plan_document, load_document
from web.sheets.exchange import export_job, import_waiting, preview, wait

#: Largest package taken.
MOST_BYTES = 50_000_000


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
    name = slugify(job.name) or "job"
    return attachment(export_job(job), "application/zip", f"{name}.zip")


class DocumentForm(forms.Form):
    file = forms.FileField(label="Document", help_text="A .json of the open formats.")

    def clean_file(self) -> Any:
        file = self.cleaned_data["file"]
        if file.size > MOST_BYTES:
            raise forms.ValidationError(f"Larger than {MOST_BYTES // 1_000_000} MB.")
        try:
            return parse_json(file.read(), "")
        except DocumentError as error:
            raise forms.ValidationError(f"The file {error}.") from None


@require_GET
@of_job
def load_json(request: HttpRequest, job: Job, load: int) -> HttpResponse:
    """A load as its open document."""
    record = get_object_or_404(job.loads.live().with_readings(), pk=load)
    record.job = job
    return json_attachment(load_document(record), "load.json")


@takes_up_to(MOST_BYTES + 1_000_000)
@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def document(request: HttpRequest, job: Job, kind: str) -> HttpResponse:
    """Import a load or plan document into the job."""
    if kind not in ("load", "plan"):
        raise Http404
    posted = request.method == "POST"
    form = DocumentForm(request.POST, request.FILES) if posted else DocumentForm()
    if posted and form.is_valid():
        try:
            if kind == "load":
                load = add_load_document(job, form.cleaned_data["file"])
                announce_change(request, job)
                return redirect("loads:load", job.pk, load.pk)
            plan, left_out = add_plan_document(job, form.cleaned_data["file"])
        except DocumentError as error:
            words = str(error)
            form.add_error("file", f"{words[0].upper()}{words[1:]}.")
        else:
            announce_change(request, job)
            if left_out:
                names = ", ".join(left_out)
                messages.warning(request, f"This job has no {names}: not in the plan.")
            return redirect("plans:plan", job.pk, plan.pk)
    context = {"job": job, "form": form, "kind": kind}
    return render(request, "sheets/document.html", context, status=422 if posted else 200)


@takes_up_to(MOST_BYTES + 1_000_000)
@require_http_methods(["GET", "POST"])
def take_in(request: HttpRequest) -> HttpResponse:
    """Upload a package and show its preview; nothing is stored yet."""
    posted = request.method == "POST"
    form = PackageForm(request.POST, request.FILES) if posted else PackageForm()
    if posted and form.is_valid():
        token = wait(request.user, form.cleaned_data["file"])
        context = {"preview": form.preview, "token": token}
        return render(request, "sheets/import_preview.html", context)
    return render(
        request, "sheets/import.html", {"form": form}, status=422 if form.is_bound else 200
    )


@require_POST
def confirm(request: HttpRequest) -> HttpResponse:
    """Import the previewed package, once."""
    try:
        job = import_waiting(request.user, request.POST.get("token", ""))
    except DocumentError as error:
        words = str(error)
        messages.error(request, f"Nothing was added. {words[0].upper()}{words[1:]}.")
        return redirect("exchange:import")
    if job is None:
        messages.error(request, "That package waits no longer: choose the file again.")
        return redirect("exchange:import")
    messages.success(request, f"Added {job.name}.")
    return redirect("loads:survey", job.pk)
