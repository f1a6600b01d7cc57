"""The sheet: on the page, as a PDF, its tables as CSV."""

from __future__ import annotations

import csv

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from web.common.addresses import key_of
from web.jobs.access import of_job
from web.jobs.models import Job
from web.plans.models import Plan
from web.plans.outcomes import LONG_WAIT_S, PAGE_WAIT_S, current_plan, still_working
from web.plans.page import view_of
from web.sheets.sheet import Sheet, sheet_of

PAPERS = {"a4": "A4", "letter": "Letter"}


def _sheet(request: HttpRequest, job: Job, wait_s: float) -> tuple[Plan, Sheet]:
    plan = current_plan(job)
    if (wanted := key_of(request.GET.get("plan", ""))) is not None:
        plan = job.plans.live().select_related("supply").filter(pk=wanted).first() or plan
    plan.job = job
    return plan, sheet_of(job, plan, request.user.get_username(), wait_s)


@require_GET
@of_job
def sheet(request: HttpRequest, job: Job) -> HttpResponse:
    plan, sheet = _sheet(request, job, PAGE_WAIT_S)
    job._current_answer = sheet.answer  # type: ignore[attr-defined]
    context = {"job": job, "plan": plan, "sheet": sheet, "plans": list(job.plans.live()),
               "papers": PAPERS, "view": view_of(sheet.answer, request.GET)}  # fmt: skip
    return render(request, "sheets/sheet.html", context)


@require_GET
@of_job
def pdf(request: HttpRequest, job: Job, paper: str) -> HttpResponse:
    if paper not in PAPERS:
        raise Http404
    # What draws PDFs takes half a second to import: only where one is wanted.
    from web.sheets.pdf import as_pdf

    _, sheet = _sheet(request, job, LONG_WAIT_S)
    if sheet.answer.pending:
        return still_working()
    response = HttpResponse(as_pdf(sheet, PAPERS[paper]), content_type="application/pdf")
    response["Content-Disposition"] = f'inline; filename="sheet-{paper}.pdf"'
    return response


@require_GET
@of_job
def tables(request: HttpRequest, job: Job) -> HttpResponse:
    """All tables of the sheet beneath one another."""
    _, sheet = _sheet(request, job, LONG_WAIT_S)
    if sheet.answer.pending:
        return still_working()
    response = HttpResponse(content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = 'attachment; filename="sheet.csv"'
    rows = csv.writer(response)
    for table in sheet.tables:
        rows.writerow([table.title])
        rows.writerow(table.heads)
        rows.writerows([[harmless(cell) for cell in row] for row in table.rows])
        rows.writerow([])
    return response


def harmless(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return f"'{cell}" if cell[:1] in ("=", "+", "-", "@", "\t") else cell
