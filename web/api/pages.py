"""The owner's page of the programs that read a job."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from web.api import actions
from web.api.forms import TokenForm
from web.api.models import ApiToken
from web.jobs.access import of_job
from web.jobs.models import Job, Role


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def index(request: HttpRequest, job: Job) -> HttpResponse:
    """The tokens of a job; a POST makes one and shows it, once."""
    form = TokenForm(request.POST or None, instance=ApiToken(job=job))
    text = ""
    if request.method == "POST" and form.is_valid():
        if job.api_tokens.filter(revoked_at=None).count() >= actions.MOST_TOKENS:
            form.add_error(None, "That is enough: revoke one that is not used any more.")
        else:
            _, text = actions.add_token(form.instance)
            form = TokenForm(instance=ApiToken(job=job))
    context = {
        "job": job,
        "form": form,
        "tokens": list(job.api_tokens.all()),
        "text": text,
        "address": request.build_absolute_uri(reverse("api:docs")),
    }
    status = 422 if form.is_bound else 200
    response = render(request, "api/programs.html", context, status=status)
    if text:
        response["Cache-Control"] = "no-store"
    return response


@require_POST
@of_job
def revoke(request: HttpRequest, job: Job, pk: int) -> HttpResponse:
    actions.revoke(get_object_or_404(job.api_tokens, pk=pk))
    return redirect("api:programs", job.pk)
