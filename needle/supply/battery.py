"""A battery bank: capacity and usable energy."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from needle.document import DocumentError, Reader
from needle.estimate import STATED_SPREAD, Estimate
from needle.fields import Choice, Fields, Number
from needle.message import message
from needle.supply.chemistry import CHEMISTRIES
from needle.supply.voltage import usual_cutoff_v, usual_ohm

#: Temperature that labels speak of, °C.
LABEL_C = 25.0
#: Relative spreads of what nobody measures: n - 1 of Peukert's exponent, the share lost to cold,
#: and how fast a battery takes charge near full (general values).
PEUKERT_SPREAD, COLD_SPREAD, TAPER_SPREAD = 0.3, 0.3, 0.3
#: Below the rated current the law goes on with this share of its exponent, down to this share of
#: that current, which gives 5 % more of lead-acid (general values); and the spread of the exponent.
SLOW_EXPONENT, SLOWEST, SLOW_SPREAD = 0.5, 0.4, 0.8
#: Spread of a resistance that was not measured (general value).
OHM_SPREAD = 0.4
#: Share of the label that a battery gives, until a trial measures it.
STATE_OF_HEALTH = Estimate(0.93, 0.05 / 0.93, "D", (message("capacity-usual"),))


@dataclass(frozen=True)
class Battery:
    """A battery bank.

    Attributes
    ----------
    chemistry : str
        Key of :data:`needle.supply.chemistry.CHEMISTRIES`.
    nominal_wh : float
        Nominal energy, Wh.
    volts : float or None
        Nominal volts.
    floor : float
        Share of the real capacity that is not used.
    state_of_health : Estimate
        Real over nominal capacity.
    start_charge : float
        State of charge at the start, share.
    charge_efficiency : float
        Wh stored over Wh put in.
    peukert_n : float
        Peukert's exponent; 1 for none.
    rated_hours : float
        Discharge time H of the nominal capacity, h.
    internal_ohm : Estimate or None
        Resistance of the whole bank, Ω; None if voltage sag is not simulated.
    cutoff_v : float or None
        Voltage at which it switches off, V; None if voltage sag is not simulated.
    measured_c : float
        Temperature at which the capacity was measured, °C.
    tested_rate : float or None
        Mean current of the capacity test over the rated one; None without a test.
    peukert_spread, cold_spread, taper_spread : float
        Relative spread of n - 1, of the share lost to cold, and of the power accepted near full.
    """

    chemistry: str
    nominal_wh: float
    volts: float | None = None
    floor: float = 0.10
    state_of_health: Estimate = STATE_OF_HEALTH
    start_charge: float = 1.0
    charge_efficiency: float = 0.96
    peukert_n: float = 1.0
    rated_hours: float = 20.0
    internal_ohm: Estimate | None = None
    cutoff_v: float | None = None
    measured_c: float = LABEL_C
    tested_rate: float | None = None
    peukert_spread: float = PEUKERT_SPREAD
    cold_spread: float = COLD_SPREAD
    taper_spread: float = TAPER_SPREAD


def cost_per_wh(
    rate: np.ndarray | float, n: np.ndarray | float, slow: np.ndarray | float
) -> np.ndarray:
    """Charge that each Wh out of a battery takes, over that at its rated current.

    Peukert's law, (I·H/C)^(n-1) above the rated current; below it the law goes on with a smaller
    exponent ``slow``, down to :data:`SLOWEST` of that current (W. Peukert, Elektrotech. Z. 20,
    287, 1897; that it overstates slow discharges: D. Doerffel and S. Abu Sharkh, J. Power Sources
    155, 395, 2006).
    """
    fast, slowly = np.maximum(1.0, rate), np.clip(rate, SLOWEST, 1.0)
    return np.asarray(fast ** (np.asarray(n) - 1) * slowly ** np.asarray(slow))


def rated_share(
    share: float, rate: float, n: np.ndarray | float, slow: np.ndarray | float
) -> np.ndarray:
    """Capacity at the rated current, share, from the share given at another mean current.

    ``rate`` is that current over the rated current of the nominal capacity. The law speaks of the
    real capacity C: C^n = (share given)·rate^(n-1) where it is above the rated current.
    """
    n = np.asarray(n)
    if rate > share:
        return np.asarray((share * rate ** (n - 1)) ** (1 / n))
    return np.asarray(share * np.clip(rate / share, SLOWEST, 1.0) ** np.asarray(slow))


def nominal_wh(volts: float, amp_hours: float, series: int = 1, parallel: int = 1) -> float:
    """Nominal energy of equal batteries, Wh: series adds volts, parallel adds amp-hours."""
    return volts * series * amp_hours * parallel


def usable_wh(battery: Battery) -> Estimate:
    """Energy between the charge at the start and the floor, at the battery's terminals, Wh."""
    share = max(0.0, battery.start_charge - battery.floor)
    return battery.state_of_health.scaled(battery.nominal_wh * share)


def cold_factor(battery: Battery, battery_c: float | None) -> float:
    """Capacity at a temperature over that at the temperature of its measurement.

    It falls linearly below 25 °C (lead-acid 0.8 %/°C, lithium 0.4 %/°C; general values) and is
    constant above. 1 if the temperature is unknown.
    """
    if battery_c is None:
        return 1.0
    rate = CHEMISTRIES[battery.chemistry].cold_per_c
    now, then = (
        max(0.1, 1 - rate * max(0.0, LABEL_C - c)) for c in (battery_c, battery.measured_c)
    )
    return now / then


BATTERY_FIELDS: Fields = {
    "chemistry": Choice("cell chemistry", choices=CHEMISTRIES),
    "nominal_wh": Number("nominal energy", unit="Wh", most=10_000_000, above=True, needed=True),
    "volts": Number("nominal voltage", unit="V", most=1500, above=True),
    "floor": Number(
        "share of the real capacity that is not used",
        unit="share",
        most=0.99,
        otherwise="as its chemistry",
    ),
    "capacity_factor": Number(
        "real over nominal capacity", least=0.05, most=1.5, default=STATE_OF_HEALTH.value
    ),
    "capacity_spread": Number("relative spread of it", most=1.0, default=STATE_OF_HEALTH.spread),
    "start_charge": Number("charge at the start", unit="share", most=1.0, default=1.0),
    "charge_efficiency": Number(
        "Wh stored over Wh put in", unit="share", most=1.0, above=True, otherwise="as its chemistry"
    ),
    "peukert_n": Number("Peukert's exponent", least=1.0, most=1.6, otherwise="as its chemistry"),
    "rated_hours": Number(
        "discharge time of the nominal capacity", unit="h", least=0.1, most=1000, default=20.0
    ),
    "internal_ohm": Number(
        "resistance of the whole bank",
        unit="Ω",
        most=100,
        above=True,
        otherwise="as usual beside `cutoff_v`; without both, sag is not simulated",
    ),
    "ohm_spread": Number("relative spread of it", most=1.0, default=STATED_SPREAD),
    "cutoff_v": Number(
        "voltage at which it switches off",
        unit="V",
        most=1500,
        above=True,
        otherwise="as usual beside `internal_ohm`",
    ),
    "measured_c": Number(
        "temperature at which the capacity was measured",
        unit="°C",
        least=-40,
        most=70,
        default=LABEL_C,
    ),
    "peukert_spread": Number("relative spread of n − 1", most=2.0, default=PEUKERT_SPREAD),
    "cold_spread": Number(
        "relative spread of the share lost to cold", most=2.0, default=COLD_SPREAD
    ),
    "taper_spread": Number(
        "relative spread of the power accepted near full", most=2.0, default=TAPER_SPREAD
    ),
}


def parse_battery(data: object, path: str = "battery") -> Battery:
    """Parse the battery of a supply document.

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, path, BATTERY_FIELDS)
    chemistry = CHEMISTRIES[reader.choice("chemistry")]

    factor = STATE_OF_HEALTH
    if reader.has("capacity_factor") or reader.has("capacity_spread"):
        value, spread = reader.number("capacity_factor"), reader.number("capacity_spread")
        factor = Estimate(value, spread, "B", (message("share-of-label", share=value),))
    nominal, volts = reader.number("nominal_wh"), reader.number_or_none("volts")
    ohm, cutoff = _sag(reader, chemistry.key, volts, nominal)
    battery = Battery(
        chemistry=chemistry.key,
        nominal_wh=nominal,
        volts=volts,
        floor=reader.number("floor", chemistry.floor),
        state_of_health=factor,
        start_charge=reader.number("start_charge"),
        charge_efficiency=reader.number("charge_efficiency", chemistry.charge_efficiency),
        peukert_n=reader.number("peukert_n", chemistry.peukert_n),
        rated_hours=reader.number("rated_hours"),
        internal_ohm=ohm,
        cutoff_v=cutoff,
        measured_c=reader.number("measured_c"),
        peukert_spread=reader.number("peukert_spread"),
        cold_spread=reader.number("cold_spread"),
        taper_spread=reader.number("taper_spread"),
    )
    if battery.start_charge <= battery.floor:
        raise DocumentError(
            reader.at("start_charge"),
            f"{battery.start_charge:g} is not above the floor of {battery.floor:g}: nothing to use",
        )
    return battery


def _sag(
    reader: Reader, chemistry: str, volts: float | None, nominal: float
) -> tuple[Estimate | None, float | None]:
    """Resistance and cut-off; if one of the two is missing, the usual value of the chemistry."""
    ohm, cutoff = reader.number_or_none("internal_ohm"), reader.number_or_none("cutoff_v")
    if ohm is None and cutoff is None:
        return None, None
    if volts is None:
        known = "cut-off volts" if ohm is None else "internal resistance"
        raise DocumentError(reader.at("volts"), f"is needed beside its {known}")
    if cutoff is not None and cutoff >= volts * 1.1:
        raise DocumentError(
            reader.at("cutoff_v"), f"{cutoff:g} V is above the battery's {volts:g} V"
        )
    spread = reader.number("ohm_spread")
    resistance = (
        Estimate(ohm, spread, "B", (message("as-given"),))
        if ohm is not None
        else Estimate(
            usual_ohm(chemistry, volts, nominal),
            OHM_SPREAD,
            "D",
            (message("resistance-usual"),),
        )
    )
    return resistance, usual_cutoff_v(chemistry, volts) if cutoff is None else cutoff
