"""What charges: sun, a charger in windows, another battery; each through an input of the supply."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from functools import lru_cache
from typing import Any

import numpy as np

from needle.document import DocumentError, Reader
from needle.moments import Window, in_windows, parse_windows
from needle.supply.charging import input_limit_w
from needle.supply.supply import Supply

#: Sun is worked out at every tenth minute and joined by straight lines.
SUN_STEP_MIN = 10
#: Clouds n of 0…1 leave 1 - 0.75·n^3.4 of a clear sky's sun (F. Kasten and G. Czeplak 1980, Solar
#: Energy 24, 177, for hourly global irradiance on the flat; used for tilted panels too, which
#: understates what diffuse light they see under full cloud).
CLOUD_SHARE, CLOUD_POWER = 0.75, 3.4


@dataclass(frozen=True)
class Sun:
    """Panels.

    Attributes
    ----------
    name : str
    limit_w : float
        What its input lets in, W.
    rated_w : float
        At 1000 W/m².
    performance_ratio : float
        Real W over rated W at best sun.
    latitude, longitude, tilt, azimuth : float
        Degrees; azimuth 180 is south.
    clouds : float
        Share of the sky, 0…1.
    spread : float
        Relative spread of a plan's sun.
    """

    name: str
    limit_w: float
    rated_w: float
    performance_ratio: float
    latitude: float
    longitude: float
    tilt: float
    azimuth: float
    clouds: float
    spread: float


@dataclass(frozen=True)
class ChargeWindow:
    """Mains or a generator: W in windows; litres of fuel for each kWh, 0 for none."""

    name: str
    limit_w: float
    watts: float
    windows: tuple[Window, ...]
    litres_per_kwh: float = 0.0


@dataclass(frozen=True)
class OtherBattery:
    """Another battery that gives at most so many W until its Wh are gone."""

    name: str
    limit_w: float
    usable_wh: float
    max_w: float


Source = Sun | ChargeWindow | OtherBattery
_COMMON = ("kind", "name", "input")
_KEYS = {
    "sun": (*_COMMON, "rated_w", "yield", "latitude", "longitude", "tilt", "azimuth", "clouds",
            "spread"),
    "window": (*_COMMON, "watts", "between", "litres_per_kwh"),
    "battery": (*_COMMON, "nominal_wh", "max_w", "efficiency"),
}  # fmt: skip


def parse_sources(
    items: Sequence[Any], zone: tzinfo | None, supply: Supply | None
) -> tuple[Source, ...]:
    """Read a plan's sources; what the supply's inputs let in is left open without a supply.

    Raises
    ------
    DocumentError
    """
    sources: list[Source] = []
    for index, item in enumerate(items):
        path = f"sources[{index}]"
        if not isinstance(item, dict):
            raise DocumentError(path, "must be an object with named values")
        kind = Reader(item, path, item).choice("kind", _KEYS)
        reader = Reader(item, path, _KEYS[kind])
        name = reader.text("name", kind, 80)
        taken = sum(source.name == name or source.name.startswith(f"{name} ") for source in sources)
        name = name if not taken else f"{name} {taken + 1}"
        limit = _limit_w(reader, kind, supply)
        if kind == "sun":
            sources.append(_sun(reader, name, limit))
        elif kind == "window":
            between = reader.items("between", most=500)
            windows = parse_windows(between, reader.at("between"), zone)
            if not windows:
                raise DocumentError(reader.at("between"), "needs at least one window")
            watts = reader.need("watts", most=1_000_000, above=True)
            fuel = reader.number("litres_per_kwh", most=10) or 0.0
            sources.append(ChargeWindow(name, limit, watts, windows, fuel))
        else:
            efficiency = reader.number("efficiency", least=0.3, most=1.0)
            usable = reader.need("nominal_wh", most=10_000_000, above=True)
            usable *= 0.85 if efficiency is None else efficiency
            most = reader.need("max_w", most=1_000_000, above=True)
            sources.append(OtherBattery(name, limit, usable, most))
    return tuple(sources)


def _sun(reader: Reader, name: str, limit_w: float) -> Sun:
    def given(key: str, default: float, least: float, most: float) -> float:
        value = reader.number(key, least, most)
        return default if value is None else value

    return Sun(
        name=name,
        limit_w=limit_w,
        rated_w=reader.need("rated_w", most=1_000_000, above=True),
        performance_ratio=given("yield", 0.72, 0.05, 1.0),
        latitude=reader.need("latitude", least=-90, most=90),
        longitude=given("longitude", 0.0, -180, 180),
        tilt=given("tilt", 30.0, 0, 90),
        azimuth=given("azimuth", 180.0, 0, 360),
        clouds=given("clouds", 0.5, 0, 1),
        spread=given("spread", 0.25, 0, 2),
    )


def _limit_w(reader: Reader, kind: str, supply: Supply | None) -> float:
    """What its input lets in: the one named, else one called as its kind, else the only."""
    if supply is None:
        return math.inf
    if not supply.inputs:
        if reader.has("input"):
            raise DocumentError(reader.at("input"), "the supply lists no inputs")
        return math.inf
    names = [charge_input.name for charge_input in supply.inputs]
    wanted = reader.choice("input", names) if reader.has("input") else kind
    if wanted not in names:
        if len(names) > 1:
            return math.inf
        wanted = names[0]
    return input_limit_w(supply.inputs[names.index(wanted)], supply.battery)


def power_w(source: Source, start: datetime, minutes: int) -> np.ndarray:
    """W that a source offers before its input's limit, shape (minutes,); of a battery its most."""
    if isinstance(source, Sun):
        clear = _clear_sky(
            source.latitude, source.longitude, source.tilt, source.azimuth, start, minutes
        )
        left = 1 - CLOUD_SHARE * source.clouds**CLOUD_POWER
        return source.rated_w * source.performance_ratio * left * clear
    if isinstance(source, ChargeWindow):
        return in_windows(source.windows, start, minutes) * min(source.watts, source.limit_w)
    return np.full(minutes, min(source.max_w, source.limit_w))


def warm_up() -> None:
    """Import what the sun needs, so that the first plan with panels does not wait for it."""
    _clear_sky(0.0, 0.0, 0.0, 180.0, datetime(2000, 1, 1, tzinfo=UTC), 60)


@lru_cache(maxsize=64)
def _clear_sky(
    latitude: float, longitude: float, tilt: float, azimuth: float, start: datetime, minutes: int
) -> np.ndarray:
    """Clear-sky irradiance on the panels over 1000 W/m², shape (minutes,).

    Solar position, clear sky (simplified Solis: P. Ineichen 2008, Solar Energy 82, 758) and the
    isotropic transposition of pvlib (W. Holmgren et al. 2018, J. Open Source Softw. 3, 884).
    """
    import pandas as pd
    from pvlib.irradiance import get_total_irradiance
    from pvlib.location import Location

    steps = math.ceil(minutes / SUN_STEP_MIN) + 1
    times = pd.date_range(start, periods=steps, freq=f"{SUN_STEP_MIN}min", tz=None).tz_convert(
        "UTC"
    )
    place = Location(latitude, longitude)
    position = place.get_solarposition(times)
    sky = place.get_clearsky(times, model="simplified_solis", solar_position=position)
    plane = get_total_irradiance(
        tilt, azimuth, position["apparent_zenith"], position["azimuth"], sky["dni"], sky["ghi"],
        sky["dhi"],
    )  # fmt: skip
    shares = np.nan_to_num(plane["poa_global"].to_numpy(dtype=float)) / 1000
    return np.interp(np.arange(minutes), np.arange(steps) * SUN_STEP_MIN, np.maximum(0.0, shares))
