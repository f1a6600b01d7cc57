"""An inverter: its losses and limits.

DC in = idle + AC out / marginal efficiency + a small term in the square of the load. A single
efficiency would hide the idle draw, which is most of the loss at small loads.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from needle.document import DocumentError, Reader
from needle.estimate import STATED_SHARE_SPREAD, STATED_SPREAD, Estimate, from_limits
from needle.fields import Choice, Fields, Flag, Number, Rows, Windows
from needle.message import message
from needle.moments import Window, parse_windows

#: No-load draw as a share of the continuous rating, until an idle test (general values).
IDLE_SHARE = (0.004, 0.010, 0.025)
#: Marginal efficiency until an efficiency test (general values).
EFFICIENCY = from_limits(0.85, 0.90, 0.95, message("inverters-usual"))


#: No loss in the square of the load, until a fit finds one.
NO_SQUARE = Estimate(0.0, 0.0, "D", (message("none-known"),))


#: How a figure is known that somebody states.
_GIVEN = (message("as-given"),)


@dataclass(frozen=True)
class Inverter:
    """An inverter.

    Attributes
    ----------
    continuous_w : float
        Continuous rating, W.
    surge_va : float
        Surge rating for ``surge_s`` seconds, VA.
    surge_s : float
        Duration of the surge rating, s.
    idle_w : Estimate
        DC W with nothing plugged in.
    efficiency : Estimate
        Marginal efficiency: additional AC W out over additional DC W in.
    overload : tuple of (ratio, seconds)
        Overload ratings: multiples of ``continuous_w`` (increasing), and their durations.
    waveform : str
        ``"sine"`` or ``"stepped"``.
    square_per_w : Estimate
        Square loss: DC W per AC W squared, 1/W.
    off_unused : bool
        Whether it is switched off if no load of a plan is on AC.
    off : tuple of Window
        Times in which it is switched off.
    surge_known : bool
        False if the continuous rating is used in place of an unknown surge rating.
    rated_va : float or None
        Continuous rating in VA, if stated separately.
    volts : float or None
        Output voltage, V; None fits any load.
    """

    continuous_w: float
    surge_va: float
    surge_s: float
    idle_w: Estimate
    efficiency: Estimate
    overload: tuple[tuple[float, float], ...] = ()
    waveform: str = "sine"
    surge_known: bool = True
    off: tuple[Window, ...] = ()
    square_per_w: Estimate = NO_SQUARE
    off_unused: bool = False
    rated_va: float | None = None
    volts: float | None = None

    @property
    def continuous_va(self) -> float:
        """Continuous rating in VA: as stated, else the number of its W."""
        return self.continuous_w if self.rated_va is None else self.rated_va

    @property
    def most_times(self) -> float:
        """The most that it carries for any time, as a multiple of its continuous rating."""
        return self.overload[-1][0] if self.overload else 1.0


def dc_w(
    ac_w: float | np.ndarray,
    idle_w: float | np.ndarray,
    efficiency: float | np.ndarray,
    square_per_w: float | np.ndarray = 0.0,
    nonactive_va: float | np.ndarray = 0.0,
) -> float | np.ndarray:
    """DC W in for AC W out; scalars or arrays that broadcast.

    The square loss depends on the current: on VA² = W² + non-active VA².
    """
    linear = idle_w + ac_w / efficiency
    if np.ndim(square_per_w) == 0 and square_per_w == 0:
        return linear
    return linear + square_per_w * (ac_w**2 + nonactive_va**2)


def percentage(ac_w: float, idle_w: float, efficiency: float, square_per_w: float = 0.0) -> float:
    """Overall efficiency (share) at one load, with the idle draw."""
    return ac_w / float(dc_w(ac_w, idle_w, efficiency, square_per_w))


def usual_idle_w(continuous_w: float) -> Estimate:
    """Idle W that inverters of this size usually draw (grade D)."""
    low, typical, high = (share * continuous_w for share in IDLE_SHARE)
    return from_limits(low, typical, high, message("inverter-idle-usual"))


INVERTER_FIELDS: Fields = {
    "continuous_w": Number("continuous rating", unit="W", most=1_000_000, above=True, needed=True),
    "continuous_va": Number(
        "continuous rating in VA, where it is another number",
        unit="VA",
        most=5_000_000,
        above=True,
        otherwise="the number of its W",
    ),
    "surge_va": Number(
        "surge rating", unit="VA", most=5_000_000, above=True, otherwise="continuous_w"
    ),
    "surge_s": Number("duration of the surge", unit="s", most=600, above=True, default=2.0),
    "idle_w": Number(
        "DC power with nothing plugged in",
        unit="W",
        most=10_000,
        otherwise="wide general values",
    ),
    "idle_spread": Number("relative spread of it", most=2.0, default=STATED_SPREAD),
    "efficiency": Number(
        "additional AC over additional DC power",
        unit="share",
        least=0.3,
        most=1.0,
        otherwise="wide general values",
    ),
    "efficiency_spread": Number("relative spread of it", most=0.5, default=STATED_SHARE_SPREAD),
    "square_per_w": Number(
        "loss in the square of the load", unit="1/W", most=0.1, otherwise="none"
    ),
    "square_spread": Number("relative spread of it", most=5.0, default=STATED_SPREAD),
    "overload": Rows(
        "overload ratings, multiples rising",
        columns={
            "ratio": Number("multiple of continuous", least=1.0, most=20, needed=True),
            "seconds": Number("seconds", unit="s", most=86_400, needed=True),
        },
        most=20,
    ),
    "waveform": Choice("wave of its output", choices=("sine", "stepped"), default="sine"),
    "volts": Number("output voltage", unit="V", most=1000, above=True, otherwise="any load's"),
    "off": Windows("hours in which it is off", most=100),
    "off_unused": Flag("whether it is off in a plan that has no load on AC"),
}


def parse_inverter(data: object, path: str = "inverter") -> Inverter:
    """Parse the inverter of a supply document.

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, path, INVERTER_FIELDS)
    continuous, surge = reader.number("continuous_w"), reader.number_or_none("surge_va")
    if surge is not None and surge < continuous:
        raise DocumentError(
            reader.at("surge_va"), f"{surge:g} VA is below the continuous {continuous:g} W"
        )
    idle, efficiency = reader.number_or_none("idle_w"), reader.number_or_none("efficiency")
    square = reader.number_or_none("square_per_w")
    return Inverter(
        continuous_w=continuous,
        surge_va=continuous if surge is None else surge,
        surge_s=reader.number("surge_s"),
        idle_w=usual_idle_w(continuous)
        if idle is None
        else Estimate(idle, reader.number("idle_spread"), "B", _GIVEN),
        efficiency=EFFICIENCY
        if efficiency is None
        else Estimate(efficiency, reader.number("efficiency_spread"), "B", _GIVEN, 1.0),
        overload=_overload(reader),
        waveform=reader.choice("waveform"),
        surge_known=surge is not None,
        off_unused=reader.flag("off_unused"),
        rated_va=reader.number_or_none("continuous_va"),
        volts=reader.number_or_none("volts"),
        off=parse_windows(reader.items("off"), reader.at("off"), None),
        square_per_w=NO_SQUARE
        if square is None
        else Estimate(square, reader.number("square_spread"), "B", _GIVEN),
    )


def _overload(reader: Reader) -> tuple[tuple[float, float], ...]:
    points: list[tuple[float, float]] = []
    for row in reader.rows("overload"):
        point = (row.number("ratio"), row.number("seconds"))
        if points and (point[0] <= points[-1][0] or point[1] > points[-1][1]):
            raise DocumentError(row.path, "multiples must rise and their times must not")
        points.append(point)
    return tuple(points)
