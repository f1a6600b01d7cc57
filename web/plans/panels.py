"""Solar panels in the form: conversion between text and document keys."""

from __future__ import annotations

import re
from typing import Any

from needle.document import DocumentError
from needle.plan.documents.places import TOWNS, azimuth_from_text, tilt_from_text, town_at
from needle.plan.sources.sun import AZIMUTH, TILT, YIELD
from needle.quantity import QuantityError, parse
from needle.usage.schedule import spans_from_text, text_of_use

_NUMBER = r"([−-]?\d+(?:\.\d+)?)\s*°?\s*"
_DEGREES = re.compile(rf"{_NUMBER}([NS])?[,;\s]+{_NUMBER}([EW])?")
_MEASURED = re.compile(r"(\d{4}-\d{2}-\d{2})(?:[ T](\d{1,2}:\d{2}))?[\s,;:]+(.+)")
#: Fields whose text is turned into keys.
_TEXTS = (
    "place",
    "tilt",
    "azimuth",
    "strings",
    "connected",
    "shade",
    "measured",
)


def sun_data(cleaned: dict[str, Any]) -> dict[str, Any]:
    """Document keys of a sun from its form's cleaned values.

    Raises
    ------
    DocumentError
        The message names the field.
    """
    data = {key: value for key, value in cleaned.items() if key not in _TEXTS}
    data |= _place(cleaned)
    aim = {
        "tilt": tilt_from_text(cleaned["tilt"]),
        "azimuth": azimuth_from_text(cleaned["azimuth"]),
    }
    more = [_string(line) for line in _lines(cleaned, "strings")]
    if more:
        data["strings"] = [{"rated_w": data.pop("rated_w"), **aim}, *more]
    else:
        data |= aim
    for key in ("connected", "shade"):
        if cleaned.get(key):
            data[key] = spans_from_text(cleaned[key], key)
    if measured := [_measured(line) for line in _lines(cleaned, "measured")]:
        data["measured"] = measured
    return data


def _lines(cleaned: dict[str, Any], key: str) -> list[str]:
    return [line.strip() for line in (cleaned.get(key) or "").splitlines() if line.strip()]


def _place(cleaned: dict[str, Any]) -> dict[str, float]:
    """Latitude and longitude, from a town or in degrees."""
    text = cleaned["place"].strip()
    towns = {name.casefold(): place for name, place in TOWNS.items()}
    if text.casefold() in towns:
        latitude, longitude = towns[text.casefold()]
        return {"latitude": latitude, "longitude": longitude}
    degrees = _DEGREES.fullmatch(text)
    if degrees is None:
        raise DocumentError(
            "place",
            f"“{text[:30]}” is not in the list: take a larger town near it, or its degrees, such "
            "as 38.7, -9.1",
        )
    north, south, east, west = degrees.groups()
    latitude = float(north.replace("−", "-")) * (-1 if south == "S" else 1)
    longitude = float(east.replace("−", "-")) * (-1 if west == "W" else 1)
    if abs(latitude) > 90 or abs(longitude) > 180:
        raise DocumentError("place", "north is within ±90, east within ±180 degrees")
    return {"latitude": latitude, "longitude": longitude}


def _string(line: str) -> dict[str, float]:
    parts = [part.strip() for part in re.split(r"[,;]", line)]
    if len(parts) != 3:
        raise DocumentError(
            "strings", f"“{line[:40]}”: write watts, tilt, way, such as 400 W, flat, east"
        )
    try:
        return {
            "rated_w": parse(parts[0], "W").value,
            "tilt": tilt_from_text(parts[1]),
            "azimuth": azimuth_from_text(parts[2]),
        }
    except QuantityError as error:
        raise DocumentError("strings", str(error)) from None
    except DocumentError as error:
        raise DocumentError("strings", error.message) from None


def _measured(line: str) -> dict[str, Any]:
    match = _MEASURED.fullmatch(line)
    if match is None:
        raise DocumentError(
            "measured", f"“{line[:40]}”: write 2026-11-20 2.1 kWh, or 2026-11-20 12:30 410 W"
        )
    day, clock, amount = match.groups()
    try:
        if clock:
            return {"at": f"{day}T{clock.zfill(5)}", "watts": parse(amount, "W").value}
        return {"on": day, "wh": parse(amount, "Wh").value}
    except QuantityError as error:
        raise DocumentError("measured", str(error)) from None


def _measured_text(item: dict[str, Any]) -> str:
    if "watts" in item:
        return f"{item['at'].replace('T', ' ')} {item['watts']:g} W"
    return f"{item['on']} {item['wh']:g} Wh"


def shown_sun(data: dict[str, Any]) -> dict[str, Any]:
    """Initial values of the form from a stored sun."""
    strings = data.get("strings") or [data]
    first = strings[0]
    latitude, longitude = data["latitude"], data.get("longitude", 0.0)
    return {
        "rated_w": first.get("rated_w"),
        "place": town_at(latitude, longitude) or f"{latitude:g}, {longitude:g}",
        "tilt": f"{first.get('tilt', TILT):g}",
        "azimuth": f"{first.get('azimuth', AZIMUTH):g}",
        "yield": 100 * data.get("yield", YIELD),
        "strings": "\n".join(
            f"{string['rated_w']:g} W, {string.get('tilt', TILT):g}, "
            f"{string.get('azimuth', AZIMUTH):g}"
            for string in strings[1:]
        ),
        "connected": text_of_use({"between": data.get("connected", [])}),
        "shade": text_of_use({"between": data.get("shade", [])}),
        "measured": "\n".join(_measured_text(item) for item in data.get("measured", [])),
    }
