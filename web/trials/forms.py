"""Forms of trials and check-ins."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any, ClassVar

from django import forms
from django.utils import timezone

from needle.document import DocumentError
from needle.plan.load import AC
from needle.trial.log import MOST_BARS, check_ins_of_log
from needle.trial.trial import BATTERY, parse_check_ins
from web.common.fields import (
    NumberField,
    QuantityField,
    TickedField,
    WholeNumberField,
    moment_field,
    share_field,
)
from web.common.forms import OnceMixin, PercentMixin, RecordForm
from web.common.units import clock, day_clock
from web.jobs.models import Job
from web.supplies.models import supplies_of
from web.trials.models import ENDS, CheckIn, Trial

#: Largest log that is taken as a file, bytes.
MOST_LOG = 1_000_000


class TrialForm(PercentMixin, RecordForm):
    """A trial; a new one with the loads that run in it."""

    loads: Any = TickedField(
        None,
        label="Or these loads",
        required=False,
        widget=forms.CheckboxSelectMultiple,
        help_text="Where no plan is named: what runs in it, as it is usually used.",
    )
    started_at = moment_field(label="Started")
    start_charge = share_field(label="Charge at the start", above=True)
    stop_at = share_field(
        label="Stop at", most=95, help_text="0: run to the cut-off, for the truth."
    )
    counted = forms.ChoiceField(label="Wh, Ah and W are read at", required=False)
    room_c = QuantityField("°C", label="Room", least=-60, most=80, required=False)

    shares: ClassVar = ("start_charge", "stop_at")
    main: ClassVar[tuple[str, ...]] = (
        "name",
        "plan",
        "supply",
        "started_at",
        "start_charge",
        "stop_at",
    )

    class Meta:
        model = Trial
        fields = [
            "name",
            "plan",
            "loads",
            "supply",
            "started_at",
            "start_charge",
            "stop_at",
            "counted",
            "room_c",
            "contents",
            "begins",
            "note",
            "counts",
        ]
        help_texts: ClassVar = {
            "plan": "Its loads are what is expected; none for loads that you tick, or an open run.",
            "contents": "Such as half full, cold at the start.",
            "counts": "Once it has ended, plans with the same loads on this supply rest on it.",
        }

    def __init__(self, *args: Any, job: Job, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        places = [(BATTERY, "the battery")]
        if self.instance.pk:
            # What it was expected to do is kept as it was.
            for name in ("plan", "loads", "supply"):
                del self.fields[name]
            places += [(place, place) for place in self.instance.places if place != BATTERY]
        else:
            self.fields["plan"].queryset = job.plans.live()  # type: ignore[attr-defined]
            self.fields["supply"].queryset = job.supplies.live()  # type: ignore[attr-defined]
            self.fields["loads"].queryset = job.loads.live()  # type: ignore[attr-defined]
            self.fields["plan"].empty_label = "no plan"  # type: ignore[attr-defined]
            self.fields["supply"].required = True
            outputs = {
                output.name for supply in supplies_of(job) for output in supply.known_outputs()
            }
            places += [(AC, "AC"), *((name, name) for name in sorted(outputs))]
        self.fields["counted"].choices = places  # type: ignore[attr-defined]
        self.show_shares()

    @property
    def ticked(self) -> set[int]:
        """Primary keys of the loads that run in it, without a plan."""
        return {load.pk for load in self.cleaned_data.get("loads") or ()}

    def clean_counted(self) -> str:
        return self.cleaned_data["counted"] or BATTERY

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        self.store_shares(cleaned)
        start, stop = cleaned.get("start_charge"), cleaned.get("stop_at")
        if start is not None and stop is not None and stop >= start:
            self.add_error("stop_at", f"It starts at {start * 100:.3g} %: stop below that.")
        if not self.instance.pk:
            self._check_place(cleaned)
        return cleaned

    def _check_place(self, cleaned: dict[str, Any]) -> None:
        """Counting elsewhere than at the battery needs loads."""
        place, supply = cleaned.get("counted"), cleaned.get("supply")
        if place in (None, BATTERY) or supply is None:
            return
        has = place == AC and supply.continuous_w
        if not has and place not in {output.name for output in supply.known_outputs()}:
            self.add_error("counted", f"{supply.name} has no {place}.")
        elif cleaned.get("plan") is None and not cleaned.get("loads"):
            self.add_error("counted", "Name a plan or tick loads: else only the battery's count.")


TIMES = {
    "elapsed": "since the start (1:30, 2 d 4:10)",
    "clock": "of the clock (14:20, Tue 14:20)",
}


class PastRunForm(TrialForm):
    """A finished run, from its log."""

    ended_why = forms.ChoiceField(label="Outcome", choices=list(ENDS.items()))
    ended_h = QuantityField(
        "h",
        label="Ended after",
        most=744,
        above=True,
        required=False,
        help_text="Empty: with the log's last row.",
    )
    times = forms.ChoiceField(label="Times are", choices=list(TIMES.items()))
    log = forms.CharField(
        label="Log",
        required=False,
        max_length=MOST_LOG,
        widget=forms.Textarea(attrs={"rows": 10, "class": "mono"}),
        help_text="One row per check-in: time, charge (80 % or 3 of 4 bars), Wh, W, note, with "
        "tabs, semicolons or commas between; the first row may name the columns. Or each figure "
        "with its unit: 6h 88 % 22 Ah.",
    )
    file = forms.FileField(label="Or a CSV file", required=False)

    main: ClassVar = ("name", "supply", "started_at", "times", "log", "ended_why")
    field_order = [
        "name",
        "plan",
        "loads",
        "supply",
        "started_at",
        "start_charge",
        "stop_at",
        "counted",
        "times",
        "log",
        "file",
        "ended_why",
        "ended_h",
    ]

    class Meta(TrialForm.Meta):
        fields = [*TrialForm.Meta.fields, "ended_why"]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean()
        started = cleaned.get("started_at")
        if started is None or "times" not in cleaned:
            return cleaned
        begin = timezone.localtime(started) if cleaned["times"] == "clock" else None
        try:
            check_ins = check_ins_of_log(self._text(cleaned), begin)
            parse_check_ins(check_ins)
        except DocumentError as error:
            self.add_core_error(error, {"check_ins": "log"})
            return cleaned
        last_h = max(check_in["h"] for check_in in check_ins)
        ended_h = cleaned.get("ended_h") or last_h
        if ended_h < last_h - 1e-6:
            self.add_error("ended_h", f"The log goes on to {last_h:.4g} h.")
        elif ended_h <= 0:
            self.add_error("ended_h", "The log has one moment only: after how long did it end?")
        elif started + timedelta(hours=ended_h) > timezone.now():
            self.add_error("started_at", "It would end ahead of now: check the start.")
        cleaned["check_ins"], cleaned["ended_h"] = check_ins, ended_h
        return cleaned

    def _text(self, cleaned: dict[str, Any]) -> str:
        file = cleaned.get("file")
        if file is None:
            return str(cleaned.get("log") or "")
        if file.size > MOST_LOG:
            raise DocumentError("file", f"is larger than {MOST_LOG // 1000} kB")
        try:
            return str(file.read().decode("utf-8-sig"))
        except UnicodeDecodeError:
            raise DocumentError("file", "is not UTF-8 text") from None


class _MomentMixin(forms.Form):
    """Time of a check-in: elapsed, or by the clock; empty for now."""

    def moment_of(
        self, cleaned: dict[str, Any], trial: Trial, at: str, usual: datetime
    ) -> datetime:
        elapsed = cleaned.get("elapsed")
        if elapsed is not None:
            return trial.started_at + timedelta(hours=elapsed)
        return cleaned.get(at) or usual


class CheckInForm(OnceMixin, _MomentMixin):
    """Figures at one moment, named as in the document."""

    percent = NumberField(unit="%", label="Charge, %", required=False)
    bars = WholeNumberField(label="Bars", required=False)
    of = WholeNumberField(label="Of", required=False)
    watts = QuantityField("W", label="W out", most=1e6, required=False)
    watts_at = forms.ChoiceField(label="W out read at", required=False)
    watts_in = QuantityField("W", label="W in", most=1e6, required=False)
    wh = QuantityField("Wh", label="Wh counted", most=1e8, required=False)
    ah = QuantityField("Ah", label="Ah counted", most=1e6, required=False)
    wh_in = QuantityField("Wh", label="Wh charged", most=1e8, required=False)
    volts = QuantityField("V", label="Volts", most=2000, required=False)
    amps = QuantityField(
        "A", label="Amps", most=1e5, required=False, help_text="With volts they are watts."
    )
    display_h = QuantityField("h", label="Display says left", most=10_000, required=False)
    room_c = QuantityField("°C", label="Room", least=-60, most=80, required=False)
    inside_c = QuantityField("°C", label="Inside", least=-100, most=400, required=False)
    leg = forms.CharField(
        label="Something changed",
        max_length=120,
        required=False,
        help_text="Such as heat mat to low: a new leg begins here.",
    )
    back_to = forms.ChoiceField(label="Or back to", required=False)
    on = forms.MultipleChoiceField(
        label="Runs from then on", required=False, widget=forms.CheckboxSelectMultiple
    )
    loads_shown = forms.BooleanField(required=False, initial=True, widget=forms.HiddenInput)
    on_before = forms.JSONField(required=False, widget=forms.HiddenInput)
    note = forms.CharField(max_length=400, required=False)
    elapsed = QuantityField(
        "h",
        label="Elapsed",
        most=744,
        required=False,
        help_text="As its counter shows it: 26:10, 1 d 2:10.",
    )
    at = moment_field(label="Or when", required=False, help_text="Both empty: now.")

    #: Shown large and first; the rest folds, but for what was used the last time.
    main: ClassVar = ("percent", "watts", "wh", "display_h")
    #: Fields that are not figures of the document.
    own: ClassVar = (
        "at",
        "elapsed",
        "back_to",
        "on",
        "on_before",
        "loads_shown",
        "client_key",
        "version",
    )

    def __init__(
        self, *args: Any, record: CheckIn, made_at: datetime | None = None, **kwargs: Any
    ) -> None:
        """``made_at`` is when it was typed, if that was not just now."""
        self.record, self.made_at = record, made_at
        if record.pk:
            kwargs["initial"] = {**record.data, "at": record.at}
        super().__init__(*args, **kwargs)
        for name in ("bars", "of"):
            self.fields[name].widget.attrs |= {"data-stepper": "", "data-most": MOST_BARS}
        self._offer_places(record.trial)
        self._offer_loads(record)
        if not record.pk:
            self._show_last(record.trial)
        legs = list(dict.fromkeys(["start", *_legs(record)]))
        if len(legs) > 1:
            choices = [("", "–"), *((leg, leg) for leg in legs)]
            self.fields["back_to"].choices = choices  # type: ignore[attr-defined]
        else:
            del self.fields["back_to"]
        self.add_guards(record.version if record.pk else None)

    def _show_last(self, trial: Trial) -> None:
        """Show the figures of the last check-in as placeholders."""
        for check_in in trial.known_check_ins()[-1:]:
            for name, value in check_in.data.items():
                if name in self.fields and isinstance(value, int | float):
                    attrs = self.fields[name].widget.attrs
                    attrs |= {"placeholder": f"last {value:g}", "data-last": f"{value:g}"}

    def _offer_places(self, trial: Trial) -> None:
        """Offer where W are read; by default at the outlets."""
        places = trial.places
        if len(places) == 1:
            del self.fields["watts_at"]
            return
        words = {BATTERY: "the battery", AC: "the AC outlets"}
        choices = [(place, words.get(place, place)) for place in places]
        self.fields["watts_at"].choices = choices  # type: ignore[attr-defined]
        usual = AC if AC in places and trial.counted == BATTERY else trial.counted
        self.initial.setdefault("watts_at", usual)

    def _offer_loads(self, record: CheckIn) -> None:
        """Tick what runs; a change begins a leg."""
        names = record.trial.load_names
        if not names:
            for name in ("on", "on_before", "loads_shown"):
                del self.fields[name]
            return
        self.fields["on"].choices = [(name, name) for name in names]  # type: ignore[attr-defined]
        before = record.trial.on_at(record.at, record)
        self.initial["on"] = record.data.get("on", before) if record.pk else before
        self.initial["on_before"] = self.initial["on"]

    def main_fields(self) -> list[forms.BoundField]:
        """The usual fields, and those of the last check-in."""
        check_ins = self.record.trial.known_check_ins()
        last = check_ins[-1].data if check_ins else {}
        used = {"bars", "of"} if "bars" in last else set()
        used |= {"ah", "volts", "amps", "watts_in", "wh_in"} & last.keys()
        shown = used | {name for name in self.main if name != "percent" or "bars" not in used}
        shown |= {"watts_at"}
        return [self[name] for name in self.fields if name in shown]

    def more_fields(self) -> list[forms.BoundField]:
        main = {field.name for field in self.main_fields()}
        return [field for field in self.visible_fields() if field.name not in main]

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        self.check_version(cleaned)
        data = {
            key: value
            for key, value in cleaned.items()
            if key not in self.own and value not in (None, "")
        }
        if not {"watts", "amps"} & set(data):
            data.pop("watts_at", None)
        if cleaned.get("back_to"):
            data.setdefault("leg", cleaned["back_to"])
        trial = self.record.trial
        usual = self.record.at if self.record.pk else self.made_at or timezone.now()
        moment = self.moment_of(cleaned, trial, "at", usual)
        if cleaned.get("loads_shown"):
            self._note_what_runs(cleaned, trial.on_at(moment, self.record), data)
        if self.errors:
            return cleaned
        if not data and "still_on" not in self.data:
            self.add_error(None, "Give at least one figure, or a note; or say that it still runs.")
            return cleaned
        # What an imported one says that the form does not show is kept.
        stored = self.record.data.items()
        data = {**{key: value for key, value in stored if key not in self.fields}, **data}
        ask_for_volts(self, trial, data)
        if "amps" in data and not {"volts", "watts"} & set(data):
            self.add_error("volts", "Amps alone are no watts: give the volts beside them.")
        self._check_moment(trial, moment)
        if self.errors:
            return cleaned
        self._check_beside_others(trial, moment, data)
        self.record.at, self.record.data = moment, data
        return cleaned

    def _note_what_runs(
        self, cleaned: dict[str, Any], before: list[str], data: dict[str, Any]
    ) -> None:
        """Note the loads that run, if they change: those ticked or unticked in this form."""
        ticked, shown = set(cleaned.get("on", ())), cleaned.get("on_before")
        if self.record.pk is None and isinstance(shown, list):
            # What another device switched meanwhile stays as it is.
            unticked = {name for name in shown if isinstance(name, str)} - ticked
            added = {name for name in ticked if name not in shown}
            ticked = (set(before) | added) - unticked
        on = [name for name in self.record.trial.load_names if name in ticked]
        if on != before:
            data["on"] = on

    def _check_moment(self, trial: Trial, moment: datetime) -> None:
        """Refuse a time before the start, or in the future."""
        if trial.hours_to(moment) < 0:
            started = timezone.localtime(trial.started_at)
            self.add_error(
                "at",
                f"The trial began {started:%a %d %b} {clock(started)}: this is before its start.",
            )
        elif moment > timezone.now() and trial.simulated_seed is None:
            self.add_error("at", "That time is in the future: enter only what you have seen.")

    def _check_beside_others(self, trial: Trial, moment: datetime, data: dict[str, Any]) -> None:
        others = [
            trial.seen(check_in)
            for check_in in (trial.known_check_ins() if trial.pk else ())
            if check_in.pk != self.record.pk
        ]
        try:
            parse_check_ins([*others, {"h": trial.hours_to(moment), **data}])
        except DocumentError as error:
            self.add_core_error(error, {"check_ins": "leg"})


def ask_for_volts(form: forms.BaseForm, trial: Trial, data: Mapping[str, Any]) -> None:
    """Refuse amp-hours without any volts, which could not be used."""
    if data.get("ah") is None or data.get("volts") is not None:
        return
    if trial.to_core().battery.volts is None:
        form.add_error(
            "ah", "The battery's volts are not known, so that Ah say nothing: give the volts too."
        )


def _legs(record: CheckIn) -> list[str]:
    return [
        check_in.data["leg"]
        for check_in in record.trial.known_check_ins()
        if check_in.pk != record.pk and check_in.data.get("leg")
    ]


class EndForm(OnceMixin, _MomentMixin):
    """When and why a trial ended, and the figures then."""

    why = forms.ChoiceField(label="Outcome", choices=list(ENDS.items()))
    elapsed = QuantityField(
        "h", label="After", most=744, required=False, help_text="As its counter shows it: 26:10."
    )
    ended_at = moment_field(label="Or when", required=False, help_text="Both empty: now.")
    percent = NumberField(unit="%", label="Last charge, %", required=False)
    wh = QuantityField("Wh", label="Last count, Wh", most=1e8, required=False)
    ah = QuantityField("Ah", label="Last count, Ah", most=1e6, required=False)
    volts = QuantityField("V", label="Last volts", most=2000, required=False)

    #: What is kept as a check-in at the end.
    figures: ClassVar = ("percent", "wh", "ah", "volts")

    def __init__(self, *args: Any, trial: Trial, **kwargs: Any) -> None:
        self.trial = trial
        super().__init__(*args, **kwargs)

    @property
    def seen(self) -> dict[str, Any]:
        """Figures at the end, named as in the document."""
        cleaned = self.cleaned_data
        return {name: cleaned[name] for name in self.figures if cleaned.get(name) is not None}

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        moment = self.moment_of(cleaned, self.trial, "ended_at", timezone.now())
        last = self.trial.known_check_ins()[-1:]
        if moment <= self.trial.started_at:
            self.add_error("ended_at", "That is before the trial began.")
        elif last and moment < last[0].at:
            at = timezone.localtime(last[0].at)
            self.add_error("ended_at", f"There is a check-in after that, at {day_clock(at)}.")
        elif moment > timezone.now() and self.trial.simulated_seed is None:
            self.add_error("ended_at", "That time is in the future.")
        cleaned["ended_at"] = moment
        ask_for_volts(self, self.trial, cleaned)
        if not self.errors:
            try:
                parse_check_ins([{"h": self.trial.hours_to(moment), **self.seen}])
            except DocumentError as error:
                self.add_core_error(error)
        return cleaned
