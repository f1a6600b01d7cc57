"""The answer that the program itself would give to a drill, from the same readings."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

from needle.decide.power_factor import correct
from needle.drill.drill import (
    CAPACITOR,
    DAY,
    DIFFERENCE,
    START,
    TASKS,
    Between,
    Drill,
    DrillLoad,
    DrillSupply,
)
from needle.drill.session import DrawnPlan, Session
from needle.electrical import MAINS_HZ, MAINS_V
from needle.estimate import Z90, Estimate
from needle.measure.instruments import DEFAULT
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.profile.document import parse_load
from needle.profile.profile import Profile, derive
from needle.supply.battery import usable_wh
from needle.supply.supply import parse_supply

_DRAWS = 200
_TASK_DRAWS, _SEED = 2000, 6
#: More than any load of a plug wants, µF: what is known before anything was read.
MOST_UF = 100.0


@dataclass(frozen=True)
class DrillAnswer:
    """Low and high end of the answer, in its unit, and yes or no."""

    low: float
    high: float
    yes: bool


def answered(session: Session) -> DrillAnswer:
    """The answer that follows from the readings, with its 10 to 90 % range."""
    drill = session.drill
    if drill.ask == DAY:
        low, high = _day(session, drill.loads[0])
    elif drill.ask == START:
        start = _profile(session, drill.loads[0]).start_va
        low, high = start.low, start.high
    elif drill.ask == CAPACITOR:
        low, high = _capacitor(session, drill.loads[0])
    elif drill.ask == DIFFERENCE:
        low, high = _difference(session)
    elif drill.ask == TASKS:
        low, high = _tasks(session)
    else:
        low, _, high = _hours(session, the_clients(drill))
    return DrillAnswer(low, high, (low + high) / 2 > drill.limit)


def _profile(session: Session, load: DrillLoad) -> Profile:
    return derive(parse_load(_document(session, load)))


def _document(session: Session, load: DrillLoad) -> dict[str, Any]:
    return {"name": load.name, "kind": load.kind, "readings": session.readings[load.name]}


def _day(session: Session, load: DrillLoad) -> tuple[float, float]:
    mean = _profile(session, load).mean_w
    return mean.low * 24, mean.high * 24


def _capacitor(session: Session, load: DrillLoad) -> tuple[float, float]:
    """From the last reading of W and VA together, with the meter's accuracy."""
    spots = [reading for reading in session.readings[load.name] if reading["type"] == "spot"]
    if not spots:
        return 0.0, MOST_UF
    watts, va = spots[-1]["watts"], max(spots[-1]["va"], spots[-1]["watts"])

    def needed(watts_off: float, va_off: float) -> float:
        off_va = max(va * (1 + va_off), watts * (1 + watts_off))
        return correct(watts * (1 + watts_off), off_va, MAINS_V, MAINS_HZ).to_target_uf

    middle = needed(0.0, 0.0)
    moved = (
        needed(DEFAULT.relative_sd("watts", watts), 0.0) - middle,
        needed(0.0, DEFAULT.relative_sd("va", va)) - middle,
    )
    half = Z90 * math.hypot(*moved)
    return max(0.0, middle - half), middle + half


def _difference(session: Session) -> tuple[float, float]:
    """Difference of two means with independent errors: half-widths add in quadrature."""
    means = [_profile(session, load).mean_w for load in session.drill.loads[:2]]
    middle = 24 * (means[0].value - means[1].value)
    half = 24 * sum(((mean.high - mean.low) / 2) ** 2 for mean in means) ** 0.5
    return middle - half, middle + half


def _tasks(session: Session) -> tuple[float, float]:
    """Energy left after idle draw, over the energy of a task, by draws."""
    drill = session.drill
    assert drill.supply is not None
    supply = parse_supply(_supply_document(drill.supply, session.tests, drill.supply.floor))
    inverter, task = supply.inverter, _profile(session, drill.loads[0]).task_wh
    assert inverter is not None
    if task is None:
        # Its label for as long as a task may take: six minutes, a factor of four either way.
        task = Estimate(session.readings[drill.loads[0].name][0]["watts"] / 10, 1.5, "D")
    normals = iter(np.random.default_rng(_SEED).standard_normal((4, _TASK_DRAWS)))
    left = usable_wh(supply.battery).draws(next(normals))
    left = left - inverter.idle_w.draws(next(normals)) * drill.within_h
    times = left * inverter.efficiency.draws(next(normals)) / task.draws(next(normals))
    low, high = np.quantile(np.maximum(0.0, times), [0.1, 0.9])
    return float(low), float(high)


def drawn_hours(session: Session) -> tuple[float, float, float] | None:
    """Hours, low, likely and high, of the learner's plan; None without one."""
    if session.plan is None or all(use is None for use in session.plan.uses.values()):
        return None
    return _hours(session, session.plan)


def the_clients(drill: Drill) -> DrawnPlan:
    """The plan as the client means it."""
    floor = drill.supply.floor if drill.supply else 0.0
    return DrawnPlan({load.name: load.between for load in drill.loads}, floor)


def _hours(session: Session, plan: DrawnPlan) -> tuple[float, float, float]:
    return simulate(parse_plan(plan_of(session, plan)), _DRAWS).runtime


def plan_of(session: Session, drawn: DrawnPlan) -> dict[str, Any]:
    """Plan document from the readings, with the supply as labelled."""
    drill = session.drill
    assert drill.supply is not None
    begins = datetime(2027, 2, 9, tzinfo=UTC) + timedelta(minutes=drill.ends_min)
    return {
        "start": begins.isoformat(),
        "hours": min(336.0, max(24.0, 4 * drill.limit)),
        "needed_hours": max(1.0, min(336.0, drill.limit)),
        "supply": _supply_document(drill.supply, session.tests, drawn.floor),
        "loads": [
            {"name": load.name, "profile": _document(session, load), "use": _use(use)}
            for load in drill.loads
            if (use := drawn.uses.get(load.name)) is not None
        ],
    }


def _use(between: Between) -> Any:
    return {"between": [list(window) for window in between]} if between else "always"


def _supply_document(
    supply: DrillSupply, tests: Sequence[dict[str, Any]], floor: float
) -> dict[str, Any]:
    """The supply as labelled, with the tests that were made."""
    return {
        "battery": {
            "chemistry": "lfp",
            "nominal_wh": supply.nominal_wh,
            "volts": 51.2,
            "floor": floor,
        },
        "inverter": {"continuous_w": supply.continuous_w, "surge_va": supply.surge_va},
        "tests": list(tests),
    }


def by_label(drill: Drill, session: Session) -> DrillAnswer:
    """The answer of somebody who trusts the labels, to within a tenth."""
    labels = [float(session.readings[load.name][0]["watts"]) for load in drill.loads]
    if drill.ask == DAY:
        middle = 24 * labels[0]
    elif drill.ask in (START, CAPACITOR):
        middle = labels[0]
    elif drill.ask == DIFFERENCE:
        middle = 24 * (labels[0] - labels[1])
    elif drill.ask == TASKS:
        # Three minutes of its label for a cup.
        assert drill.supply is not None
        middle = drill.supply.nominal_wh / (labels[0] / 20)
    else:
        assert drill.supply is not None
        middle = drill.supply.nominal_wh / sum(labels)
    half = 0.1 * abs(middle) + 1e-9
    return replace(DrillAnswer(middle - half, middle + half, False), yes=middle > drill.limit)
