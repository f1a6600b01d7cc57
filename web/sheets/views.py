"""The sheet: as a page, as a PDF, and its tables as CSV."""

from __future__ import annotations

from collections.abc import Iterator

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from web.common.addresses import key_of
from web.common.downloads import attachment, csv_attachment
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
    annex, card = (request.GET.get(name) == "1" for name in ("photos", "card"))
    return plan, sheet_of(job, plan, request.user.get_username(), wait_s, annex, card)


@require_GET
@of_job
def sheet(request: HttpRequest, job: Job) -> HttpResponse:
    plan, sheet = _sheet(request, job, PAGE_WAIT_S)
    job.cache.answer = sheet.answer
    context = {
        "job": job,
        "plan": plan,
        "sheet": sheet,
        "plans": list(job.plans.live()),
        "papers": PAPERS,
        "view": view_of(sheet.answer),
        "more": _more(sheet),
    }
    return render(request, "sheets/sheet.html", context)


def _more(sheet: Sheet) -> dict[str, str]:
    """Queries for the same sheet, and for one with or without photos or the card."""
    photos, card = bool(sheet.photos), sheet.has_card

    def query(photos: bool, card: bool) -> str:
        asked = {"photos": photos, "card": card}
        return "".join(f"&{name}=1" for name, wanted in asked.items() if wanted)

    return {
        "same": query(photos, card),
        "photos": query(not photos, card),
        "card": query(photos, not card),
    }


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
    content = as_pdf(sheet, PAPERS[paper])
    return attachment(content, "application/pdf", f"sheet-{paper}.pdf", inline=True)


@require_GET
@of_job
def tables(request: HttpRequest, job: Job) -> HttpResponse:
    """All tables of the sheet in one CSV."""
    _, sheet = _sheet(request, job, LONG_WAIT_S)
    if sheet.answer.pending:
        return still_working()
    return csv_attachment(_all_rows(sheet), "sheet.csv")


def _all_rows(sheet: Sheet) -> Iterator[list[str]]:
    for table in sheet.tables:
        yield [table.title]
        yield list(table.heads)
        yield from ([harmless(cell) for cell in row] for row in table.rows)
        yield []


def harmless(cell: str) -> str:
    """A cell that no spreadsheet treats as a formula."""
    return f"'{cell}" if cell[:1] in ("=", "+", "-", "@", "\t") else cell
