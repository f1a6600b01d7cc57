"""Forms of a plan and of how it uses one load."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms

from needle.document import DocumentError
from needle.moments import windows_from_text
from needle.plan.plan import MOST_HOURS
from needle.supply.battery import CHEMISTRIES
from web.common.fields import QuantityField, share_field
from web.common.forms import PercentMixin, RecordForm
from web.jobs.models import Job
from web.plans.models import Plan, PlanEntry


class PlanForm(PercentMixin, RecordForm):
    needed_hours = QuantityField("h", label="Hours needed", least=0.1, most=MOST_HOURS)
    start = forms.DateTimeField(
        label="Begins",
        widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M"),
    )
    room_c = QuantityField(
        "°C", label="Room", least=-60, most=80, required=False,
        help_text="Moves cold and warm boxes whose set point and measured room are known; "
        "otherwise a note.",
    )  # fmt: skip
    start_charge = share_field(label="Charge at the start", above=True)
    floor = share_field(
        label="Floor", most=95, required=False, help_text="Empty: as the supply has it."
    )

    shares: ClassVar = ("start_charge", "floor")

    class Meta:
        model = Plan
        fields = [
            "name", "supply", "needed_hours", "start", "room_c", "start_charge", "floor", "note",
        ]  # fmt: skip

    def __init__(self, *args: Any, job: Job, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["supply"].queryset = job.supplies.live()  # type: ignore[attr-defined]
        self.fields["supply"].empty_label = "the first one"  # type: ignore[attr-defined]
        self.show_shares()

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.store_shares(cleaned)
        supply, charge = cleaned.get("supply"), cleaned.get("start_charge")
        floor = cleaned.get("floor")
        if floor is None and supply is not None:
            usual = CHEMISTRIES[supply.chemistry].floor
            floor = usual if supply.floor is None else supply.floor
        if charge is not None and floor is not None and charge <= floor:
            self.add_error(
                "start_charge",
                f"At {charge * 100:.3g} % it is already at its floor of {floor * 100:.3g} %.",
            )
        return cleaned


class EntryForm(RecordForm):
    """How a plan uses one load; the times are written as people write them."""

    use = forms.CharField(
        required=False, max_length=400,
        widget=forms.TextInput(attrs={"placeholder": "always, or 18:00–22:30"}),
    )  # fmt: skip

    class Meta:
        model = PlanEntry
        fields = ["taken_in", "count"]

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        windows = self.instance.windows
        self.fields["use"].initial = ", ".join("–".join(window) for window in windows)
        self.fields["count"].widget = forms.NumberInput(attrs={"min": 1, "max": 100})

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        try:
            self.instance.windows = windows_from_text(cleaned.get("use") or "")
        except DocumentError as error:
            self.blame(error)
        return cleaned
