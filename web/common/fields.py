"""Form fields and widgets for quantities."""

from __future__ import annotations

import math
import re
from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.urls import reverse_lazy
from django.utils import timezone

from needle import quantity
from needle.household import plain_quantity
from needle.words.figures import fahrenheit
from web.common.addresses import key_of
from web.common.units import celsius, temperature, units
from web.common.validation import in_our_time

#: A temperature difference: "4", "4 °C", "7 F".
_APART = re.compile(r"\s*(?P<number>[\d.,]+)\s*(?:°|deg)?\s*(?P<scale>[cfk])?\s*", re.IGNORECASE)


class QuantityInput(forms.TextInput):
    """A text input that shows below it how the text is understood while typing."""

    template_name = "django/forms/widgets/quantity.html"

    def __init__(self, unit: str, attrs: dict[str, Any] | None = None) -> None:
        super().__init__(attrs)
        self.unit = unit
        #: The field that says what a bare number is in; "" for ``unit``.
        self.unit_field = ""

    def get_context(self, name: str, value: Any, attrs: dict[str, Any] | None) -> dict[str, Any]:
        context = super().get_context(name, value, attrs)
        context["widget"] |= {"unit": self.unit, "unit_field": self.unit_field}
        context["widget"]["echo_url"] = reverse_lazy("common:echo")
        return context


class QuantityField(forms.CharField):
    """Text such as ``0,71 kWh`` as a float in ``unit``.

    Parameters
    ----------
    unit : str
        Unit of the cleaned value.
    least, most : float
        Bounds of the cleaned value.
    difference : bool
        Whether it is a temperature difference.
    read_on_meter : bool
        Whether it is read on a meter; horsepower, which only labels have, is then refused.
    """

    def __init__(
        self,
        unit: str,
        *,
        least: float = 0.0,
        most: float = math.inf,
        above: bool = False,
        difference: bool = False,
        read_on_meter: bool = False,
        **kwargs: Any,
    ) -> None:
        self.unit, self.least, self.most, self.above = unit, least, most, above
        self.difference, self.read_on_meter = difference, read_on_meter
        kwargs.setdefault("widget", QuantityInput(unit))
        kwargs.setdefault("max_length", quantity.MAX_TEXT)
        super().__init__(**kwargs)

    def prepare_value(self, value: Any) -> Any:
        """Stored numbers with their unit; typed text unchanged."""
        if isinstance(value, int | float) and self.unit == "°C":
            if units().fahrenheit:
                return f"{fahrenheit(value, self.difference):.4g} °F"
            return f"{value:.4g} °C"
        if isinstance(value, int | float):
            return f"{value:.10g} {'%' if self.unit == '%' else self.unit}".strip()
        return value

    def clean(self, value: Any) -> Any:
        text = super().clean(value)
        if not text:
            return None
        if self.read_on_meter and quantity.is_horsepower(text):
            raise ValidationError(
                "Horsepower is at the shaft, and no meter shows it: keep it as a label reading."
            )
        try:
            number = self._parse(text)
        except quantity.QuantityError as error:
            raise ValidationError(str(error)) from None
        self._check_bounds(text, number)
        return number

    def _parse(self, text: str) -> float:
        """The number in the field's unit; temperatures without a unit in the person's own unit."""
        text = plain_quantity(text, self.unit)
        if self.unit != "°C":
            return quantity.parse(text, self.unit).value
        bare = "°F" if units().fahrenheit else "°C"
        if not self.difference:
            degrees = quantity.parse(text, bare).value
            return celsius(degrees) if units().fahrenheit else degrees
        # Degrees apart have no zero: what was written in °F is scaled only.
        apart = _APART.fullmatch(text)
        if apart is None:
            return quantity.parse(text, "°C").value
        degrees = quantity.parse(apart["number"], "°C").value
        scale = (apart["scale"] or bare[-1]).casefold()
        return celsius(degrees, difference=True) if scale == "f" else degrees

    def _check_bounds(self, text: str, number: float) -> None:
        if number < self.least or (self.above and number == self.least):
            word = "above" if self.above else "at least"
            raise ValidationError(
                f"{text} is too small: this must be {word} {self._bound(self.least)}."
            )
        if number > self.most:
            most = self._bound(self.most)
            raise ValidationError(f"{text} is more than this can be: at most {most}.")

    def _bound(self, value: float) -> str:
        if self.unit == "°C":
            return temperature(value, self.difference)
        return quantity.with_unit(value, self.unit)

    def has_changed(self, initial: Any, data: Any) -> bool:
        return bool((self.prepare_value(initial) or "") != (data or ""))


#: What counters of energy show.
COUNTER_UNITS = ("Wh", "kWh")
_BARE = re.compile(r"\s*[.,]?\d[\d.,\u202f\u00a0 ]*\s*")


def with_own_unit(text: str, unit: str) -> str:
    """A number without a unit gets the unit it was typed in; other text is unchanged."""
    return f"{text.strip()} {unit}" if unit and _BARE.fullmatch(text) else text


def share_field(**kwargs: Any) -> QuantityField:
    """A share written in percent; cleaned to percent, stored by the form as 0…1."""
    return QuantityField("%", most=kwargs.pop("most", 100.0), **kwargs)


class NumberInput(forms.TextInput):
    """A number as text: a browser's own number field turns a typed 0,32 into 032."""

    def __init__(self, attrs: dict[str, Any] | None = None) -> None:
        super().__init__({"inputmode": "decimal", "autocomplete": "off", **(attrs or {})})


class NumberField(forms.FloatField):
    """A number, with a decimal comma or point; its unit may be written behind it."""

    widget = NumberInput

    def __init__(self, *, unit: str = "", **kwargs: Any) -> None:
        self.unit = unit
        super().__init__(**kwargs)

    def prepare_value(self, value: Any) -> Any:
        return f"{value:.10g}" if isinstance(value, float) else value

    def to_python(self, value: Any) -> Any:
        if isinstance(value, str) and value.strip():
            try:
                if self.unit:
                    return quantity.parse(value, self.unit).value
                return quantity.number(value)
            except quantity.QuantityError as error:
                raise ValidationError(str(error)) from None
        return super().to_python(value)


class WholeNumberField(forms.IntegerField):
    """A whole number."""

    widget = NumberInput


class TickedField(forms.ModelMultipleChoiceField):
    """Check boxes for records; values that are not primary keys never reach the database."""

    def clean(self, value: Any) -> Any:
        for text in value or ():
            if key_of(str(text)) is None:
                message = self.error_messages["invalid_choice"]
                raise ValidationError(message, "invalid_choice", {"value": str(text)[:40]})
        return super().clean(value)


class MomentInput(forms.DateTimeInput):
    """A date and time of day, with the time zone shown."""

    template_name = "django/forms/widgets/moment.html"

    def __init__(self) -> None:
        super().__init__(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M")

    def get_context(self, name: str, value: Any, attrs: dict[str, Any] | None) -> dict[str, Any]:
        context = super().get_context(name, value, attrs)
        context["widget"]["zone"] = timezone.get_current_timezone_name().replace("_", " ")
        return context


def moment_field(**kwargs: Any) -> forms.DateTimeField:
    """A date and time of day in the job's time zone."""
    widget = MomentInput()
    return forms.DateTimeField(widget=widget, validators=[in_our_time], **kwargs)
