"""Quantities as text: parsing into a number in a known unit, and formatting.

Watts, volt-amperes and vars are kept apart although they have the same SI dimension: a field for
real power must not accept a clamp's apparent power without notice.
"""

from __future__ import annotations

import math
import re
import threading
from dataclasses import dataclass
from functools import cache, lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pint

#: Units of the trade. ``hp`` is the electric horsepower, 746 W exactly; pound and cubic foot
#: (NIST SP 811, App. B.8).
_DEFINITIONS = """
giga- = 1e9 = G-
mega- = 1e6 = M-
kilo- = 1e3 = k-
milli- = 1e-3 = m-
micro- = 1e-6 = µ- = u-
watt = [power] = W
volt_ampere = [apparent_power] = VA
var = [reactive_power] = var
volt = [voltage] = V
ampere = [current] = A
hertz = [frequency] = Hz
ohm = [resistance] = ohm
farad = [capacitance] = F
meter = [length] = m
foot = 0.3048 * meter = ft
liter = [volume] = L
cubic_foot = 28.316846592 * liter = cuft
gram = [mass] = g
pound = 453.59237 * gram = lb
share = [share] = share
percent = share / 100 = percent
kelvin = [temperature]; offset: 0 = K
degree_celsius = kelvin; offset: 273.15 = degC
degree_fahrenheit = 5 / 9 * kelvin; offset: 233.15 + 200 / 9 = degF
hour = [time] = h
minute = hour / 60 = min
second = hour / 3600 = s
day = 24 * hour = day
year = 365 * day = year
watt_hour = [energy] = Wh
joule = watt_hour / 3600 = J
ampere_hour = [charge] = Ah
horsepower = 746 * watt = hp
meter_per_second = [speed] = mps
kilometer_per_hour = meter_per_second / 3.6 = kmph
mile_per_hour = 0.44704 * meter_per_second = mph
knot = 1852 / 3600 * meter_per_second = kn
watt_hour_per_year = [yearly_energy] = Whpyear
watt_hour_per_day = 365 * watt_hour_per_year = Whpday
"""

#: Symbols of the units above, without a prefix: ``W``, ``VA``, ``Wh``…
_SYMBOLS = frozenset(re.findall(r"^[a-z_]+ = .* = (\w+)$", _DEFINITIONS, re.MULTILINE))

#: What each dimension is, in words, with an example a person could type.
_DIMENSIONS = {
    "[power]": ("a rate (watts)", "92 W"),
    "[apparent_power]": ("volt-amperes (volts times amps)", "148 VA"),
    "[reactive_power]": ("vars", "120 var"),
    "[voltage]": ("volts", "230 V"),
    "[current]": ("amps", "5.9 A"),
    "[frequency]": ("hertz", "50 Hz"),
    "[resistance]": ("ohms", "0.02 ohm"),
    "[capacitance]": ("farads", "12 µF"),
    "[length]": ("a length", "30 m"),
    "[volume]": ("a volume", "60 L"),
    "[mass]": ("a mass", "4 kg"),
    "[share]": ("a share", "10 %"),
    "[temperature]": ("a temperature", "4 °C"),
    "[speed]": ("a speed", "5 m/s"),
    "[time]": ("a length of time", "1h30 or 90 min"),
    "[energy]": ("an amount", "4 kWh"),
    "[charge]": ("amp-hours", "100 Ah"),
    "[yearly_energy]": ("energy over a year or day", "190 kWh/yr"),
}

#: Spellings that are not the registry's own, compared without regard to case.
_SPELLINGS = {
    "watts": "W",
    "watt": "W",
    "kilowatt": "kW",
    "kilowatts": "kW",
    "wh": "Wh",
    "watt-hours": "Wh",
    "watthours": "Wh",
    "watt hours": "Wh",
    "kilowatt hours": "kWh",
    "kwh": "kWh",
    "mwh": "MWh",
    "kw": "kW",
    "kva": "kVA",
    "va": "VA",
    "kvar": "kvar",
    "volts": "V",
    "vac": "V",
    "vdc": "V",
    "amps": "A",
    "amp": "A",
    "ma": "mA",
    "mah": "mAh",
    "ah": "Ah",
    "amp hours": "Ah",
    "hz": "Hz",
    "khz": "kHz",
    "hp": "hp",
    "horsepower": "hp",
    "hours": "h",
    "hour": "h",
    "hr": "h",
    "hrs": "h",
    "std": "h",
    "minutes": "min",
    "minute": "min",
    "mins": "min",
    "m": "min",
    "sec": "s",
    "secs": "s",
    "second": "s",
    "seconds": "s",
    "d": "day",
    "days": "day",
    "%": "percent",
    "°c": "degC",
    "℃": "degC",
    "deg c": "degC",
    "c": "degC",
    "celsius": "degC",
    "°f": "degF",
    "℉": "degF",
    "deg f": "degF",
    "f": "degF",
    "fahrenheit": "degF",
    "k": "K",
    "ω": "ohm",
    "ohms": "ohm",
    "mω": "mohm",
    "l": "L",
    "litre": "L",
    "litres": "L",
    "liters": "L",
    **dict.fromkeys(("cu ft", "cu. ft", "cu. ft.", "cu.ft.", "ft3", "ft³", "cubic feet"), "cuft"),
    **dict.fromkeys(("lbs", "pounds"), "lb"),
    "metres": "m",
    "kj": "kJ",
    "mj": "MJ",
    "metre": "m",
    "feet": "ft",
    "foot": "ft",
    "ms": "ms",
    "kg": "kg",
    "m/s": "mps",
    "km/h": "kmph",
    "kmh": "kmph",
    "kph": "kmph",
    "mph": "mph",
    "kt": "kn",
    "knots": "kn",
    **{
        f"kwh{per}{span}": "kWhpyear"
        for per in ("/", " per ", "/ ")
        for span in ("yr", "year", "a", "annum", "y")
    },
    **{f"wh{per}{span}": "Whpday" for per in ("/", " per ") for span in ("day", "d")},
    **{f"kwh{per}{span}": "kWhpday" for per in ("/", " per ") for span in ("day", "d")},
    "wh a day": "Whpday",
    "kwh a day": "kWhpday",
    "kwh a year": "kWhpyear",
}

_NUMBER = r"(?:\d[\d.,'\u00a0\u202f\u2009 ]*\d|\d|[.,]\d+)(?:[eE][+-]?\d+)?"
_VALUE = re.compile(rf"^\s*(?P<sign>[+\-−]?)\s*(?P<number>{_NUMBER})\s*(?P<unit>[^\d\s.,].*?)?\s*$")
_FRACTION = re.compile(r"^\s*(?:(\d+)\s+)?(\d+)\s*/\s*(\d+)\s*(?P<unit>[^\d].*)?$")
#: "20,000 mAh": of milliamp-hours a comma before three digits marks thousands.
_MILLIAMP_HOURS = re.compile(r"[1-9]\d{0,2},\d{3}(?=\s*m\s*ah\b)", re.IGNORECASE)
_AT_VOLTS = re.compile(r"^(?P<charge>.+?)\s*(?:@|\bat\b)\s*(?P<volts>.+)$", re.IGNORECASE)
_PRODUCT = re.compile(r"^(?P<first>.+?)\s*(?:@|\bat\b|[x×*])\s*(?P<second>.+)$", re.IGNORECASE)
#: The same as a label prints it: 24V 4.2A, 230 V~ / 6 A, 19V⎓3.42A.
_BESIDE = re.compile(
    r"^(?P<first>[\d.,]+\s*[a-z]+?)\s*(?:dc|ac)?[\s,;/~=⎓\u23af\u2013-]*"
    r"(?P<second>\d[\d.,]*\s*[a-z]+)$",
    re.IGNORECASE,
)
#: Volts up to which a product of volts and amps is taken as DC.
MOST_DC_V = 60.0
_TIMES = re.compile(r"^\s*(?P<count>\d{1,4})\s*[x×*]\s*(?P<each>.+)$", re.IGNORECASE)
_CLOCK = re.compile(
    r"^\s*(?:(\d{1,3})\s*(?:d|days?)\s*)?(\d{1,4}):([0-5]\d)(?::([0-5]\d))?"
    r"\s*(?:h|hrs?|hours?)?\s*$",
    re.IGNORECASE,
)
_MINUTES_SECONDS = re.compile(r"^\s*(\d{1,4}):([0-5]\d)\s*(?:m|mins?|minutes?)\s*$", re.IGNORECASE)
_HOURS_MINUTES = re.compile(
    r"^\s*(?:(?P<d>\d+)\s*(?:d|days?)\s*)?(?:(?P<h>\d+)\s*(?:h|hrs?|hours?)\s*)?"
    r"(?:(?P<m>\d+)\s*(?:m|mins?|minutes?|)\s*)?(?:(?P<s>\d+)\s*(?:s|secs?|seconds?)\s*)?$",
    re.IGNORECASE,
)
#: Longest text that is read as a quantity, and as a unit: ``watt hours per year`` has 19 letters.
MAX_TEXT, MAX_UNIT = 60, 24


class QuantityError(ValueError):
    """Raised for text that is not a quantity of the wanted kind."""


@dataclass(frozen=True)
class Quantity:
    """A number in a unit.

    Attributes
    ----------
    value : float
        The number, in ``unit``.
    unit : str
        The unit's symbol, as the caller asked for it.
    note : str
        A remark, such as that volts times amps are not watts on AC.
    """

    value: float
    unit: str
    note: str = ""


#: Pint takes half of a quick command's time: it is loaded where a unit is to be understood.
#: Its registry is neither made nor asked by two threads at once: units of two registries do
#: not mix, and its caches are plain dictionaries.
_ONE_AT_A_TIME = threading.RLock()


@cache
def _made_registry() -> pint.UnitRegistry[float]:
    import pint

    registry: pint.UnitRegistry[float] = pint.UnitRegistry(
        None, autoconvert_offset_to_baseunit=True
    )
    registry.load_definitions(_DEFINITIONS.strip().splitlines())
    return registry


def _registry() -> pint.UnitRegistry[float]:
    """The one registry of the process, for all threads."""
    with _ONE_AT_A_TIME:
        return _made_registry()


@lru_cache(maxsize=4096)
def _unit(text: str, wanted: str = "") -> tuple[pint.Unit, str] | None:
    """Resolve a unit as written to a registry unit and its dimension, or None.

    The registry's own search takes quadratic time in the length of the text, so longer texts are
    not passed to it.

    If a spelling has two meanings (F is farads or Fahrenheit, m is metres or minutes), the one of
    the ``wanted`` dimension is used.
    """
    import pint

    if len(text) > MAX_UNIT:
        return None
    written = " ".join(text.replace("\u00b5", "µ").replace("μ", "µ").split())
    candidates = []
    for candidate in (written, _SPELLINGS.get(written.casefold())):
        if candidate and re.fullmatch(r"[A-Za-zµ_]+", candidate):
            try:
                unit = _registry().parse_units(candidate)
            except pint.UndefinedUnitError:
                continue
            candidates.append((unit, next(iter(unit.dimensionality))))
    return next(
        (candidate for candidate in candidates if candidate[1] == wanted),
        candidates[0] if candidates else None,
    )


def _resolve_target(unit: str) -> tuple[pint.Unit, str]:
    target = _unit(unit)
    if target is None:
        raise QuantityError(f"“{unit[:20]}” is not a unit that this tool knows.")
    return target


def parse(text: str, unit: str) -> Quantity:
    """Parse a quantity in ``unit``.

    A number without a unit is in ``unit``. The decimal mark may be a point or a comma; a comma
    before exactly three digits ("5,120") is ambiguous and refused with both meanings, unless other
    marks settle it.

    Parameters
    ----------
    text : str
        For example ``"0,71 kWh"``, ``"1h30"``, ``"24 Ah @ 3.6 V"``, ``"1/2 hp"``, ``"2 x 110 Ah"``.
    unit : str
        The wanted unit, for example ``"Wh"``.

    Raises
    ------
    QuantityError
        Not a quantity, not finite, or of another dimension.
    """
    written = text.strip()
    if not written:
        raise QuantityError(f"Empty: write {_example(unit)}.")
    if len(written) > MAX_TEXT:
        raise QuantityError(f"Too long for a quantity: write something like {_example(unit)}.")
    value = _as_asked(written, unit)
    if value is None:
        with _ONE_AT_A_TIME:
            value = _parse_in(written, unit)
    if not math.isfinite(value):
        raise QuantityError(f"“{written}” is not a finite number.")
    note = ""
    pair = volts_amps(written) if unit == "W" else None
    if pair is not None and pair[0] > MOST_DC_V:
        note = "volts times amps are VA on AC: the watts lie under them, by the power factor"
    elif unit == "W" and is_horsepower(written):
        note = "at the shaft: a motor takes 1.2 to 2 times as many watts at its plug"
    return Quantity(value, unit, note)


def number(text: str) -> float:
    """A number without a unit, with a decimal comma or point: ``12,5``, ``1 234.5``, ``1/2``.

    Raises
    ------
    QuantityError
        Not a number, not finite, or with a unit.
    """
    written = text.strip()
    if len(written) > MAX_TEXT or not (_VALUE.match(written) or _FRACTION.match(written)):
        raise QuantityError(f"“{written[:MAX_TEXT]}” is not a number: write something like 2.5.")
    value, unit = _split(written, "")
    if unit:
        raise QuantityError(f"“{written}” has a unit, and this is a plain number.")
    if not math.isfinite(value):
        raise QuantityError(f"“{written}” is not a finite number.")
    return value


def _as_asked(written: str, unit: str) -> float | None:
    """The number of ``5 W`` asked for in W, where nothing is to be converted; else None."""
    match = _VALUE.match(written)
    if match is None or match["unit"] != unit or unit not in _SYMBOLS:
        return None
    return _split(written, unit)[0]


def is_horsepower(text: str) -> bool:
    """Whether it is written in horsepower, which is what a motor gives at its shaft."""
    return re.search(r"\d\s*(hp|horsepower)\s*$", text.strip(), re.IGNORECASE) is not None


def multiple_of(text: str) -> int:
    """How many of a thing were written: 4 of ``4 x 90 Ah @ 12 V``; 1 without a count."""
    match = _TIMES.match(text.strip())
    return int(match["count"]) if match else 1


def charge_volts(text: str) -> float | None:
    """Volts of ``80 Ah @ 12.8 V``; None where amp-hours were not written with volts."""
    parts = _AT_VOLTS.match(text.strip())
    if parts is None:
        return None
    try:
        with _ONE_AT_A_TIME:
            _parse_in(
                _MILLIAMP_HOURS.sub(lambda match: match[0].replace(",", ""), parts["charge"]), "Ah"
            )
            return _parse_in(parts["volts"], "V")
    except QuantityError:
        return None


def volts_amps(text: str) -> tuple[float, float] | None:
    """Volts and amps of ``6.3 A @ 230 V``, ``12.6 V x 11 A``, ``24V 4.2A``; None where neither."""
    match = _PRODUCT.match(text.strip()) or _BESIDE.match(text.strip())
    if match is None:
        return None
    units = []
    for part in (match["first"], match["second"]):
        value = _VALUE.match(part)
        resolved = _unit(value["unit"].strip(), "") if value and value["unit"] else None
        units.append(resolved[1] if resolved else "")
    try:
        if units == ["[current]", "[voltage]"]:
            return _parse_in(match["second"], "V"), _parse_in(match["first"], "A")
        if units == ["[voltage]", "[current]"]:
            return _parse_in(match["first"], "V"), _parse_in(match["second"], "A")
    except QuantityError:
        return None
    return None


def _parse_in(written: str, unit: str) -> float:
    target, dimension = _resolve_target(unit)
    if times := _TIMES.match(written):
        return int(times["count"]) * _parse_in(times["each"], unit)
    if dimension in ("[power]", "[apparent_power]") and (pair := volts_amps(written)) is not None:
        return _convert(pair[0] * pair[1], "W" if dimension == "[power]" else "VA", target)
    if dimension == "[energy]" and (parts := _AT_VOLTS.match(written)):
        charge = _MILLIAMP_HOURS.sub(lambda match: match[0].replace(",", ""), parts["charge"])
        return _convert(_parse_in(charge, "Ah") * _parse_in(parts["volts"], "V"), "Wh", target)
    if dimension == "[time]" and (hours := _compound_hours(written)) is not None:
        return _convert(hours, "h", target)
    return _number_in(written, unit, target, dimension)


def _number_in(written: str, unit: str, target: pint.Unit, dimension: str) -> float:
    """A number with or without a unit, in the target unit."""
    number, unit_text = _split(written, unit)
    if not unit_text:
        return number
    resolved = _unit(unit_text, dimension)
    if resolved is None:
        raise QuantityError(
            f"“{unit_text[:40]}” is not a unit: write just the number and its unit, such as "
            f"{_example(unit)}."
        )
    source, source_dimension = resolved
    if source_dimension != dimension:
        raise QuantityError(_mismatch(written, unit, source_dimension, dimension))
    return _convert(number, source, target)


def _convert(value: float, source: str | pint.Unit, target: pint.Unit) -> float:
    """The one place where a unit is converted."""
    if source == target or str(source) == str(target):
        return value
    converted = float(_registry().Quantity(value, source).to(target).magnitude)
    return round(converted, 12)


def _compound_hours(written: str) -> float | None:
    """Hours in ``1h30``, ``1:30 h``, ``2:30 min``, ``2 d 4:10``, ``21 h 30 min``; else None."""
    if clock := _CLOCK.match(written):
        days, hours, minutes, seconds = (int(part or 0) for part in clock.groups())
        return days * 24 + hours + minutes / 60 + seconds / 3600
    if timer := _MINUTES_SECONDS.match(written):
        return (int(timer[1]) + int(timer[2]) / 60) / 60
    match = _HOURS_MINUTES.match(written)
    if not match or (match["d"] is None and match["h"] is None):
        return None
    parts = [int(match[key] or 0) for key in "dhms"]
    return parts[0] * 24 + parts[1] + parts[2] / 60 + parts[3] / 3600


def _split(written: str, unit: str) -> tuple[float, str]:
    if fraction := _FRACTION.match(written):
        whole, top, bottom = (int(part or 0) for part in fraction.groups()[:3])
        if bottom == 0:
            raise QuantityError(f"“{written}” divides by zero.")
        return whole + top / bottom, (fraction["unit"] or "").strip()
    match = _VALUE.match(written)
    if not match:
        raise QuantityError(
            f"“{written}” is not a quantity: write something like {_example(unit)}."
        )
    sign = -1.0 if match["sign"] in ("-", "−") else 1.0
    return sign * _number(match["number"]), (match["unit"] or "").strip()


def _number(digits: str) -> float:
    plain = re.sub(r"['\u00a0\u202f\u2009 ]", "", digits)
    if "," in plain and "." in plain:
        decimal = max(plain.rfind(","), plain.rfind("."))
        thousands = "," if plain[decimal] == "." else "."
        plain = plain.replace(thousands, "").replace(",", ".")
    elif plain.count(",") > 1:
        plain = plain.replace(",", "")
    elif re.fullmatch(r"[1-9]\d{0,2},\d{3}", plain):
        decimal_text, whole_text = plain.replace(",", "."), plain.replace(",", "")
        raise QuantityError(
            f"“{plain}” can mean {whole_text} or {decimal_text}: write it without the comma, "
            "or with a point."
        )
    else:
        plain = plain.replace(",", ".")
    try:
        return float(plain)
    except ValueError:
        raise QuantityError(f"“{digits}” is not a number.") from None


def _example(unit: str) -> str:
    resolved = _unit(unit)
    return _DIMENSIONS[resolved[1]][1] if resolved else f"a number in {unit}"


def _mismatch(written: str, unit: str, got: str, wanted: str) -> str:
    is_words, _ = _DIMENSIONS[got]
    want_words, example = _DIMENSIONS[wanted]
    hint = ""
    if {got, wanted} == {"[charge]", "[energy]"} and wanted == "[energy]":
        hint = " Give the volts too: 24 Ah @ 3.6 V (a USB bank's mAh are at its cell voltage)."
    return f"{written} is {is_words}; this field wants {want_words} such as {example}.{hint}"


@lru_cache(maxsize=16_384)
def significant(value: float, digits: int = 3) -> str:
    """Format a number with a number of significant digits, thousands spaced, without exponent."""
    if value == 0 or not math.isfinite(value):
        return "0" if value == 0 else "–"
    decimals = digits - 1 - math.floor(math.log10(abs(value)))
    return f"{round(value, decimals):,.{max(0, decimals)}f}".replace(",", "\u202f")


def with_unit(value: float, unit: str, digits: int = 3) -> str:
    """Format a value with its unit, in kilo above 1000 for W, VA and Wh: ``1.36 kVA``."""
    if unit in ("W", "VA", "Wh", "var") and abs(value) >= 999.5:
        value, unit = value / 1000, "k" + unit
    gap = "" if unit == "%" else "\u00a0"
    shown = unit if unit != "%" else "\u00a0%"
    return f"{significant(value, digits)}{gap}{shown}"


def as_read(value: float, unit: str) -> str:
    """Format a rating or a reading with the digits that it was given with: ``51.2 V``, ``3 kW``."""
    if unit in ("W", "VA", "Wh", "var") and abs(value) >= 1000:
        value, unit = value / 1000, "k" + unit
    return f"{value:.6g}\u00a0{unit}"


#: Currencies whose amounts are not written with two decimals (ISO 4217, table A.1).
_DECIMALS = {
    **dict.fromkeys(
        (
            "BIF",
            "CLP",
            "DJF",
            "GNF",
            "ISK",
            "JPY",
            "KMF",
            "KRW",
            "PYG",
            "RWF",
            "UGX",
            "VND",
            "VUV",
            "XAF",
            "XOF",
            "XPF",
        ),
        0,
    ),
    **dict.fromkeys(("BHD", "IQD", "JOD", "KWD", "LYD", "OMR", "TND"), 3),
}


def money_text(value: float, currency: str) -> str:
    """Format an amount with the decimals that its currency usually has: ``412.60``.

    Amounts below ten of its smallest coins have two significant digits.
    """
    decimals = _DECIMALS.get(currency.strip().upper(), 2)
    if 0 < value < 10 * 10.0**-decimals:
        return significant(value, 2)
    return f"{value:,.{decimals}f}".replace(",", "\u202f")


def chance_text(share: float) -> str:
    """Format a chance: ``6 in 10``, ``less than 1 in 10``, ``more than 9 in 10``.

    It is never zero or certain, which a few hundred simulated runs cannot show.
    """
    tenths = round(10 * share)
    if tenths == 0:
        return "less than 1 in 10"
    return "more than 9 in 10" if tenths == 10 else f"{tenths} in 10"


def hours_text(hours: float, exact: bool = False) -> str:
    """Format a duration as ``19 h 40 min``.

    An estimate is rounded to 1, 5 or 10 min, or hours; an ``exact`` duration to the minute.
    """
    minutes = hours * 60
    limits = ((60, 1), (600, 5), (2880, 10), (math.inf, 60))
    step = 1 if exact else next(size for limit, size in limits if minutes < limit)
    rounded = round(minutes / step) * step
    whole, rest = divmod(int(rounded), 60)
    if whole == 0:
        return f"{rest}\u00a0min"
    return f"{whole}\u00a0h" + (f"\u00a0{rest:02d}\u00a0min" if rest else "")


#: Hours from which a range twice as wide is written in whole hours.
_WHOLE_FROM_H, _WHOLE_WIDTH_H = 5.0, 2.0


def hours_range_text(low_h: float, high_h: float) -> str:
    """Format a range of hours: ``10 to 16 h``, ``4 h 10 min to 5 h 20 min``.

    In whole hours if the range is hours wide: the low end is rounded down and the high end up,
    unless it is within a quarter of the nearer hour.
    """
    if low_h >= _WHOLE_FROM_H and high_h - low_h >= _WHOLE_WIDTH_H:
        return f"{math.floor(low_h + 0.25)} to {math.ceil(high_h - 0.25)}\u00a0h"
    low, high = hours_text(low_h), hours_text(high_h)
    return low if low == high else f"{low} to {high}"


def seconds_text(seconds: float) -> str:
    """Format a short duration: ``90 s``, ``4 min 30 s``."""
    if seconds < 120:
        return f"{seconds:.3g}\u00a0s"
    minutes, rest = divmod(round(seconds), 60)
    if minutes >= 60:
        return hours_text(seconds / 3600, exact=True)
    return f"{minutes}\u00a0min" + (f"\u00a0{rest:02d}\u00a0s" if rest else "")
