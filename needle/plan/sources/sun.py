"""Solar panels: clear-sky power, reduced by clouds, or as measured on site.

Measurements replace the general sky: Wh of whole days give the share of a clear sky left by clouds,
shade, aim and dirt; W read in full sun give the real output of the panels.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, tzinfo
from functools import lru_cache

import numpy as np

from needle.document import DocumentError, Reader
from needle.estimate import spread_of_few
from needle.fields import Fields, Number, Parts, Text, Windows
from needle.message import Message, message
from needle.moments import DAY_MIN, Window, in_windows, parse_moment, parse_windows
from needle.plan.sources.source import Source

#: Of panels where nothing is said: real W over rated W at best sun, degrees of tilt, and of aim.
YIELD, TILT, AZIMUTH = 0.72, 30.0, 180.0
#: Sun is worked out at every tenth minute and joined by straight lines.
SUN_STEP_MIN = 10
#: Clouds n of 0…1 leave 1 - 0.75·n^3.4 of a clear sky's sun (F. Kasten and G. Czeplak 1980, Solar
#: Energy 24, 177, for hourly global irradiance on the flat; used for tilted panels too, which
#: understates what diffuse light they see under full cloud).
CLOUD_SHARE, CLOUD_POWER = 0.75, 3.4
#: Concentration of the cloudiness of days about its mean: the two parameters' sum of a beta
#: distribution, whose sd is then 0.3 at half cover (general value).
CLOUD_DAYS = 1.7
#: Part of the spread of a day's sun that all days share: aim, dirt, shade, the panels themselves.
SHARED_SUN = 0.5
#: What is left of the sun in shade: the light of the rest of the sky (general value).
SHADE_LEFT = 0.2
#: How far a place may be off what is general, as a relative sd, before anything was measured there.
MEASURED_PRIOR = 0.35
#: Relative sd of what one reading of W in full sun tells of the panels: its meter, haze, the aim.
FULL_SUN_SPREAD = 0.08
#: Days that a day's own scatter is taken to have been seen on before any was.
DAY_WORTH = 3
#: Sun under which a reading in full sun tells nothing, as a share of 1000 W/m².
LEAST_SUN = 0.3


@dataclass(frozen=True)
class SunString:
    """Panels with one orientation: rated W at 1000 W/m², tilt and azimuth (180: south), degrees."""

    rated_w: float
    tilt: float
    azimuth: float


_STRING_FIELDS: Fields = {
    "rated_w": Number(
        "rated power of all panels of one aim", unit="W", most=1_000_000, above=True, needed=True
    ),
    "tilt": Number("tilt from level", unit="°", most=90, default=TILT),
    "azimuth": Number("where they face; 180 is south", unit="°", most=360, default=AZIMUTH),
}


@dataclass(frozen=True)
class Sun(Source):
    """Solar panels as a charging source.

    Attributes
    ----------
    strings : tuple of SunString
    performance_ratio : float
        Real W over rated W in full sun.
    latitude, longitude : float
        Degrees.
    clouds : float
        Mean cloud cover, share of the sky.
    connected, shade : tuple of Window
        Hours in which the panels are connected (empty: always), and shaded.
    sky_share : float
        Long-run share of clear-sky energy: from cloud cover, or measured.
    shared_spread, day_spread : float
        Relative sd of the long-run share, and of single days about it.
    how : tuple of Message
        What was measured; empty if nothing.
    """

    TITLE = "sun on panels"
    ABOUT = (
        "How sun is counted",
        "Each day's clear sky at that place, less clouds, times the rated watts and the "
        "real yield, limited by the input and the charge controller. The range is wide, as "
        "there is no weather forecast in it.",
        "Your measurements replace general values: the Wh of a few whole days show what "
        "clouds, shade and dirt leave at your place, and watts in full sun show what the "
        "panels give.",
    )
    FIELDS = {
        **_STRING_FIELDS,
        "strings": Parts(
            "strings of panels, in place of the three above", fields=_STRING_FIELDS, most=20
        ),
        "yield": Number(
            "real over rated power in full sun", unit="share", least=0.05, most=1.0, default=YIELD
        ),
        "latitude": Number("latitude, north positive", unit="°", least=-90, most=90, needed=True),
        "longitude": Number(
            "longitude, east positive", unit="°", least=-180, most=180, default=0.0
        ),
        "clouds": Number("mean cloud cover", unit="share", most=1.0, default=0.5),
        "spread": Number("relative spread of what it gives", most=2.0, default=0.25),
        "connected": Windows("hours in which the panels are connected; empty: all", most=50),
        "shade": Windows("hours in which they are shaded: a fifth is left", most=50),
        "measured": Parts(
            "what they gave: comes before `clouds` and `yield`",
            fields={
                "on": Text("a whole day", most=40),
                "wh": Number("its energy", unit="Wh", most=10_000_000, above=True),
                "at": Text("or a moment in full sun", most=40),
                "watts": Number("its power", unit="W", most=1_000_000, above=True),
            },
            most=400,
        ),
    }

    strings: tuple[SunString, ...]
    performance_ratio: float
    latitude: float
    longitude: float
    clouds: float
    connected: tuple[Window, ...]
    shade: tuple[Window, ...]
    sky_share: float
    shared_spread: float
    day_spread: float
    how: tuple[Message, ...] = ()
    spread: float = field(default=0.0)

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> Sun:
        spread, clouds = reader.number("spread"), reader.number("clouds")
        sun = cls(
            name=name,
            limit_w=limit_w,
            strings=_strings(reader),
            performance_ratio=reader.number("yield"),
            latitude=reader.number("latitude"),
            longitude=reader.number("longitude"),
            clouds=clouds,
            connected=_windows(reader, "connected", zone),
            shade=_windows(reader, "shade", zone),
            sky_share=mean_clear_share(clouds),
            shared_spread=SHARED_SUN * spread,
            day_spread=math.sqrt(1 - SHARED_SUN**2) * spread,
            spread=spread,
        )
        return _as_measured(sun, reader, zone)

    @property
    def basis(self) -> Message:
        if self.how:
            return message("sun-as-measured", how=self.how)
        return message("sun-by-cloud", clouds=self.clouds)

    @property
    def rated_w(self) -> float:
        """Rated power of all strings, W."""
        return sum(string.rated_w for string in self.strings)

    @property
    def rated_most_w(self) -> float:
        return self.rated_w

    @property
    def drawn(self) -> bool:
        return True

    def clear_w(self, start: datetime, minutes: int) -> np.ndarray:
        """Power under a clear sky at the rated output, W, shape (minutes,)."""
        clear = np.zeros(minutes)
        for string in self.strings:
            clear += string.rated_w * _clear_sky(
                self.latitude, self.longitude, string.tilt, string.azimuth, start, minutes
            )
        if self.shade:
            clear[in_windows(self.shade, start, minutes)] *= SHADE_LEFT
        if self.connected:
            clear[~in_windows(self.connected, start, minutes)] = 0.0
        return clear

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return self.performance_ratio * self.sky_share * self.clear_w(start, minutes)

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """Daily factors on clear-sky power: the long-run share times each day's own factor."""
        if normals is None or self.spread <= 0:
            return np.ones((1, days))
        shared, own = (
            math.sqrt(math.log1p(spread**2)) for spread in (self.shared_spread, self.day_spread)
        )
        # Day by day, so that the first days are the same however far a plan looks.
        skies = own * rng.standard_normal((days, len(normals))).T - own**2 / 2
        return np.exp(shared * normals[:, None] - shared**2 / 2 + skies)


def _windows(reader: Reader, key: str, zone: tzinfo | None) -> tuple[Window, ...]:
    return parse_windows(reader.items(key), reader.at(key), zone)


def _strings(reader: Reader) -> tuple[SunString, ...]:
    strings = reader.parts("strings")
    if strings and reader.has("rated_w"):
        raise DocumentError(reader.at("rated_w"), "stands in each of the strings")
    return tuple(_string(string) for string in strings or [reader])


def _string(reader: Reader) -> SunString:
    return SunString(reader.number("rated_w"), reader.number("tilt"), reader.number("azimuth"))


def _as_measured(sun: Sun, reader: Reader, zone: tzinfo | None) -> Sun:
    """The panels with measured values in place of general ones."""
    spots: list[float] = []
    days: list[float] = []
    for measured in reader.parts("measured"):
        if measured.has("watts"):
            spots.append(_in_full_sun(sun, measured, zone))
        else:
            days.append(_of_a_day(sun, measured, zone))
    if spots:
        ratio = math.exp(sum(math.log(spot) for spot in spots) / len(spots))
        sun = replace(
            sun,
            performance_ratio=min(1.0, ratio),
            how=(message("read-in-full-sun", readings=len(spots)),),
            shared_spread=min(sun.shared_spread, FULL_SUN_SPREAD),
        )
    if days:
        sun = _by_days(sun, days)
    spread = math.hypot(sun.shared_spread, sun.day_spread) if sun.how else sun.spread
    return replace(sun, spread=spread)


def _by_days(sun: Sun, days: Sequence[float]) -> Sun:
    """The panels with the clear-sky share of measured days, pooled with the general value.

    Precisions add up (a normal prior of the logarithms); the scatter of single days is pooled too.
    """
    logs = [math.log(share / sun.performance_ratio) for share in days]
    count, middle = len(logs), sum(logs) / len(logs)
    # As many days of scatter as the mean of one of them would have.
    own = spread_of_few([log - middle for log in logs], max(sun.day_spread, 0.05), DAY_WORTH)
    own *= math.sqrt(count)
    prior = 1 / max(MEASURED_PRIOR, sun.shared_spread) ** 2
    seen = count / own**2
    level = (prior * math.log(sun.sky_share) + seen * middle) / (prior + seen)
    return replace(
        sun,
        sky_share=math.exp(level),
        shared_spread=1 / math.sqrt(prior + seen),
        day_spread=own,
        how=(*sun.how, message("wh-of-days", days=count)),
    )


def _in_full_sun(sun: Sun, reader: Reader, zone: tzinfo | None) -> float:
    """The panels with the ratio of real to rated W read in full sun."""
    at = parse_moment(reader.text("at"), reader.at("at"), zone or UTC)
    if not isinstance(at, datetime):
        raise DocumentError(
            reader.at("at"), "needs a date with a time: the sun's height hangs on it"
        )
    watts = reader.number("watts")
    clear = float(sun.clear_w(at, 1)[0])
    if clear < LEAST_SUN * sun.rated_w:
        raise DocumentError(
            reader.at("at"), "the sun stood too low on the panels then: read at best sun"
        )
    if watts > 1.2 * clear:
        raise DocumentError(
            reader.at("watts"),
            f"{watts:g} W is more than these panels give in full sun then, {clear:.0f} W: check "
            "the time, and what is printed on them",
        )
    return watts / clear


def _of_a_day(sun: Sun, reader: Reader, zone: tzinfo | None) -> float:
    """Share of the clear-sky energy that a measured day had."""
    day = parse_moment(f"{reader.text('on')[:10]}T00:00", reader.at("on"), zone or UTC)
    if not isinstance(day, datetime):
        raise DocumentError(reader.at("on"), "needs a day such as 2026-11-20")
    wh = reader.number("wh")
    clear_wh = float(sun.clear_w(day, DAY_MIN).sum()) / 60
    if clear_wh <= 0 or wh > 1.2 * clear_wh:
        raise DocumentError(
            reader.at("wh"),
            f"{wh:g} Wh is more than these panels give on a clear day then, {clear_wh:.0f} Wh: "
            "check the day, and what is printed on them",
        )
    return wh / clear_wh


@lru_cache(maxsize=64)
def mean_clear_share(clouds: float) -> float:
    """Long-run share of clear-sky energy at a mean cloud cover.

    The curve is applied to each day's cover before averaging, since clear days gain more than dull
    days lose.
    """
    if clouds <= 0 or clouds >= 1:
        return float(1 - CLOUD_SHARE * clouds**CLOUD_POWER)
    from scipy.special import betaincinv

    places = (np.arange(200) + 0.5) / 200
    covers = betaincinv(CLOUD_DAYS * clouds, CLOUD_DAYS * (1 - clouds), places)
    return float(np.mean(1 - CLOUD_SHARE * covers**CLOUD_POWER))


def warm_up() -> None:
    """Import the solar packages, so that the first plan with panels does not wait for them."""
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
        tilt,
        azimuth,
        position["apparent_zenith"],
        position["azimuth"],
        sky["dni"],
        sky["ghi"],
        sky["dhi"],
    )
    shares = np.nan_to_num(plane["poa_global"].to_numpy(dtype=float)) / 1000
    return np.asarray(
        np.interp(np.arange(minutes), np.arange(steps) * SUN_STEP_MIN, np.maximum(0.0, shares))
    )
