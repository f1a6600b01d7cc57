"""Who uses a load, and what that says of it before anything was measured.

Beside what draws (motor, heat, electronics) stands who decides: itself, water, a person, a clock.
All figures are general values, chosen so that eight in ten of the appliances that the trade
describes lie between low and high; what is measured replaces them.
"""

from __future__ import annotations

from dataclasses import replace

from needle.estimate import Estimate
from needle.profile.kinds import Kind
from needle.profile.use_process import UsePrior

_TANK = UsePrior((3, 8, 20), (10, 27, 70), "water")
_FILLING = UsePrior((2, 7, 25), (1, 3, 12), "water")
_POURED = UsePrior((1.5, 4, 10), (1.5, 4, 12), "kitchen")
_COOKED = UsePrior((1, 3, 8), (2, 10, 40), "kitchen")
_TOOL = UsePrior((0.5, 2, 8), (2, 10, 60), "kitchen")

#: How a load is used that runs when it is asked to: by key of its kind, and who asks.
USE_PRIORS = {
    ("water-tank", "water"): _TANK,
    ("thermostat-heat", "water"): _TANK,
    ("resistive-heat", "water"): _TANK,
    ("float-pump", "water"): _FILLING,
    ("pump", "water"): _FILLING,
    ("induction-motor", "water"): _FILLING,
    ("resistive-heat", "person"): _POURED,
    ("preheat", "person"): _COOKED,
    ("thermostat-heat", "person"): _COOKED,
    ("induction-hob", "person"): _COOKED,
    ("pump", "person"): _TOOL,
    ("induction-motor", "person"): _TOOL,
    ("universal-motor", "person"): _TOOL,
}
#: A pump under so many watts usually circulates without a break; larger ones fill something.
CIRCULATING_W = 120.0
#: Heat with a thermostat of so many watts and more is usually a water tank, or an oven, unless it
#: was seen to cycle faster than this, min.
TANK_W, TANK_CYCLE_MIN = 900.0, 90.0
#: How the watts of electronics wander while somebody uses them, and how their days differ
#: (relative sd): what a screen shows and a computer does.
USED_WANDER, USED_DAY_SPREAD = 0.30, 0.12


def use_prior(
    kind: Kind, runs_by: str, running: Estimate | None, cycle_min: float | None = None
) -> UsePrior | None:
    """How a load is usually used; None if it is no process of uses.

    Parameters
    ----------
    kind : Kind
    runs_by : str
        Who decides, as stated; empty if nobody said.
    running : Estimate or None
        Its running W.
    cycle_min : float or None
        Length of its cycles, min, if they were seen.
    """
    if runs_by:
        return USE_PRIORS.get((kind.key, runs_by))
    if kind.key == "pump" and running is not None and running.value < CIRCULATING_W:
        return None
    if kind.runs_by == "water" or _is_tank(kind, running, cycle_min):
        return USE_PRIORS.get((kind.key, "water"))
    return None


def _is_tank(kind: Kind, running: Estimate | None, cycle_min: float | None) -> bool:
    """Whether heat with a thermostat is likely a tank: large, and not seen to cycle quickly."""
    if kind.key != "thermostat-heat" or running is None or running.value < TANK_W:
        return False
    return cycle_min is None or cycle_min >= TANK_CYCLE_MIN


def as_used(kind: Kind, runs_by: str, in_hours: bool = False) -> Kind:
    """The kind with what its user changes.

    Electronics that a person uses differ by the hour and the day; ``in_hours`` is whether it is
    used for some hours of the day, which only a person or a clock makes it do.
    """
    used = runs_by == "person" or (not runs_by and in_hours)
    if kind.key == "electronics" and used:
        return replace(kind, wander=USED_WANDER, day_spread=USED_DAY_SPREAD, day_swing=0.0)
    return kind
