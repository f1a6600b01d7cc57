"""Forms of the watch: few, short, and for one thumb."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django import forms
from django.utils import timezone

from needle.document import DocumentError
from needle.trial.log import charge_of
from web.common.fields import NumberField, QuantityField, moment_field
from web.common.forms import FoldedMixin
from web.trials.models import Trial

#: Longest watch, days.
MOST_DAYS = 30


class ShownField(forms.CharField):
    """A charge as a display shows it: a percentage, or bars; cleaned to the keys of a check-in."""

    def __init__(self, **kwargs: Any) -> None:
        attrs = {"autocomplete": "off", "placeholder": "61 % or 3 of 4"}
        super().__init__(max_length=30, widget=forms.TextInput(attrs=attrs), **kwargs)

    def clean(self, value: Any) -> dict[str, Any]:
        text = super().clean(value)
        try:
            return charge_of(text) if text else {}
        except DocumentError as error:
            raise forms.ValidationError(error.sentence) from None


class LookForm(forms.Form):
    """What the display shows now; the buttons beside it count from what it showed last."""

    shown = ShownField(label="Display shows")

    def __init__(self, *args: Any, trial: Trial, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        attrs = self.fields["shown"].widget.attrs
        attrs["data-stepper"] = ""
        if last := _last_shown(trial):
            attrs |= {"placeholder": f"last {last}", "data-last": last}


def _last_shown(trial: Trial) -> str:
    """The newest charge that a display showed: ``61 %`` or ``3 of 4``; "" if none was read."""
    for check_in in reversed(trial.known_check_ins()):
        data = check_in.data
        if "percent" in data:
            return f"{data['percent']:g} %"
        if "bars" in data and "of" in data:
            return f"{data['bars']:g} of {data['of']:g}"
    if "start_step" in trial.expected:
        return f"{100 * trial.start_charge:.0f} %"
    return ""


class BackForm(forms.Form):
    """The charge at the end, and what was put in where a source charged, if they were read."""

    last_shown = ShownField(label="Display shows now", required=False)
    charged_wh = QuantityField("Wh", label="Charged meanwhile, Wh", most=1e8, required=False)

    def __init__(self, *args: Any, trial: Trial, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        if not trial.ran.get("charged"):
            del self.fields["charged_wh"]


class ChangeForm(FoldedMixin, forms.Form):
    """Since when it is out, the charge then, and until when it is needed."""

    since = moment_field(label="Out since")
    charge_percent = NumberField(unit="%", label="Charge shown then, %", min_value=0, max_value=100)
    until = moment_field(label="Needed until")

    def __init__(self, *args: Any, trial: Trial, **kwargs: Any) -> None:
        self.trial = trial
        needed = trial.started_at + timedelta(hours=trial.needed_h or 0.0)
        kwargs["initial"] = {
            "since": trial.started_at,
            "charge_percent": round(100 * trial.start_charge, 1),
            "until": needed,
        }
        super().__init__(*args, **kwargs)

    def clean(self) -> dict[str, Any]:
        cleaned = super().clean() or self.cleaned_data
        since, until = cleaned.get("since"), cleaned.get("until")
        if since is not None:
            self._check_since(since)
        if since is not None and until is not None:
            self._check_until(since, until)
        charge = cleaned.get("charge_percent")
        if charge is not None and charge / 100 <= self.trial.stop_at:
            self.add_error("charge_percent", "That is not above where it stops.")
        cleaned["charge"] = None if charge is None else charge / 100
        return cleaned

    def _check_since(self, since: datetime) -> None:
        first = min((record.at for record in self.trial.known_check_ins()), default=since)
        if since > timezone.now():
            self.add_error("since", "That is in the future.")
        elif since > first:
            self.add_error("since", "Something was noted before that already.")

    def _check_until(self, since: datetime, until: datetime) -> None:
        if until <= since:
            self.add_error("until", "That is before it went out.")
        elif until - since > timedelta(days=MOST_DAYS):
            self.add_error("until", f"At most {MOST_DAYS} days.")
