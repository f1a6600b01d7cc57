"""Forms of trials and check-ins."""

from __future__ import annotations

from typing import Any, ClassVar

from django import forms
from django.utils import timezone

from needle.document import DocumentError
from needle.trial.trial import parse_check_ins
from web.common.fields import QuantityField, moment_field, share_field
from web.common.forms import OnceMixin, PercentMixin, RecordForm
from web.jobs.models import Job
from web.trials.models import ENDS, CheckIn, Trial


class TrialForm(PercentMixin, RecordForm):
    started_at = moment_field(label="Started")
    start_charge = share_field(label="Charge at the start", above=True)
    stop_at = share_field(
        label="Stop at", most=95, help_text="0: run to the cut-off, for the truth."
    )
    room_c = QuantityField("°C", label="Room", least=-60, most=80, required=False)

    shares: ClassVar = ("start_charge", "stop_at")

    class Meta:
        model = Trial
        fields = [
            "name", "plan", "supply", "started_at", "start_charge", "stop_at", "room_c",
            "contents", "note", "counts",
        ]  # fmt: skip
        help_texts: ClassVar = {
            "plan": "Its loads are what is expected; none for an open run.",
            "contents": "Such as half full, cold at the start.",
            "counts": "Once it has ended, plans with the same loads on this supply rest on it.",
        }

    def __init__(self, *args: Any, job: Job, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["plan"].queryset = job.plans.live()  # type: ignore[attr-defined]
        self.fields["supply"].queryset = job.supplies.live()  # type: ignore[attr-defined]
        self.fields["plan"].empty_label = "no plan"  # type: ignore[attr-defined]
        self.fields["supply"].required = True
        self.show_shares()

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.store_shares(cleaned)
        start, stop = cleaned.get("start_charge"), cleaned.get("stop_at")
        if start is not None and stop is not None and stop >= start:
            self.add_error("stop_at", f"It starts at {start * 100:.3g} %: stop below that.")
        return cleaned


class CheckInForm(OnceMixin, forms.Form):
    """What is seen at one moment: any of the fields, as the document names them."""

    percent = forms.FloatField(label="charge, %", required=False)
    bars = forms.IntegerField(label="bars", required=False)
    of = forms.IntegerField(label="of", required=False)
    watts = QuantityField("W", label="drawn", most=1e6, required=False)
    wh = QuantityField("Wh", label="counted", most=1e8, required=False)
    ah = QuantityField("Ah", label="counted, Ah", most=1e6, required=False)
    volts = QuantityField("V", label="volts", most=2000, required=False)
    display_h = QuantityField("h", label="display says left", most=10_000, required=False)
    room_c = QuantityField("°C", label="room", least=-60, most=80, required=False)
    inside_c = QuantityField("°C", label="inside", least=-100, most=400, required=False)
    leg = forms.CharField(
        label="something changed", max_length=120, required=False,
        help_text="Such as heat mat to low: a new leg begins here.",
    )  # fmt: skip
    note = forms.CharField(max_length=400, required=False)
    at = moment_field(label="when", required=False, help_text="Empty: now.")

    #: Shown large and first; the rest folds, but for what was used the last time.
    main: ClassVar = ("percent", "watts", "wh", "display_h")

    def __init__(self, *args: Any, record: CheckIn, **kwargs: Any) -> None:
        self.record = record
        if record.pk:
            kwargs["initial"] = {**record.data, "at": record.at}
        super().__init__(*args, **kwargs)
        for name in ("percent", "bars", "of"):
            self.fields[name].widget.attrs["inputmode"] = "decimal"
        for one in record.trial.known_check_ins()[-1:] if not record.pk else ():
            for name, value in one.data.items():
                if name in self.fields and name not in ("leg", "note"):
                    self.fields[name].widget.attrs["placeholder"] = f"last {value:g}"
        self.add_guards(record.version if record.pk else None)

    def main_fields(self) -> list[forms.BoundField]:
        """The usual fields, and those that the last check-in used."""
        last = self.record.trial.known_check_ins()[-1:]
        used = {"bars", "of"} if last and "bars" in last[0].data else set()
        used |= {name for check_in in last for name in check_in.data if name in ("ah", "volts")}
        names = [name for name in self.main if name != "percent" or "bars" not in used]
        return [self[name] for name in [*(field for field in self.fields if field in used), *names]]

    def more_fields(self) -> list[forms.BoundField]:
        main = {field.name for field in self.main_fields()}
        return [field for field in self.visible_fields() if field.name not in main]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        self.check_version(cleaned)
        own = ("at", "client_key", "version")
        data = {
            key: value
            for key, value in cleaned.items()
            if key not in own and value not in (None, "")
        }
        moment = cleaned.get("at") or (self.record.at if self.record.pk else timezone.now())
        if self.errors:
            return cleaned
        if not data:
            self.add_error(None, "Give at least one figure, or a note.")
            return cleaned
        trial = self.record.trial
        hours = trial.hours_to(moment)
        if hours < 0:
            started = timezone.localtime(trial.started_at)
            self.add_error(
                "at", f"The trial began {started:%a %d %b %H:%M}: this is before its start."
            )
            return cleaned
        if moment > timezone.now() and trial.simulated_seed is None:
            self.add_error("at", "This lies ahead: a check-in is what was seen.")
            return cleaned
        others = list(trial.to_document()["check_ins"]) if trial.pk else []
        if self.record.pk:
            mine = round(trial.hours_to(self.record.at), 4)
            others = [other for other in others if other["h"] != mine]
        try:
            parse_check_ins([*others, {"h": hours, **data}])
        except DocumentError as error:
            self.blame(error, {"check_ins": "leg"})
        self.record.at, self.record.data = moment, data
        return cleaned


class EndForm(forms.Form):
    """When and why a trial ended."""

    why = forms.ChoiceField(label="It", choices=list(ENDS.items()))
    ended_at = moment_field(label="when", required=False, help_text="Empty: now.")

    def __init__(self, *args: Any, trial: Trial, **kwargs: Any) -> None:
        self.trial = trial
        super().__init__(*args, **kwargs)

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        moment = cleaned.get("ended_at") or timezone.now()
        last = self.trial.known_check_ins()[-1:]
        if moment <= self.trial.started_at:
            self.add_error("ended_at", "That is before the trial began.")
        elif last and moment < last[0].at:
            at = timezone.localtime(last[0].at)
            self.add_error("ended_at", f"There is a check-in after that, at {at:%a %H:%M}.")
        elif moment > timezone.now() and self.trial.simulated_seed is None:
            self.add_error("ended_at", "That lies ahead.")
        cleaned["ended_at"] = moment
        return cleaned
