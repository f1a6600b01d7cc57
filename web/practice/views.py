"""Practice: the drills, a try, and its result."""

from __future__ import annotations

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from needle.document import DocumentError, parse_json
from needle.drill.session import PLAN
from needle.drill.shipped import DRILLS
from web.common.downloads import json_attachment
from web.common.htmx import HtmxRequest
from web.practice import actions
from web.practice.forms import AnswerForm, DoingForm, DrillFileForm, PlanForm
from web.practice.models import DrillRun
from web.practice.page import DrillPage, cards_of


def _run(request: HtmxRequest, pk: int) -> DrillRun:
    record: DrillRun = get_object_or_404(DrillRun.objects.visible_to(request.user), pk=pk)
    return record


@require_http_methods(["GET", "POST"])
def index(request: HtmxRequest) -> HttpResponse:
    """Built-in drills and the user's tries; a POST uploads a teacher's file."""
    form = DrillFileForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        try:
            document = parse_json(form.cleaned_data["file"].read(), "file")
            return redirect("practice:run", actions.begin_own(request.user, document).pk)
        except DocumentError as error:
            form.add_error("file", f"{error}.")
    runs = list(DrillRun.objects.visible_to(request.user))
    context = {
        "form": form,
        "cards": cards_of(runs),
        "own": [run for run in runs if not run.shipped],
    }
    return render(request, "practice/index.html", context, status=422 if form.is_bound else 200)


@require_POST
def begin(request: HtmxRequest, number: int) -> HttpResponse:
    """Start another try, or continue one under way."""
    if not 1 <= number <= len(DRILLS):
        raise Http404
    mine = DrillRun.objects.visible_to(request.user)
    under_way = mine.filter(shipped=number, answer__isnull=True).first()
    try:
        run = under_way or actions.begin(request.user, number)
    except DocumentError as error:
        messages.info(request, error.sentence)
        return redirect("practice:index")
    return redirect("practice:run", run.pk)


@require_GET
def page(request: HtmxRequest, run: int) -> HttpResponse:
    return _page(request, _run(request, run))


def _page(
    request: HtmxRequest, run: DrillRun, form: AnswerForm | None = None, problem: str = ""
) -> HttpResponse:
    shown = DrillPage(run, run.drill(), run.session())
    answer_form = form or AnswerForm(unit=shown.drill.unit)
    context = {"page": shown, "form": answer_form, "problem": problem}
    status = 422 if problem or (form is not None and form.errors) else 200
    return render(request, "practice/run.html", context, status=status)


@require_POST
def do(request: HtmxRequest, run: int) -> HttpResponse:
    """Do one action on the simulated bench."""
    record = _run(request, run)
    plans = request.POST.get("do") == PLAN
    form = (PlanForm if plans else DoingForm)(request.POST, drill=record.drill())
    if not form.is_valid():
        first = next(iter(form.errors.values()))[0]
        return _page(request, record, problem=str(first))
    try:
        actions.do(record, form.doing(), form.cleaned_data["after"])
    except DocumentError as error:
        words = f"This {error.message.rstrip('.')}." if error.path else error.sentence
        return _page(request, _run(request, run), problem=words)
    return redirect("practice:run", run)


@require_POST
def answer(request: HtmxRequest, run: int) -> HttpResponse:
    """Submit the answer, once; then show the truth."""
    record = _run(request, run)
    form = AnswerForm(request.POST, unit=record.drill().unit)
    if not form.is_valid():
        return _page(request, record, form)
    try:
        actions.answer(record, form.given())
    except DocumentError as error:
        newer = _run(request, run)
        # The same answer, sent twice, counts once.
        if newer.answer is None:
            return _page(request, newer, form, problem=error.sentence)
    return redirect("practice:run", run)


@require_POST
def remove(request: HtmxRequest, run: int) -> HttpResponse:
    _run(request, run).delete()
    return redirect("practice:index")


@require_GET
def download(request: HtmxRequest, run: int) -> HttpResponse:
    """The drill's document, to change and share."""
    return json_attachment(_run(request, run).document, "drill.json")
