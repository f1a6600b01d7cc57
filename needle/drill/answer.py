"""What readings come to: the answer that the tool itself would give to a drill."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

from needle.decide.power_factor import correct
from needle.drill.drill import CAPACITOR, DAY, DIFFERENCE, START, Drill, DrillLoad
from needle.drill.session import Session
from needle.drill.truth import HERTZ, MAINS_V
from needle.estimate import Z90
from needle.measure.instruments import DEFAULT
from needle.plan.document import parse_plan
from needle.plan.simulate import simulate
from needle.profile.document import parse_load
from needle.profile.profile import Profile, derive

_DRAWS = 200
#: More than any load of a plug wants, µF: what is known before anything was read.
MOST_UF = 100.0


@dataclass(frozen=True)
class DrillAnswer:
    """Low and high of what is asked, in its unit, and yes or no."""

    low: float
    high: float
    yes: bool


def answered(session: Session) -> DrillAnswer:
    """The answer that follows from what was read, its 10 to 90 % range."""
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
    else:
        low, _, high = simulate(parse_plan(plan_of(session)), _DRAWS).runtime
    return DrillAnswer(low, high, (low + high) / 2 > drill.limit)


def _profile(session: Session, load: DrillLoad) -> Profile:
    return derive(parse_load(_document(session, load)))


def _document(session: Session, load: DrillLoad) -> dict[str, Any]:
    return {"name": load.name, "kind": load.kind, "readings": session.readings[load.name]}


def _day(session: Session, load: DrillLoad) -> tuple[float, float]:
    mean = _profile(session, load).mean_w
    return mean.low * 24, mean.high * 24


def _capacitor(session: Session, load: DrillLoad) -> tuple[float, float]:
    """By the last reading of W and VA together, each as far off as its meter may be."""
    spots = [reading for reading in session.readings[load.name] if reading["type"] == "spot"]
    if not spots:
        return 0.0, MOST_UF
    watts, va = spots[-1]["watts"], max(spots[-1]["va"], spots[-1]["watts"])

    def needed(watts_off: float, va_off: float) -> float:
        off_va = max(va * (1 + va_off), watts * (1 + watts_off))
        return correct(watts * (1 + watts_off), off_va, MAINS_V, HERTZ).to_target_uf

    middle = needed(0.0, 0.0)
    moved = (
        needed(DEFAULT.relative_sd("watts", watts), 0.0) - middle,
        needed(0.0, DEFAULT.relative_sd("va", va)) - middle,
    )
    half = Z90 * math.hypot(*moved)
    return max(0.0, middle - half), middle + half


def _difference(session: Session) -> tuple[float, float]:
    """Of two means whose errors are independent: half-widths join in quadrature."""
    means = [_profile(session, load).mean_w for load in session.drill.loads[:2]]
    middle = 24 * (means[0].value - means[1].value)
    half = 24 * sum(((mean.high - mean.low) / 2) ** 2 for mean in means) ** 0.5
    return middle - half, middle + half


def plan_of(session: Session) -> dict[str, Any]:
    """The plan that the readings make, on the supply as its label has it."""
    drill = session.drill
    supply = drill.supply
    assert supply is not None
    return {
        "start": "2027-02-09T18:00:00+00:00", "hours": min(336.0, max(24.0, 4 * drill.limit)),
        "needed_hours": max(1.0, min(336.0, drill.limit)),
        "supply": {
            "battery": {"chemistry": "lfp", "nominal_wh": supply.nominal_wh, "volts": 51.2,
                        "floor": supply.floor},
            "inverter": {"continuous_w": supply.continuous_w, "surge_va": supply.surge_va},
            "tests": session.tests,
        },
        "loads": [
            {"name": load.name, "profile": _document(session, load)} for load in drill.loads
        ],
    }  # fmt: skip


def by_label(drill: Drill, session: Session) -> DrillAnswer:
    """What somebody answers who believes labels: all of it, all day, to within a tenth."""
    labels = [float(session.readings[load.name][0]["watts"]) for load in drill.loads]
    if drill.ask == DAY:
        middle = 24 * labels[0]
    elif drill.ask in (START, CAPACITOR):
        middle = labels[0]
    elif drill.ask == DIFFERENCE:
        middle = 24 * (labels[0] - labels[1])
    else:
        assert drill.supply is not None
        middle = drill.supply.nominal_wh / sum(labels)
    half = 0.1 * abs(middle) + 1e-9
    return replace(DrillAnswer(middle - half, middle + half, False), yes=middle > drill.limit)
