"""Quantities in everyday words, converted to text that :func:`needle.quantity.parse` reads."""

from __future__ import annotations

import re

from needle.quantity import QuantityError

#: Before a number: how sure somebody is of it. No figure is made of that.
_ABOUT = re.compile(
    r"^(?:about|approx(?:imately|\.)?|roughly|around|circa|ca\.?|some|max(?:imum|\.)?|up to|[~≈])"
    r"\s*",
    re.IGNORECASE,
)
#: After a unit: what the quantity is of, which its field says.
_OF = re.compile(
    r"(?<=[a-z%\d])\s+(?:inverter|battery|power station|continuous(?:ly)?|max(?:imum|\.)?|peak|"
    r"rated|total|now|each|output|running|surge|label)$",
    re.IGNORECASE,
)
_NUMBERS = {
    "a": 1,
    "an": 1,
    "one": 1,
    "two": 2,
    "three": 3,
    "four": 4,
    "five": 5,
    "six": 6,
    "seven": 7,
    "eight": 8,
    "nine": 9,
    "ten": 10,
    "twelve": 12,
}
_SPELT = re.compile(rf"^(half\s+an?|{'|'.join(_NUMBERS)})\s+(\S.*)$", re.IGNORECASE)
_UNITS = {
    "w": "W",
    "kw": "kW",
    "watt": "W",
    "wh": "Wh",
    "kwh": "kWh",
    "kw/h": "kWh",
    "va": "VA",
    "kva": "kVA",
    "v": "V",
    "a": "A",
    # Whose degrees they are, the field knows.
    "deg": "",
    "degrees": "",
    "°": "",
}
_PLAIN = re.compile(r"^([\d.,\s/]+?)\s*([a-z°][a-z/]*|°)$", re.IGNORECASE)
_CHARGE = r"(?P<ah>[\d.,]+\s*m?ah)"
_VOLTS = r"(?P<v>[\d.,]+\s*v(?:olts?)?)"
_CHARGE_AT = (
    re.compile(rf"^{_CHARGE}[\s,;/]+(?:at\s+)?{_VOLTS}$", re.IGNORECASE),
    re.compile(rf"^{_VOLTS}[\s,;/]+{_CHARGE}$", re.IGNORECASE),
)
_RANGE = re.compile(r"^(\d+(?:\.\d+)?)\s*(?:-|–|to)\s*(\d+(?:\.\d+)?)\s*(\S*)$", re.IGNORECASE)
_SHARES = {"full": "100 %", "half": "50 %", "half full": "50 %", "empty": "0 %"}
_NOT_KNOWN = ("?", "-", "don't know", "dont know", "unknown", "no idea", "n/a", "not sure")
_FRACTIONS = {"½": "1/2", "¼": "1/4", "¾": "3/4"}


def plain_quantity(text: str, unit: str) -> str:
    """Convert text such as ``about 150``, ``1000 W inverter`` or ``100Ah 12V``.

    Parameters
    ----------
    text : str
    unit : str
        The wanted unit: "half" is 50 in percent, and nothing in watts.

    Raises
    ------
    QuantityError
        The text says that the value is unknown, or gives two numbers.
    """
    said = " ".join(text.split())
    if said.casefold() in _NOT_KNOWN:
        raise QuantityError("Leave it empty where you do not know it.")
    for sign, fraction in _FRACTIONS.items():
        said = said.replace(sign, f" {fraction}").strip()
    said = _OF.sub("", _ABOUT.sub("", said))
    if unit == "%" and said.casefold() in _SHARES:
        return _SHARES[said.casefold()]
    if (between := _RANGE.match(said)) and float(between[1]) < float(between[2]):
        middle = (float(between[1]) + float(between[2])) / 2
        example = f"{middle:g} {between[3] or unit}".strip()
        raise QuantityError(f"Write one number, such as the middle: {example}.")
    for pattern in _CHARGE_AT:
        if (charge := pattern.match(said)) and unit == "Wh":
            milli = "m" if charge["ah"].casefold().endswith("mah") else ""
            ah = re.sub(r"\s*m?ah$", f" {milli}Ah", charge["ah"], flags=re.IGNORECASE)
            return f"{ah} @ {re.sub('v(olts?)?$', 'V', charge['v'], flags=re.IGNORECASE)}"
    if spelt := _SPELT.match(said):
        said = _spelt_out(spelt[1], spelt[2])
    if plain := _PLAIN.match(said):
        return f"{plain[1].strip()} {_UNITS.get(plain[2].casefold(), plain[2])}".strip()
    return said


def _spelt_out(number: str, what: str) -> str:
    """``three minutes`` and ``half a day`` with digits."""
    half = number.casefold().startswith("half")
    value = 0.5 if half else float(_NUMBERS[number.casefold()])
    return f"{24 * value:g} h" if what.casefold() in ("day", "days") else f"{value:g} {what}"
