"""Instruments: what each shows, its accuracy, and its limits.

Accuracies are limits that meters of each class commonly state. A limit ±a is taken as a rectangular
distribution, whose standard deviation is a/sqrt(3) (JCGM 100:2008, 4.3.7).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field


@dataclass(frozen=True)
class Instrument:
    """A class of meter, or a person's own meter.

    Attributes
    ----------
    key, name : str
        Key in documents, and name.
    limit : float
        Accuracy limit, share of the reading.
    counts : float
        Additional limit, counts of the last digit.
    steps : dict
        Resolution of each quantity: volts, amps, watts, va, pf, hz, wh.
    blind : str
        What it cannot measure.
    caution : str
        Safety caution before using it.
    shows : tuple of str
        Quantities that it shows.
    least_w, most_a : float
        Lowest reliable W; highest A, None if unknown.
    fast_inrush, logs : bool
        Whether it captures the peak of a start; whether it records.
    gain, gain_spread : float
        Ratio of shown to real value, and its relative sd.
    base_w : float
        Its own consumption, included in the reading, W.
    own : bool
        Whether it is a person's own meter rather than a class.
    id : str
        First name of a person's own meter, which seeds its random stream.
    """

    key: str
    name: str
    limit: float
    counts: float
    steps: dict[str, float] = field(hash=False)
    blind: str = ""
    caution: str = ""
    shows: tuple[str, ...] = ("volts", "amps", "watts", "va", "pf", "hz", "wh")
    least_w: float = 0.0
    most_a: float | None = None
    fast_inrush: bool = False
    logs: bool = False
    gain: float = 1.0
    gain_spread: float = 0.0
    base_w: float = 0.0
    own: bool = False
    id: str = ""

    @property
    def words(self) -> str:
        """Its name in a sentence: "a plug meter", or its own name."""
        return f"“{self.name}”" if self.own else f"a {self.name}"

    @property
    def shared_sd(self) -> float:
        """Relative sd that all of its readings share."""
        return math.hypot(self.limit / math.sqrt(3), self.gain_spread)

    def relative_sd(self, quantity: str, value: float) -> float:
        """Relative standard deviation of a reading of ``quantity`` at ``value`` (in its unit)."""
        step = self.steps.get(quantity, 0.0)
        count = self.counts * step / abs(value) if value else 0.0
        return math.hypot(math.hypot(self.limit, count) / math.sqrt(3), self.gain_spread)


_METER_STEPS = {
    "volts": 0.1,
    "amps": 0.01,
    "watts": 0.1,
    "va": 1.0,
    "pf": 0.01,
    "hz": 0.1,
    "wh": 10.0,
}

_DC_SHOWS = ("volts", "amps", "watts", "wh")

INSTRUMENTS = {
    instrument.key: instrument
    for instrument in (
        Instrument(
            "plug",
            "plug meter",
            0.01,
            1,
            _METER_STEPS,
            "starts shorter than about a second, the inverter's own draw, hard-wired loads",
            "Use it only within its rated amps. For a hard-wired load stop here: a licensed "
            "electrician clamps one conductor.",
            least_w=2.0,
        ),
        Instrument(
            "clamp",
            "clamp meter",
            0.025,
            5,
            {"volts": 0.1, "amps": 0.01, "va": 1.0},
            "watts and power factor; it reads zero around a whole cable",
            "Clamp one insulated conductor only. Never open what you are not qualified to open.",
            shows=("volts", "amps", "va"),
            fast_inrush=True,
        ),
        Instrument(
            "shunt",
            "DC shunt monitor",
            0.01,
            1,
            {"volts": 0.01, "amps": 0.01, "watts": 0.1, "wh": 10.0},
            "what happens on the AC side",
            "Fuse at the battery. Reset it at full charge.",
            shows=_DC_SHOWS,
            fast_inrush=True,
            logs=True,
        ),
        Instrument(
            "display",
            "supply's display",
            0.05,
            1,
            {"watts": 1.0, "wh": 10.0},
            "its own idle draw on some supplies; its hours-left figure is no forecast",
            "",
            shows=("watts", "wh", "volts", "amps"),
        ),
        Instrument(
            "usb",
            "USB meter",
            0.01,
            2,
            {"volts": 0.01, "amps": 0.001, "watts": 0.01, "wh": 0.1},
            "what the adapter before it loses; starts of a few milliseconds",
            "",
            shows=_DC_SHOWS,
        ),
        Instrument(
            "logger",
            "panel logger",
            0.02,
            1,
            _METER_STEPS,
            "short starts",
            "Fitted in a live panel by a licensed electrician, by local code.",
            least_w=2.0,
            logs=True,
        ),
    )
}

DEFAULT = INSTRUMENTS["plug"]


def clamp_cancelled(amps: float, watts: float, volts: float) -> bool:
    """Whether a clamp's inrush, A, is so small that it must enclose the whole cable.

    A start draws at least the running current; below half of W/V, or below 0.05 A, the currents of
    both conductors cancel.
    """
    return amps < max(0.05, 0.5 * watts / max(volts, 1.0))


def get(key: str | None) -> Instrument:
    """Return the instrument with a key; the plug meter if the key is empty.

    Raises
    ------
    KeyError
        Unknown key.
    """
    return DEFAULT if not key else INSTRUMENTS[key]
