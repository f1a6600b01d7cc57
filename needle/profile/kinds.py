"""Usual figures of each kind of load, used until something is measured (grade D).

Ranges are general engineering values (low, typical, high), taken as 10th, 50th and 90th percentile.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

Range = tuple[float, float, float]

#: What depends on a load: a life, or contents that must keep their range.
SAFETY_CLASSES = ("", "life", "store")
#: What documents may say in the same place where neither does: it is hard-wired.
WIRED = "hard-wired"
#: Who decides when a load runs: key of documents, and words.
RUNS_BY = {
    "itself": "itself: a thermostat, or it is always on",
    "water": "water: a float, or hot water that is drawn",
    "person": "a person, now and then or for some hours",
    "clock": "a clock: the same hours every day",
}

#: Always on while in use.
_FULL: Range = (1.0, 1.0, 1.0)
#: A label's watts over the running mean: plates state a worst case for most loads, but the
#: heating power itself for heaters.
_PLATE: Range = (1.2, 2.0, 4.0)
_HEATER_PLATE: Range = (0.97, 1.03, 1.1)
#: LED lights draw what stands on them, at most a tenth more (IEC 62612, rated power); less where
#: their driver or a dimmer holds them back (our own general value).
_LIGHT_PLATE: Range = (0.91, 1.05, 1.5)


@dataclass(frozen=True)
class Kind:
    """A kind of load.

    Attributes
    ----------
    key, name, short : str
        Document key, name, and a short name.
    power_factor : (low, typical, high)
        True power factor, 0…1.
    start_factor : (low, typical, high)
        Start-up VA over running VA.
    duty : (low, typical, high) or None
        Share of time running; None if it depends on use or never becomes stable.
    start_s : float
        Usual duration of the start-up surge, s.
    motor : bool
        Whether it has an induction motor, which a stepped wave may overheat.
    plate : (low, typical, high)
        Label W over running W.
    by_use : bool
        Whether it runs only while somebody uses it.
    cycle_min : float
        Usual length of a cycle, min, until cycles are measured.
    day_spread : float
        Relative sd of a day's mean about the long-run mean.
    day_swing : float
        Relative amplitude of the swing over a day.
    rarer : bool
        Whether it has a rare state with higher power, such as a defrost.
    modulates : bool
        Whether its W vary continuously, so that one reading is only a momentary value.
    usual_w : (low, high)
        Usual running W; a reading far outside is queried.
    runs_by : str
        Who usually decides when it runs, a key of :data:`RUNS_BY`.
    wander : float
        How its W wander within the hour (relative sd): a reading is a moment, not its mean.
    keeps_contents : bool
        Whether it keeps food, medicine or vaccine cold, unless stated otherwise.
    set_point : str
        ``"cools"`` or ``"heats"`` to a set point; empty without one.
    electronic : bool
        Whether its current is shaped by electronics, including drives.
    adapter : bool
        Whether it is fed by an AC adapter, which a DC output does without.
    charges : bool
        Whether it may charge a pack.
    uncounted : bool
        Whether its name takes no article.
    no_capacitor : str
        Why no capacitor may correct its power factor; empty for a motor, which one may.
    """

    key: str
    name: str
    short: str
    power_factor: Range
    start_factor: Range
    duty: Range | None
    start_s: float = 0.3
    motor: bool = False
    plate: Range = _PLATE
    by_use: bool = False
    cycle_min: float = 40.0
    day_spread: float = 0.01
    day_swing: float = 0.0
    rarer: bool = False
    modulates: bool = False
    keeps_contents: bool = False
    set_point: str = ""
    electronic: bool = False
    adapter: bool = False
    charges: bool = False
    uncounted: bool = False
    no_capacitor: str = ""
    usual_w: tuple[float, float] = (1.0, 5000.0)
    runs_by: str = "itself"
    wander: float = 0.0

    @property
    def cycles(self) -> bool:
        """Whether it switches itself on and off."""
        return self.duty is not None and self.duty != _FULL

    @property
    def self_regulating(self) -> bool:
        """Whether it decides by itself when it runs, so that a counter needs no use to be known."""
        return self.cycles or self.modulates

    @property
    def varies(self) -> bool:
        """Whether its hours or days differ enough that a mean needs a whole day."""
        return self.cycles or self.modulates or self.wander > 0

    @property
    def level_spread(self) -> float:
        """Relative sd of one reading about the level, until several readings show it."""
        if self.varies or self.motor:
            return 0.05
        return math.hypot(0.03, self.day_spread, self.day_swing / math.sqrt(2))

    @property
    def one(self) -> str:
        """Its name in a sentence: ``an LED light``, ``a pump against head``, ``resistive heat``."""
        if self.uncounted:
            return self.name
        return f"{'an' if self.name[0] in 'aeiouL' else 'a'} {self.name}"


_DISTORTED = (
    "Its poor power factor comes from a distorted current, not from a lagging one. A capacitor "
    "does not cure distortion."
)
_UNITY = "Heaters have a power factor of 1: there is nothing to correct."

_TABLE = (
    Kind(
        "compressor-fixed",
        "compressor refrigeration, fixed speed",
        "compressor",
        (0.55, 0.65, 0.8),
        (3, 5, 8),
        (0.2, 0.35, 0.6),
        0.4,
        motor=True,
        day_spread=0.055,
        day_swing=0.09,
        rarer=True,
        keeps_contents=True,
        set_point="cools",
        uncounted=True,
        usual_w=(40, 600),
    ),
    Kind(
        "compressor-variable",
        "compressor, variable speed",
        "compressor, variable",
        (0.6, 0.9, 0.98),
        (1, 1.3, 2),
        None,
        0.5,
        day_spread=0.06,
        day_swing=0.09,
        rarer=True,
        modulates=True,
        wander=0.20,
        keeps_contents=True,
        set_point="cools",
        electronic=True,
        no_capacitor=(
            "A variable-speed drive shapes its own current: a capacitor beside it does not help "
            "and can be destroyed, or destroy the drive."
        ),
        usual_w=(20, 3000),
    ),
    Kind(
        "induction-motor",
        "induction motor, fan or tool",
        "induction motor",
        (0.5, 0.75, 0.88),
        (2, 4, 6),
        None,
        0.4,
        motor=True,
        by_use=True,
        runs_by="person",
        usual_w=(10, 3000),
    ),
    Kind(
        "pump",
        "pump against head",
        "pump",
        (0.6, 0.8, 0.9),
        (2, 4, 7),
        None,
        0.5,
        motor=True,
        by_use=True,
        runs_by="water",
        usual_w=(10, 3000),
    ),
    Kind(
        "universal-motor",
        "universal motor (brushes)",
        "brush motor",
        (0.85, 0.95, 0.99),
        (2, 3, 4),
        None,
        0.3,
        by_use=True,
        runs_by="person",
        no_capacitor="A motor with brushes is near unity already: there is nothing to correct.",
        usual_w=(50, 2500),
    ),
    Kind(
        "resistive-heat",
        "resistive heat",
        "resistive heat",
        _FULL,
        (1, 1.05, 1.2),
        _FULL,
        0.1,
        plate=_HEATER_PLATE,
        by_use=True,
        runs_by="person",
        day_spread=0.02,
        uncounted=True,
        no_capacitor=_UNITY,
        usual_w=(20, 4000),
    ),
    Kind(
        "thermostat-heat",
        "heat with thermostat",
        "thermostat heat",
        _FULL,
        (1, 1.05, 1.2),
        (0.2, 0.5, 0.9),
        0.1,
        plate=_HEATER_PLATE,
        cycle_min=15,
        day_spread=0.06,
        day_swing=0.09,
        uncounted=True,
        set_point="heats",
        no_capacitor=_UNITY,
        usual_w=(10, 5000),
    ),
    Kind(
        "induction-hob",
        "induction hob, inverter oven",
        "induction heat",
        (0.9, 0.97, 0.99),
        (1, 1.1, 1.5),
        None,
        0.1,
        by_use=True,
        runs_by="person",
        electronic=True,
        no_capacitor=_DISTORTED,
        usual_w=(300, 7000),
    ),
    Kind(
        "electronics",
        "electronics with power pack",
        "electronics",
        (0.5, 0.65, 0.98),
        (1, 3, 10),
        _FULL,
        0.005,
        day_spread=0.03,
        day_swing=0.06,
        uncounted=True,
        electronic=True,
        adapter=True,
        charges=True,
        no_capacitor=_DISTORTED,
        usual_w=(1, 1000),
    ),
    Kind(
        "led",
        "LED light",
        "LED light",
        (0.5, 0.8, 0.95),
        (1, 3, 10),
        None,
        0.005,
        by_use=True,
        runs_by="person",
        day_spread=0.03,
        electronic=True,
        adapter=True,
        no_capacitor=_DISTORTED,
        plate=_LIGHT_PLATE,
        usual_w=(1, 300),
    ),
    Kind(
        "water-tank",
        "hot-water tank",
        "water tank",
        _FULL,
        (1, 1.05, 1.2),
        (0.07, 0.15, 0.33),
        0.1,
        plate=_HEATER_PLATE,
        cycle_min=180,
        day_spread=0.30,
        set_point="heats",
        runs_by="water",
        no_capacitor=_UNITY,
        usual_w=(300, 6000),
    ),
    Kind(
        "float-pump",
        "pump with a float",
        "float pump",
        (0.6, 0.8, 0.9),
        (2, 4, 7),
        (0.002, 0.015, 0.1),
        0.5,
        motor=True,
        cycle_min=200,
        day_spread=0.30,
        runs_by="water",
        usual_w=(50, 3000),
    ),
    Kind(
        "screen",
        "screen or computer",
        "screen",
        (0.5, 0.65, 0.98),
        (1, 3, 10),
        None,
        0.005,
        by_use=True,
        day_spread=0.12,
        wander=0.30,
        runs_by="person",
        electronic=True,
        adapter=True,
        charges=True,
        no_capacitor=_DISTORTED,
        usual_w=(5, 800),
    ),
    Kind(
        "sound",
        "sound equipment",
        "sound",
        (0.5, 0.65, 0.95),
        (1, 3, 10),
        None,
        0.005,
        plate=(3, 5.5, 10),
        by_use=True,
        day_spread=0.12,
        wander=0.30,
        runs_by="person",
        uncounted=True,
        electronic=True,
        no_capacitor=_DISTORTED,
        usual_w=(5, 3000),
    ),
    Kind(
        "bedside",
        "machine beside a bed",
        "bedside machine",
        (0.5, 0.65, 0.98),
        (1, 3, 10),
        None,
        0.005,
        by_use=True,
        day_spread=0.08,
        wander=0.30,
        runs_by="person",
        electronic=True,
        adapter=True,
        no_capacitor=_DISTORTED,
        usual_w=(5, 600),
    ),
    Kind(
        "cool-box",
        "cool box for 12 V",
        "cool box",
        (0.9, 0.97, 1.0),
        (1, 1.5, 3),
        (0.3, 0.6, 1.0),
        0.3,
        plate=(1.0, 1.2, 2.0),
        cycle_min=20,
        day_spread=0.08,
        day_swing=0.12,
        keeps_contents=True,
        set_point="cools",
        electronic=True,
        no_capacitor=_DISTORTED,
        usual_w=(15, 120),
    ),
    Kind(
        "preheat",
        "machine that preheats and then holds",
        "preheated machine",
        _FULL,
        (1, 1.05, 1.2),
        (0.1, 0.25, 0.6),
        0.1,
        plate=_HEATER_PLATE,
        by_use=True,
        cycle_min=8,
        day_spread=0.10,
        runs_by="person",
        no_capacitor=_UNITY,
        usual_w=(200, 4000),
    ),
    Kind(
        "modulating-heat",
        "heat that modulates",
        "modulating heat",
        _FULL,
        (1, 1.05, 1.2),
        None,
        0.1,
        plate=(1.0, 1.8, 4.0),
        day_spread=0.08,
        day_swing=0.12,
        modulates=True,
        wander=0.20,
        set_point="heats",
        uncounted=True,
        no_capacitor=_UNITY,
        usual_w=(20, 5000),
    ),
)

#: Document key → kind.
KINDS = {kind.key: kind for kind in _TABLE}
