"""A supply: battery, inverter, outputs and inputs, with the results of its tests.

Positive power is power out of the battery.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import TypeVar

from needle.document import DocumentError, Reader
from needle.estimate import Estimate, pool, worst
from needle.fields import Fields, Number, Part, Parts, Text
from needle.message import Message, message
from needle.supply.ageing import DAYS_A_YEAR, FRESH_DAYS, Z_REAL, Held, ageing_of
from needle.supply.battery import Battery, parse_battery
from needle.supply.charging import ChargeInput, parse_inputs
from needle.supply.fit import conditioned_by_few
from needle.supply.inverter import Inverter, parse_inverter
from needle.supply.outputs import Output, parse_outputs
from needle.supply.supply_tests import (
    CapacityTest,
    EfficiencyTest,
    IdleTest,
    RouteTest,
    SupplyTest,
    idle_w,
    parse_tests,
    passed_on,
    state_of_health,
    test_rate,
)

_T = TypeVar("_T", bound=SupplyTest)


@dataclass(frozen=True)
class Supply:
    """A supply; without an inverter it has no AC route.

    Attributes
    ----------
    battery : Battery
    inverter : Inverter or None
    outputs : tuple of Output
        DC and USB outputs.
    inputs : tuple of ChargeInput
    total_max_w : float
        Common limit of all outputs together, W.
    name : str
    tests : tuple of SupplyTest
        Oldest first; the figures above already include the newest of each kind.
    """

    battery: Battery
    inverter: Inverter | None = None
    outputs: tuple[Output, ...] = ()
    inputs: tuple[ChargeInput, ...] = ()
    total_max_w: float = math.inf
    name: str = "supply"
    tests: tuple[SupplyTest, ...] = ()


@dataclass(frozen=True)
class SupplyStep:
    """One step of the staircase: the energy left (Estimate, Wh) and why it is less."""

    name: str
    left_wh: Estimate
    why: Message


def held_wh(battery: Battery) -> Estimate:
    """Real capacity of a battery, full to empty, Wh."""
    return battery.state_of_health.scaled(battery.nominal_wh)


def staircase(supply: Supply, hours: float, mean_ac_w: float | None = None) -> list[SupplyStep]:
    """Energy from the label to the loads, through the inverter or else the first output.

    Parameters
    ----------
    supply : Supply
    hours : float
        Hours for which the inverter or output is on, with its idle draw.
    mean_ac_w : float or None
        Mean W of the loads; hours are limited to what the battery lasts with it.

    Returns
    -------
    list of SupplyStep
        Nominal, measured, above the floor, after idle, after conversion. Wh at the battery,
        the last one at the loads.
    """
    battery = supply.battery
    label = Estimate(battery.nominal_wh, 0.0, "C", (message("label"),))
    real = held_wh(battery)
    floored = real.scaled(max(0.0, battery.start_charge - battery.floor))
    steps = [
        SupplyStep("label", label, message("as-printed")),
        SupplyStep("really holds", real, battery.state_of_health.how[-1]),
        SupplyStep("above the floor", floored, message("floor-left", floor=battery.floor)),
    ]
    through = supply.inverter or next(iter(supply.outputs), None)
    if through is None:
        return steps
    on_h = hours
    if mean_ac_w is not None:
        drawn = through.idle_w.value + mean_ac_w / through.efficiency.value
        on_h = min(hours, floored.value / drawn) if drawn > 0 else hours
    idle_wh = through.idle_w.scaled(on_h)
    left = max(0.0, floored.value - idle_wh.value)
    absolute = math.hypot(floored.value * floored.spread, idle_wh.value * idle_wh.spread)
    spread = absolute / left if left > 0 else 0.0
    # However little the idle draw is, no more is left than before it.
    after_idle = Estimate(
        left, spread, worst((floored.grade, idle_wh.grade)), idle_wh.how, floored.high
    )
    passed, efficiency = _passed(left, on_h, through)
    reaching = Estimate(
        passed,
        math.hypot(spread, efficiency.spread),
        worst((after_idle.grade, efficiency.grade)),
        efficiency.how,
        after_idle.high,
    )
    share = passed / left if left > 0 else efficiency.value
    steps += [
        SupplyStep(
            "after idle", after_idle, message("idle-for", idle_w=through.idle_w.value, hours=on_h)
        ),
        SupplyStep("reaches the loads", reaching, message("efficiency-of", share=share)),
    ]
    return steps


def _passed(left_wh: float, hours: float, through: Inverter | Output) -> tuple[float, Estimate]:
    """Energy after conversion of an amount spread evenly over the hours, Wh."""
    efficiency = through.efficiency
    square = through.square_per_w.value if isinstance(through, Inverter) else 0.0
    mean = left_wh / hours if hours > 0 else 0.0
    if square <= 0 or mean <= 0:
        return left_wh * efficiency.value, efficiency
    # square·a² + a/efficiency = mean, for the mean W a that comes out.
    slope = 1 / efficiency.value
    out = (math.sqrt(slope**2 + 4 * square * mean) - slope) / (2 * square)
    return out * hours, efficiency


SUPPLY_FIELDS: Fields = {
    "name": Text("its name", default="supply"),
    "battery": Part("the battery bank; needed", see="supply: battery"),
    "inverter": Part("the inverter, if there is one", see="supply: inverter"),
    "outputs": Parts("DC and USB outputs", see="supply: output", most=20),
    "inputs": Parts("charge inputs", see="supply: input", most=20),
    "total_max_w": Number("limit of all outputs together", unit="W", most=1_000_000, above=True),
    "tests": Parts(
        "its tests, oldest first; the newest of a kind replaces what is stated",
        see="supply test",
        most=500,
    ),
}


def parse_supply(data: object, path: str = "supply") -> Supply:
    """Parse a supply document; its test results replace stated figures.

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, path, SUPPLY_FIELDS)
    battery = parse_battery(reader.document("battery"), reader.at("battery"))
    supply = Supply(
        battery=battery,
        inverter=parse_inverter(reader.document("inverter"), reader.at("inverter"))
        if reader.has("inverter")
        else None,
        outputs=parse_outputs(reader.documents("outputs"), reader.at("outputs"), battery.volts),
        inputs=parse_inputs(reader.documents("inputs"), reader.at("inputs")),
        total_max_w=reader.number("total_max_w", math.inf),
        name=reader.text("name"),
    )
    return as_measured(supply, parse_tests(reader.documents("tests"), reader.at("tests")))


def as_measured(supply: Supply, tests: Sequence[SupplyTest]) -> Supply:
    """Return the supply with the results of its tests; the newest test of a kind counts.

    The efficiency test comes first, since a drain counted behind the inverter depends on it; the
    capacity comes before idle tests by charge. An idle draw that was both tested and fitted is the
    pooled value.

    Parameters
    ----------
    supply : Supply
    tests : sequence of SupplyTest
        Oldest first.

    Raises
    ------
    DocumentError
        A test is of an output that the supply does not have.
    """
    _check_outputs(supply, tests)
    fitted = _with_efficiency(supply.inverter, tests)
    battery = _with_capacity(supply.battery, fitted, tests)
    held = held_wh(battery)
    return replace(
        supply,
        battery=battery,
        inverter=_with_idle(supply.inverter, fitted, tests, held),
        outputs=tuple(_output_as_measured(output, tests, held) for output in supply.outputs),
        tests=tuple(tests),
    )


def _efficiency_test(tests: Sequence[SupplyTest]) -> EfficiencyTest | None:
    """The newest test with enough pairs for a fit, or else the newest."""
    lines = [test for test in tests if isinstance(test, EfficiencyTest) and test.enough]
    return lines[-1] if lines else _newest(tests, EfficiencyTest)


def _with_efficiency(inverter: Inverter | None, tests: Sequence[SupplyTest]) -> Inverter | None:
    """The inverter with losses from its efficiency test."""
    test = _efficiency_test(tests)
    if inverter is None or test is None:
        return inverter
    if not test.enough:
        return _by_few(test, inverter)
    fit = test.fit()
    return replace(
        inverter,
        idle_w=fit.idle_w,
        efficiency=fit.efficiency,
        square_per_w=fit.square_per_w,
    )


def _with_capacity(
    battery: Battery, inverter: Inverter | None, tests: Sequence[SupplyTest]
) -> Battery:
    """The battery with the capacity of its newest capacity test."""
    drain = _newest(tests, CapacityTest)
    if drain is None:
        return battery
    factor = state_of_health(drain, battery.nominal_wh, inverter, peukert_of(battery))
    if not 0.05 <= factor.value <= 1.5:
        raise DocumentError(
            "wh",
            f"it would mean that the battery holds {factor.value * 100:.0f} % of its label: "
            "check the counter and the charge",
        )
    rate = test_rate(drain, battery.nominal_wh, inverter, battery.rated_hours)
    return replace(battery, state_of_health=factor, tested_rate=rate)


def _with_idle(
    stated: Inverter | None, fitted: Inverter | None, tests: Sequence[SupplyTest], held: Estimate
) -> Inverter | None:
    """The fitted inverter with the idle draw of its newest idle test, pooled with a fitted one."""
    tested = _newest([test for test in tests if _is_idle(test, "ac")], IdleTest)
    if tested is None or stated is None or fitted is None:
        return fitted
    direct = idle_w(tested, held)
    test = _efficiency_test(tests)
    if test is not None and test.enough:
        return replace(fitted, idle_w=pool([direct, fitted.idle_w]))
    with_idle = replace(stated, idle_w=pool([direct]))
    return with_idle if test is None else _by_few(test, replace(stated, idle_w=direct))


def _output_as_measured(output: Output, tests: Sequence[SupplyTest], held: Estimate) -> Output:
    """An output with the results of its newest idle test and route test."""
    tested = _newest([test for test in tests if _is_idle(test, output.name)], IdleTest)
    if tested is not None:
        output = replace(output, idle_w=idle_w(tested, held))
    route = _newest([test for test in tests if _is_route(test, output.name)], RouteTest)
    passes = None
    if route is not None:
        passes = passed_on(route, held, output.idle_w, output.efficiency)
    return output if passes is None else replace(output, efficiency=passes)


def held_over_time(supply: Supply) -> list[Held]:
    """Capacity of each dated capacity test, oldest first."""
    course = []
    for test in supply.tests:
        if isinstance(test, CapacityTest) and test.on:
            share = state_of_health(
                test, supply.battery.nominal_wh, supply.inverter, peukert_of(supply.battery)
            )
            course.append(Held(date.fromisoformat(test.on[:10]), share))
    return sorted(course, key=lambda held: held.on)


def idle_over_time(supply: Supply) -> Message | None:
    """What the dated idle tests of the inverter show; None for fewer than two."""
    held = held_wh(supply.battery)
    tests = [test for test in supply.tests if _is_idle(test, "ac") and test.on]
    read = sorted((test.on, idle_w(test, held)) for test in tests if isinstance(test, IdleTest))
    if len(read) < 2 or read[0][0] == read[-1][0]:
        return None
    (since, first), (now, last) = read[0], read[-1]
    return message(
        "idle-over-time",
        before=_ends(first),
        since=since[:7],
        after=_ends(last),
        now=now[:7],
        real=_differ(first, last),
    )


def _ends(estimate: Estimate) -> tuple[float, float, float]:
    """Likely value, 10th and 90th percentile."""
    return estimate.value, estimate.low, estimate.high


def _differ(first: Estimate, last: Estimate) -> bool:
    """Whether two idle draws differ significantly."""
    if not first.value or not last.value:
        return False
    apart = abs(math.log(last.value / first.value))
    return apart > Z_REAL * math.hypot(first.sigma_log, last.sigma_log)


def aged(supply: Supply, on: date) -> Supply:
    """The supply on a later day: the tested capacity is reduced by ageing since."""
    tests = held_over_time(supply)
    days = (on - tests[-1].on).days if tests else 0
    if days <= FRESH_DAYS:
        return supply
    ageing = ageing_of(tests, supply.battery.chemistry)
    held = ageing.after(supply.battery.state_of_health, days / DAYS_A_YEAR)
    return replace(supply, battery=replace(supply.battery, state_of_health=held))


def _by_few(test: EfficiencyTest, usual: Inverter) -> Inverter:
    """An inverter with its usual values conditioned on one or two pairs."""
    idle, passes = conditioned_by_few(
        test.pairs, (usual.idle_w, usual.efficiency), test.ac_limit, test.dc_limit
    )
    return replace(usual, idle_w=idle, efficiency=passes)


def _newest(tests: Sequence[SupplyTest], kind: type[_T]) -> _T | None:
    return next((test for test in reversed(tests) if isinstance(test, kind)), None)


def _is_idle(test: SupplyTest, output: str) -> bool:
    return isinstance(test, IdleTest) and test.output == output


def _is_route(test: SupplyTest, output: str) -> bool:
    return isinstance(test, RouteTest) and test.output == output and bool(test.dc.load_wh)


def peukert_of(battery: Battery) -> tuple[float, float]:
    """A battery's Peukert exponent, and the hours of its rated current."""
    return battery.peukert_n, battery.rated_hours


def _check_outputs(supply: Supply, tests: Sequence[SupplyTest]) -> None:
    names = [output.name for output in supply.outputs] + (["ac"] if supply.inverter else [])
    for test in tests:
        if isinstance(test, IdleTest) and test.output not in names:
            raise DocumentError("output", f"this supply has no output “{test.output}”")
        if isinstance(test, EfficiencyTest) and supply.inverter is None:
            raise DocumentError("pairs", "this supply has no inverter")
