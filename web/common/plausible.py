"""Questions about implausible numbers before they are stored."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from django import forms

from needle.quantity import as_read, with_unit
from web.common.fields import QuantityField

#: How many times outside of what is usual a number must lie to be asked about.
FAR = 10.0
#: Units of which people mix up the thousandfold.
_THOUSANDFOLD = {"Wh": "kWh", "W": "kW", "VA": "kVA"}


#: A comma before exactly three digits: a thousand, or a decimal.
_COMMA = re.compile(r"(?P<whole>[1-9]\d{0,2}),(?P<rest>\d{3})(?P<unit>\s*[a-zA-Z%°]*)")


@dataclass(frozen=True)
class Question:
    """A question about a number, and its answers: text for the field, and words."""

    words: str
    answers: tuple[tuple[str, str], ...]


class PlausibleMixin(forms.BaseForm):
    """A form that asks about numbers far outside the usual range of its fields.

    Choosing an answer submits ``sure`` as ``field=text`` and writes the text into the field. It is
    submitted again as ``was_sure``, which applies only while the field still has that text.
    """

    def usual(self, cleaned: dict[str, Any]) -> dict[str, tuple[float, float]]:
        """Usual minimum and maximum of fields, by name, in the field's unit."""
        raise NotImplementedError

    def answered(self) -> dict[str, str]:
        """Texts of fields that were confirmed."""
        if not hasattr(self.data, "getlist"):
            return {}
        before = self._pairs("was_sure").items()
        still = {
            name: text for name, text in before if self.data.get(self.add_prefix(name)) == text
        }
        return still | self._pairs("sure")

    def _pairs(self, key: str) -> dict[str, str]:
        texts = self.data.getlist(key)  # type: ignore[attr-defined]
        pairs = (text.partition("=") for text in texts)
        return {name: text for name, _, text in pairs if name in self.fields and text}

    def take_answers(self) -> None:
        """Write confirmed texts into the fields; call this once the form is bound."""
        answered = self.answered() if self.is_bound else {}
        if answered:
            self.data = self.data.copy()  # type: ignore[attr-defined]
            for name, text in answered.items():
                self.data[self.add_prefix(name)] = text  # type: ignore[index]
                self.fields[name].sure = f"{name}={text}"  # type: ignore[attr-defined]

    def full_clean(self) -> None:
        super().full_clean()
        for name in self.errors if self.is_bound else ():
            field = self.fields.get(name)
            if isinstance(field, QuantityField):
                typed = str(self.data.get(self.add_prefix(name)) or "")
                if question := _comma_question(typed.strip(), field.unit):
                    field.question = question  # type: ignore[attr-defined]

    def ask(self, cleaned: dict[str, Any]) -> None:
        """Add a question for each number far outside the usual range that is not confirmed."""
        answered = self.answered()
        for name, (least, most) in self.usual(cleaned).items():
            value, field = cleaned.get(name), self.fields.get(name)
            if not value or name in answered or not isinstance(field, QuantityField):
                continue
            if least / FAR <= value <= most * FAR:
                continue
            question = _question(value, field.unit, least, most)
            field.question = question  # type: ignore[attr-defined]
            self.add_error(name, question.words)


def _comma_question(text: str, unit: str) -> Question | None:
    """Whether ``1,000 W`` is a thousand or one; None if the text is not ambiguous."""
    match = _COMMA.fullmatch(text)
    if match is None:
        return None
    written = match["unit"].strip() or unit
    texts = (
        f"{match['whole']}{match['rest']} {written}",
        f"{match['whole']}.{match['rest']} {written}",
    )
    return Question(f"{texts[0]}, or {texts[1]}?", tuple((text, text) for text in texts))


def _question(value: float, unit: str, least: float, most: float) -> Question:
    """Whether a number or its thousandfold is meant; or whether it is right if neither is usual."""
    typed, larger = as_read(value, unit), _THOUSANDFOLD.get(unit)
    other = ""
    if larger and value < least and least / FAR <= 1000 * value <= most * FAR:
        other = f"{value:.6g} {larger}"
    elif larger and value > most and least / FAR <= value / 1000 <= most * FAR:
        other = f"{value / 1000:.6g} {unit}"
    as_typed = f"{value:.10g} {unit}"
    if other:
        return Question(f"{typed}, or {other}?", ((as_typed, typed), (other, other)))
    usual = f"{with_unit(least, unit, 2)} to {with_unit(most, unit, 2)}"
    return Question(f"{typed}? Usual is {usual}.", ((as_typed, f"Yes, {typed}"),))
