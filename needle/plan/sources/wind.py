"""A small wind turbine: its power curve in the wind of a site.

Wind within a day varies about the day's mean as a Rayleigh distribution, as IEC 61400-2 (2013)
takes for small turbines; the means of days vary about the site's mean. A turbine's power over wind
is read from its curve.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from datetime import datetime, tzinfo
from functools import lru_cache
from statistics import NormalDist

import numpy as np

from needle.document import DocumentError, Reader
from needle.fields import Number, Rows
from needle.plan.sources.source import Source

#: Wind at which a turbine starts, reaches its rating, and stops, m/s, where no curve is given
#: (general values of small turbines).
CUT_IN, RATED, CUT_OUT = 3.0, 11.0, 20.0
#: Relative sd of the mean wind of single days, and of a site's mean until it is measured there
#: (general values).
DAY_SPREAD, SITE_SPREAD = 0.35, 0.25
#: Speeds and daily means that power is tabulated at, m/s.
_SPEEDS, _MEANS = (np.arange(800) + 0.5) * 0.05, np.linspace(0.0, 25, 251)

Curve = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Wind(Source):
    """A small wind turbine as a charging source.

    Attributes
    ----------
    curve : tuple of (m/s, W)
        Power over wind, wind rising.
    mean_speed : float
        Mean wind of the site at the height of the turbine, m/s.
    spread : float
        Relative sd of that mean.
    """

    TITLE = "wind on a turbine"
    ABOUT = (
        "How wind is counted",
        "The turbine's power curve in gusty wind about each day's mean, and days about the mean "
        "that you give, limited by the input. The range is wide: wind differs much from day to "
        "day, and trees and roofs nearby take much of what a map of the wind says.",
    )
    TO_MEASURE = ("measure the mean wind of {name} for some weeks and enter it", "some weeks")
    FIELDS = {
        "rated_w": Number(
            "rated power; not needed beside a curve",
            label="Rated",
            unit="W",
            most=100_000,
            above=True,
        ),
        "mean_speed": Number(
            "mean wind at the turbine's height, over the days planned",
            label="Mean wind",
            unit="m/s",
            most=25,
            above=True,
            needed=True,
        ),
        "spread": Number(
            "relative spread of that mean; less where it was measured there",
            label="Uncertain by",
            unit="share",
            most=1.0,
            default=SITE_SPREAD,
        ),
        "curve": Rows(
            "power over wind, wind rising, in place of a usual curve of its rating",
            label="Curve",
            columns={
                "speed": Number("m/s", unit="m/s", most=60, needed=True),
                "watts": Number("W", unit="W", most=100_000, needed=True),
            },
            most=100,
        ),
    }

    curve: Curve
    mean_speed: float
    spread: float = field(default=SITE_SPREAD)

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> Wind:
        curve = _read_curve(reader)
        if not curve:
            curve = usual_curve(reader.number("rated_w"))
        elif reader.has("rated_w"):
            raise DocumentError(reader.at("rated_w"), "is told by the curve: leave it out")
        return cls(name, limit_w, curve, reader.number("mean_speed"), reader.number("spread"))

    @property
    def rated_most_w(self) -> float:
        return max(watts for _, watts in self.curve)

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return np.full(minutes, mean_w(self.curve, self.mean_speed))

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """Daily factors on its long-run mean: power at each day's mean wind over that mean."""
        likely = mean_w(self.curve, self.mean_speed)
        if normals is None or likely <= 0:
            return np.ones((1, days))
        site, day = (math.sqrt(math.log1p(spread**2)) for spread in (self.spread, DAY_SPREAD))
        # Day by day, so that the first days are the same however far a plan looks.
        daily = day * rng.standard_normal((days, len(normals))).T - day**2 / 2
        speeds = self.mean_speed * np.exp(site * normals[:, None] + daily)
        return np.asarray(np.interp(speeds, _MEANS, day_means_w(self.curve)) / likely)

    @property
    def drawn(self) -> bool:
        return True


def _read_curve(reader: Reader) -> Curve:
    points: list[tuple[float, float]] = []
    for row in reader.rows("curve"):
        if points and row.number("speed") <= points[-1][0]:
            raise DocumentError(row.path, "wind must rise from row to row")
        points.append((row.number("speed"), row.number("watts")))
    if points and max(watts for _, watts in points) <= 0:
        raise DocumentError(reader.at("curve"), "gives no power at any wind")
    return tuple(points)


def usual_curve(rated_w: float) -> Curve:
    """A usual curve of a rating: with the cube of the wind up to it, constant above, then off."""
    rise = [
        (float(speed), rated_w * (speed**3 - CUT_IN**3) / (RATED**3 - CUT_IN**3))
        for speed in np.arange(CUT_IN, RATED + 0.5)
    ]
    return (*rise, (CUT_OUT, rated_w), (CUT_OUT + 0.01, 0.0))


@lru_cache(maxsize=64)
def day_means_w(curve: Curve) -> np.ndarray:
    """Mean power of a day for each of the tabulated mean winds, W.

    The density of a Rayleigh distribution with mean m is π v / (2 m²) · exp(−π v² / (4 m²)).
    """
    speeds, powers = zip(*curve, strict=True)
    watts = np.interp(_SPEEDS, speeds, powers, left=0.0, right=0.0)
    means = np.maximum(_MEANS, 0.05)[:, None]
    density = math.pi * _SPEEDS / (2 * means**2) * np.exp(-math.pi * _SPEEDS**2 / (4 * means**2))
    table: np.ndarray = (density * watts).sum(axis=1) * (_SPEEDS[1] - _SPEEDS[0])
    table[0] = 0.0
    return table


@lru_cache(maxsize=64)
def mean_w(curve: Curve, mean_speed: float) -> float:
    """Long-run mean power at a site's mean wind, over days of all means, W."""
    day = math.sqrt(math.log1p(DAY_SPREAD**2))
    normals = np.array([NormalDist().inv_cdf((rank + 0.5) / 200) for rank in range(200)])
    speeds = mean_speed * np.exp(day * normals - day**2 / 2)
    return float(np.interp(speeds, _MEANS, day_means_w(curve)).mean())
