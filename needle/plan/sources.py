"""What charges: sun, a charger in windows, another battery; each through an input of the supply."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo
from functools import lru_cache
from typing import Any, ClassVar

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
#: How alike the cloudiness of days is about its mean: the two parameters' sum of a beta
#: distribution, whose sd is then 0.3 at half cover (general value).
CLOUD_DAYS = 1.7
#: Part of the spread of a day's sun that all days share: aim, dirt, shade, the panels themselves.
SHARED_SUN = 0.5


_NO_WINDOWS: tuple[Window, ...] = ()


@dataclass(frozen=True)
class Source(ABC):
    """What charges: a class of its own for each kind, which brings all that a plan asks of it.

    Attributes
    ----------
    name : str
    limit_w : float
        What its input lets in, W.
    """

    #: Its keys in the document, beside the common ones.
    KEYS: ClassVar[tuple[str, ...]]
    #: Between which it gives; empty where its hours are not set.
    windows = _NO_WINDOWS
    #: Relative spread of what it gives.
    spread = 0.0
    #: Fuel for each kWh, l.
    litres_per_kwh = 0.0
    #: Wh that it holds; infinite where it does not run down.
    store_wh = math.inf

    name: str
    limit_w: float

    @classmethod
    @abstractmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> Source:
        """Read one from its document."""

    @abstractmethod
    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        """W that it offers before its input's limit, shape (minutes,); of a store its most."""

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """What each day makes of what it offers, (draws, days) or (1, days); ones unless drawn.

        Parameters
        ----------
        days : int
        normals : ndarray, (draws,), or None
            Standard normal draws of what all days share; None for the likely value.
        rng : numpy.random.Generator
            For what each day has of its own.
        """
        return np.ones((1, days))

    @property
    @abstractmethod
    def rated_most_w(self) -> float:
        """The most that it gives at all, W."""

    @property
    def most_w(self) -> float:
        """The most that its input takes from it, W."""
        return min(self.rated_most_w, self.limit_w)

    @property
    def runs_down(self) -> bool:
        """Whether what it has given is gone."""
        return math.isfinite(self.store_wh)

    @property
    def drawn(self) -> bool:
        """Whether what it gives is uncertain."""
        return self.spread > 0


@dataclass(frozen=True)
class Sun(Source):
    """Panels.

    Attributes
    ----------
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

    KEYS = ("rated_w", "yield", "latitude", "longitude", "tilt", "azimuth", "clouds", "spread")

    rated_w: float
    performance_ratio: float
    latitude: float
    longitude: float
    tilt: float
    azimuth: float
    clouds: float
    spread: float = field()

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> Sun:
        return cls(
            name=name,
            limit_w=limit_w,
            rated_w=reader.need("rated_w", most=1_000_000, above=True),
            performance_ratio=reader.number("yield", 0.05, 1.0, default=0.72),
            latitude=reader.need("latitude", least=-90, most=90),
            longitude=reader.number("longitude", -180, 180, default=0.0),
            tilt=reader.number("tilt", 0, 90, default=30.0),
            azimuth=reader.number("azimuth", 0, 360, default=180.0),
            clouds=reader.number("clouds", 0, 1, default=0.5),
            spread=reader.number("spread", 0, 2, default=0.25),
        )

    @property
    def rated_most_w(self) -> float:
        return self.rated_w

    @property
    def drawn(self) -> bool:
        return True

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        clear = _clear_sky(self.latitude, self.longitude, self.tilt, self.azimuth, start, minutes)
        return self.rated_w * self.performance_ratio * mean_clear_share(self.clouds) * clear

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """Yield that all days share, and each day's own sky; together one day has ``spread``."""
        if normals is None or self.spread <= 0:
            return np.ones((1, days))
        shared = math.sqrt(math.log1p((SHARED_SUN * self.spread) ** 2))
        own = math.sqrt(math.log1p((1 - SHARED_SUN**2) * self.spread**2))
        # Day by day, so that the first days are the same however far a plan looks.
        skies = own * rng.standard_normal((days, len(normals))).T - own**2 / 2
        return np.exp(shared * normals[:, None] - shared**2 / 2 + skies)


@dataclass(frozen=True)
class ChargeWindow(Source):
    """Mains or a generator: W in windows; litres of fuel for each kWh, 0 for none."""

    KEYS = ("watts", "between", "litres_per_kwh")

    watts: float
    windows: tuple[Window, ...] = field()
    litres_per_kwh: float = 0.0

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> ChargeWindow:
        between = reader.items("between", most=500)
        windows = parse_windows(between, reader.at("between"), zone)
        if not windows:
            raise DocumentError(reader.at("between"), "needs at least one window")
        watts = reader.need("watts", most=1_000_000, above=True)
        return cls(
            name, limit_w, watts, windows, reader.number("litres_per_kwh", most=10, default=0.0)
        )

    @property
    def rated_most_w(self) -> float:
        return self.watts

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return in_windows(self.windows, start, minutes) * self.most_w


@dataclass(frozen=True)
class OtherBattery(Source):
    """Another battery that gives at most so many W until its Wh are gone."""

    KEYS = ("nominal_wh", "max_w", "efficiency")

    store_wh: float = field()
    max_w: float

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> OtherBattery:
        efficiency = reader.number("efficiency", least=0.3, most=1.0, default=0.85)
        held = reader.need("nominal_wh", most=10_000_000, above=True)
        most = reader.need("max_w", most=1_000_000, above=True)
        return cls(name, limit_w, held * efficiency, most)

    @property
    def rated_most_w(self) -> float:
        return self.max_w

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return np.full(minutes, self.most_w)


#: Kinds as the document names them.
KINDS: dict[str, type[Source]] = {"sun": Sun, "window": ChargeWindow, "battery": OtherBattery}
_COMMON = ("kind", "name", "input")


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
        kind = Reader(item, path, item).choice("kind", KINDS)
        reader = Reader(item, path, (*_COMMON, *KINDS[kind].KEYS))
        name = reader.text("name", kind, 80)
        taken = sum(source.name == name or source.name.startswith(f"{name} ") for source in sources)
        name = name if not taken else f"{name} {taken + 1}"
        limit = _limit_w(reader, kind, supply)
        sources.append(KINDS[kind].read(reader, name, limit, zone))
    return tuple(sources)


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


@lru_cache(maxsize=64)
def mean_clear_share(clouds: float) -> float:
    """Share of a clear sky's sun that is left over many days of a mean cloud cover.

    The curve is taken for each day's cover and then averaged: bright days give more than the mean
    cover's curve says dull ones take.
    """
    if clouds <= 0 or clouds >= 1:
        return 1 - CLOUD_SHARE * clouds**CLOUD_POWER
    from scipy.special import betaincinv

    places = (np.arange(200) + 0.5) / 200
    covers = betaincinv(CLOUD_DAYS * clouds, CLOUD_DAYS * (1 - clouds), places)
    return float(np.mean(1 - CLOUD_SHARE * covers**CLOUD_POWER))


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
