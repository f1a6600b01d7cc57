"""Several loads on one meter: the form, its changes, and its page."""

from __future__ import annotations

import uuid
from typing import Any, ClassVar

from django import forms
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from needle.measure.instruments import INSTRUMENTS
from needle.measure.readings import MOST_WH
from web.common.fields import QuantityField, moment_field
from web.common.forms import RecordForm, client_key
from web.jobs.access import of_job
from web.jobs.actions import as_one, remove, save_new
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.jobs.outbox import moment_made
from web.loads.models import LEAST_COMBINED_WH, CombinedLoad, CombinedReading, Load
from web.loads.reading_forms import HOURS_PER_YEAR

#: Most loads on one meter.
MOST_LOADS = 12


class CombinedForm(RecordForm):
    """What one meter counted for several loads."""

    loads = forms.ModelMultipleChoiceField(
        Load.objects.none(), label="On the meter", widget=forms.CheckboxSelectMultiple
    )
    wh = QuantityField("Wh", label="Counter shows", least=LEAST_COMBINED_WH, most=MOST_WH)
    hours = QuantityField(
        "h", label="Elapsed", most=HOURS_PER_YEAR, above=True, help_text="Such as 21 h 30."
    )
    always_on = forms.ChoiceField(
        label="They were",
        choices=[("", "used as planned"), ("yes", "on all the time")],
        required=False,
    )
    meter = forms.ChoiceField(required=False)
    read_at = moment_field(label="Read at", required=False)

    main: ClassVar = ("loads", "wh", "hours", "always_on")
    field_order = ("loads", "wh", "hours", "always_on")

    class Meta:
        model = CombinedReading
        fields = ("wh", "hours", "always_on", "meter", "read_at", "note")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        job = self.instance.job
        self.fields["loads"].queryset = job.loads.live()  # type: ignore[attr-defined]
        own = [(name, name) for name, meter in job.meters().items() if "wh" in meter.shows]
        usual = [("", f"any {INSTRUMENTS['plug'].name}")]
        self.fields["meter"].choices = [*usual, *own]  # type: ignore[attr-defined]

    def clean_loads(self) -> list[Load]:
        loads = list(self.cleaned_data["loads"])
        if not 2 <= len(loads) <= MOST_LOADS:
            raise forms.ValidationError(f"Tick two to {MOST_LOADS} loads.")
        return loads

    def clean_always_on(self) -> bool:
        return bool(self.cleaned_data["always_on"])


def add_combined(reading: CombinedReading, loads: list[Load]) -> CombinedReading:
    """Store a combined reading with its loads; undone as one."""
    label = f"Counted together: {', '.join(load.name for load in loads)}"
    with as_one(reading.job, label):
        stored, created = save_new(reading.job, reading, label)
        for load in loads if created else ():
            key = uuid.uuid5(stored.client_key, str(load.pk))
            save_new(reading.job, CombinedLoad(combined=stored, load=load, client_key=key), label)
    return stored


@require_http_methods(["GET", "POST"])
@of_job(post=Role.MEASURER)
def combined_list(request: HttpRequest, job: Job) -> HttpResponse:
    """Combined readings of a job, and the form of a new one."""
    form = CombinedForm(request.POST or None, instance=CombinedReading(job=job))
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        form.instance.read_at = form.instance.read_at or moment_made(request)
        add_combined(form.instance, form.cleaned_data["loads"])
        announce_change(request, job)
        return redirect("loads:combined", job.pk)
    context = {"job": job, "form": form, "readings": list(job.combined_readings.live())}
    status = 422 if form.is_bound else 200
    return render(request, "loads/combined.html", context, status=status)


@require_POST
@of_job
def remove_combined(request: HttpRequest, job: Job, reading: int) -> HttpResponse:
    record = get_object_or_404(job.combined_readings.live(), pk=reading)
    record.job = job
    remove(job, record, f"Removed: {record}")
    announce_change(request, job)
    return redirect("loads:combined", job.pk)
