"""Every uncertain input of a plan, and its random draws.

An input's key is its kind and its name within the kind, since a load may be called "battery". Each
input is drawn from its own random stream, seeded by the plan's seed and the key. The same input
thus gets the same draws whatever else is in a plan, and plans that share a battery, a load or a sky
can be compared draw by draw. Draws are stratified (McKay, Beckman and Conover 1979, Technometrics
21, 239), so that a few hundred give stable percentiles.
"""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from statistics import NormalDist
from typing import NamedTuple

import numpy as np
from scipy.special import ndtr

from needle.plan.load import PlanLoad
from needle.plan.plan import Plan, known_loads
from needle.supply.battery import SLOW_SPREAD
from needle.supply.inverter import Inverter

CAPACITY, RESISTANCE = "battery", "battery resistance"
PEUKERT, COLD, TAPER = "Peukert exponent", "cold factor", "charge taper"
SLOW = "slow discharge"
INVERTER_IDLE, INVERTER_EFFICIENCY = "inverter idle", "inverter efficiency"
INVERTER_SQUARE = "inverter square loss"
OUTPUT, OUTPUT_IDLE = "output", "output idle"
LOAD, LOAD_WATTS, LOAD_DUTY = "load", "load watts", "load duty"
LOAD_TASK, LOAD_START = "load task", "load start"
LOAD_FACTOR, LOAD_VA = "load power factor", "load volt-amperes"
METER = "meter"
#: What the inverter makes of a start beyond its surge rating.
GREY = "grey start"
#: How much of what it missed a load works off afterwards.
REPAID = "repaid share"
SOURCE = "source"
#: Drawn anew in each plan: phases of cycles, days, the hour of a swing's maximum, skies.
PHASES, DAYS, SWINGS, SKIES = "phases", "days", "swings", "skies"
WANDERS, USES, USE_ENERGIES = "wanders", "uses", "use energies"

#: Kinds that one more measurement would narrow.
MEASURABLE = (
    CAPACITY,
    INVERTER_IDLE,
    INVERTER_EFFICIENCY,
    OUTPUT,
    LOAD,
    LOAD_DUTY,
    LOAD_TASK,
    SOURCE,
)


#: Names of kinds whose streams are seeded by another kind's name.
_GROUPS = {
    **dict.fromkeys(
        (
            LOAD_WATTS,
            LOAD_DUTY,
            LOAD_TASK,
            LOAD_START,
            LOAD_FACTOR,
            LOAD_VA,
            GREY,
            REPAID,
            PHASES,
            DAYS,
            SWINGS,
            WANDERS,
            USES,
            USE_ENERGIES,
        ),
        LOAD,
    ),
    OUTPUT_IDLE: OUTPUT,
    SKIES: SOURCE,
}


class InputKey(NamedTuple):
    """Kind of input, and its name within the kind; battery and inverter need no name."""

    kind: str
    name: str = ""

    @property
    def words(self) -> str:
        """Its name on screen."""
        if self.kind in (OUTPUT, OUTPUT_IDLE):
            return f"{self.name} {self.kind}"
        return self.name or self.kind


def spreads_of(plan: Plan) -> dict[InputKey, float]:
    """Relative spread of every uncertain input of a plan."""
    spreads = _spreads_of_battery(plan)
    inverter = plan.supply.inverter
    if inverter is not None:
        spreads[InputKey(INVERTER_IDLE)] = inverter.idle_w.spread
        spreads[InputKey(INVERTER_EFFICIENCY)] = inverter.efficiency.spread
        if inverter.square_per_w.value > 0:
            spreads[InputKey(INVERTER_SQUARE)] = inverter.square_per_w.spread
    for output in plan.supply.outputs:
        spreads[InputKey(OUTPUT, output.name)] = output.efficiency.spread
        spreads[InputKey(OUTPUT_IDLE, output.name)] = output.idle_w.spread
    for load in known_loads(plan):
        # A run may have used a load otherwise: what the plan knows of it comes first.
        spreads = {**_spreads_of_load(load, inverter), **spreads}
    for source in plan.sources:
        if source.drawn:
            spreads[InputKey(SOURCE, source.name)] = source.spread
    return {key: spread * plan.spread_factor for key, spread in spreads.items()}


def _spreads_of_battery(plan: Plan) -> dict[InputKey, float]:
    battery = plan.supply.battery
    spreads = {InputKey(CAPACITY): battery.state_of_health.spread}
    if battery.internal_ohm is not None:
        spreads[InputKey(RESISTANCE)] = battery.internal_ohm.spread
    if battery.peukert_n > 1:
        spreads[InputKey(PEUKERT)] = battery.peukert_spread
        spreads[InputKey(SLOW)] = SLOW_SPREAD
    if plan.room_c is not None:
        spreads[InputKey(COLD)] = battery.cold_spread
    if plan.sources:
        spreads[InputKey(TAPER)] = battery.taper_spread
    return spreads


def _spreads_of_load(load: PlanLoad, inverter: Inverter | None) -> dict[InputKey, float]:
    spreads = {}
    spreads[InputKey(LOAD_WATTS, load.name)] = load.spreads.watts
    spreads[InputKey(LOAD_START, load.name)] = load.spreads.start
    if load.draw.power_factor_known and load.draw.power_factor < 1:
        if load.spreads.va is None:
            spreads[InputKey(LOAD_FACTOR, load.name)] = load.spreads.power_factor
        else:
            spreads[InputKey(LOAD_VA, load.name)] = load.spreads.va
    if inverter is not None:
        spreads[InputKey(GREY, load.name)] = 1.0
        if inverter.off and load.thermostatic:
            spreads[InputKey(REPAID, load.name)] = 1.0
    if load.use.by_moments:
        spreads[InputKey(LOAD_TASK, load.name)] = load.spreads.task
    elif load.spreads.duty is not None:
        spreads[InputKey(LOAD_DUTY, load.name)] = load.spreads.duty
    else:
        spreads[InputKey(LOAD, load.name)] = load.spreads.mean
    return spreads


@dataclass(frozen=True)
class Inputs:
    """Random draws of all uncertain inputs.

    Attributes
    ----------
    draws : int
    seed : int
    spreads : dict of InputKey to float
        Relative spread of each.
    normals : dict of InputKey to ndarray, (draws,)
        Standard normal draws of each.
    """

    draws: int
    seed: int
    spreads: Mapping[InputKey, float]
    normals: Mapping[InputKey, np.ndarray] = field(default_factory=dict)
    ids: Mapping[tuple[str, str], str] = field(default_factory=dict)

    def stream(self, kind: str, name: str = "", number: int = 0) -> np.random.Generator:
        """Random stream of an input, for values that are drawn anew within a plan.

        ``number`` distinguishes several streams of one input.
        """
        return stream_of(self.seed, self.stream_key(kind, name, number))

    def stream_key(self, kind: str, name: str = "", number: int = 0) -> InputKey:
        """Key of the random stream of an input: loads and others by their ids if they have one."""
        own = self.ids.get((_GROUPS.get(kind, kind), name), name)
        return InputKey(kind, f"{own} {number}" if number else own)

    def factor(self, kind: str, name: str = "") -> np.ndarray:
        """Log-normal factors about 1, (draws,); ones if the input is not uncertain."""
        key = InputKey(kind, name)
        if key not in self.normals:
            return np.ones(self.draws)
        return np.asarray(np.exp(self.normals[key] * np.sqrt(np.log1p(self.spreads[key] ** 2))))

    def uniform(self, kind: str, name: str = "") -> np.ndarray:
        """Draws as ranks between 0 and 1, (draws,); one half if the input is not uncertain."""
        key = InputKey(kind, name)
        if key not in self.normals:
            return np.full(self.draws, 0.5)
        return np.asarray(ndtr(self.normals[key]))

    def picked(self, rows: np.ndarray) -> Inputs:
        """A selection of the draws, by index."""
        normals = {key: values[rows] for key, values in self.normals.items()}
        return Inputs(len(rows), self.seed, self.spreads, normals, self.ids)


def draw(plan: Plan, draws: int, seed: int) -> Inputs:
    """Draw every uncertain input of a plan.

    Loads that were read on the same meter share one draw of its gain error.
    """
    spreads, ids = spreads_of(plan), ids_of(plan)
    named = Inputs(draws, seed, spreads, ids=ids)
    drawn = {key: _normals_of(seed, named.stream_key(*key), draws) for key in spreads}
    by_name = {load.name: load for load in reversed(known_loads(plan))}
    for load in by_name.values():
        if load.meter:
            meter = _normals_of(seed, InputKey(METER, load.meter), draws)
            for kind in (LOAD, LOAD_WATTS, LOAD_TASK):
                key = InputKey(kind, load.name)
                if key in drawn:
                    share = min(1.0, load.spreads.meter / max(spreads[key], 1e-9))
                    drawn[key] = share * meter + np.sqrt(1 - share**2) * drawn[key]
    return Inputs(draws, seed, spreads, drawn, ids)


def ids_of(plan: Plan) -> dict[tuple[str, str], str]:
    """Stream identifiers that replace names, by group and name."""
    ids = {(LOAD, load.name): load.id for load in reversed(known_loads(plan))}
    ids |= {(OUTPUT, output.name): output.id for output in plan.supply.outputs}
    ids |= {(SOURCE, source.name): source.id for source in plan.sources}
    return {key: own for key, own in ids.items() if own}


def likely(plan: Plan) -> Inputs:
    """All inputs at their likely value, as a single draw."""
    return Inputs(1, 0, spreads_of(plan))


def stream_of(seed: int, key: InputKey) -> np.random.Generator:
    return np.random.default_rng([seed, *(zlib.crc32(part.encode()) for part in key)])


@lru_cache(maxsize=16)
def _strata(draws: int) -> np.ndarray:
    normal = NormalDist()
    return np.array([normal.inv_cdf((index + 0.5) / draws) for index in range(draws)])


@lru_cache(maxsize=1024)
def _normals_of(seed: int, key: InputKey, draws: int) -> np.ndarray:
    """Standard normal draws of an input, (draws,): the same for every plan that has it."""
    values = normals(stream_of(seed, key), draws)
    values.flags.writeable = False
    return values


def normals(rng: np.random.Generator, draws: int) -> np.ndarray:
    """Stratified standard normal draws in random order, shape (draws,)."""
    return rng.permutation(_strata(draws))
