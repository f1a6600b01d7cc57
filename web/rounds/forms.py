"""Form of a round: meters, time, and what must not be touched."""

from __future__ import annotations

from datetime import timedelta
from typing import Any, ClassVar

from django import forms
from django.utils import timezone

from needle.measure.instruments import INSTRUMENTS
from needle.round.visit import LEAST_ROUND_MIN, MOST_ROUND_H
from web.common.fields import WholeNumberField, moment_field
from web.common.forms import RecordForm
from web.jobs.models import Job
from web.loads.reading_forms import OWN
from web.rounds.models import MeasuringRound

#: Classes that can be had several times.
_COUNTED = ("plug", "clamp", "shunt", "usb", "logger")
MOST_OF_A_CLASS = 6


class RoundForm(RecordForm):
    """A new round."""

    begins = moment_field(label="From")
    ends = moment_field(label="Until")
    own = forms.MultipleChoiceField(
        label="My meters with me", required=False, widget=forms.CheckboxSelectMultiple
    )
    keep = forms.MultipleChoiceField(
        label="Not to be unplugged, not even for a moment",
        required=False,
        widget=forms.CheckboxSelectMultiple,
    )

    main: ClassVar = ("plan", "begins", "ends", "plug", "clamp", "target")

    class Meta:
        model = MeasuringRound
        fields: ClassVar = ["plan", "begins", "ends", "target", "qualified"]
        labels: ClassVar = {"target": "To", "qualified": "A licensed electrician is there"}
        help_texts: ClassVar = {"qualified": "Who may open a panel under the local code."}

    def __init__(self, *args: Any, job: Job, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        plans = self.fields["plan"]
        plans.queryset = job.plans.live()  # type: ignore[attr-defined]
        plans.required, plans.empty_label = False, "the answer bar's"  # type: ignore[attr-defined]
        for key in _COUNTED:
            self.fields[key] = WholeNumberField(
                label=f"{INSTRUMENTS[key].name.capitalize()}s",
                min_value=0,
                required=False,
                max_value=MOST_OF_A_CLASS,
            )
        self.initial.setdefault("plug", 1)
        now = timezone.localtime().replace(second=0, microsecond=0)
        self.initial["begins"], self.initial["ends"] = now, now + timedelta(hours=3)
        own = [
            (f"{OWN}{meter.name}", meter.name)
            for name, meter in job.meters().items()
            if meter.name == name
        ]
        self.fields["own"].choices = own  # type: ignore[attr-defined]
        if not own:
            del self.fields["own"]
        loads = list(job.loads.live())
        names = [(load.name, load.name) for load in loads]
        self.fields["keep"].choices = names  # type: ignore[attr-defined]
        # If a life depends on it, unplugging is somebody's own decision.
        self.initial["keep"] = [load.name for load in loads if load.safety_class == "life"]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        meters = [key for key in _COUNTED for _ in range(cleaned.get(key) or 0)]
        self.instance.meters = [*(cleaned.get("own") or []), *meters]
        self.instance.keep_plugged = cleaned.get("keep") or []
        if not self.instance.meters and not self.errors:
            self.add_error("plug", "Name at least one meter.")
        begins, ends = cleaned.get("begins"), cleaned.get("ends")
        if begins and ends and not self.errors:
            minutes = (ends - max(begins, timezone.now())).total_seconds() / 60
            if not LEAST_ROUND_MIN <= minutes <= MOST_ROUND_H * 60:
                self.add_error(
                    "ends",
                    f"A round takes from {LEAST_ROUND_MIN:.0f} min to "
                    f"{MOST_ROUND_H:.0f} h, from now on.",
                )
        return cleaned
