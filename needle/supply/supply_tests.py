"""Tests of a supply: idle draw, efficiency, capacity, and comparison of routes.

A positive charge drop is charge that left the battery. A display's resolution limits how well a
drop is known: two roundings of one step each have a combined deviation of step/√6 (JCGM 100:2008,
4.3.7).
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

from needle.document import DocumentError, Reader, kind_of
from needle.estimate import DISPLAY_BEND, Estimate, pool, worst
from needle.fields import Choice, Fields, Items, Number, Part, Rows, Text
from needle.message import Message, message
from needle.quantity import with_unit
from needle.supply.battery import SLOW_EXPONENT, rated_share
from needle.supply.fit import LEAST_PAIRS, InverterFit, fit_inverter
from needle.supply.inverter import Inverter, dc_w

#: Deviation of a meter whose limit is not stated: that of a ±1 % meter.
METER_SD = 0.01 / math.sqrt(3)


@dataclass(frozen=True)
class IdleTest:
    """A test with an output on and nothing plugged in.

    Attributes
    ----------
    output : str
        ``"ac"`` or an output's name.
    watts : float or None
        Read directly at the battery, W; None if it follows from the drop.
    start, end : float
        Charge, shares.
    hours : float
        Duration, h.
    step : float
        Resolution of the charge, share.
    on : str
        Date, ISO 8601; empty if unknown.
    """

    output: str = "ac"
    watts: float | None = None
    start: float = 1.0
    end: float = 1.0
    hours: float = 0.0
    step: float = 0.01
    on: str = ""

    @property
    def subject(self) -> tuple[str, ...]:
        """What it is about; the newest test of a subject replaces earlier ones."""
        return "idle", self.output

    @property
    def result(self) -> Message:
        """What was read."""
        if self.watts is not None:
            return message("idle-was-read", output=self.output, watts=self.watts)
        drop = {"start": self.start, "end": self.end, "hours": self.hours}
        return message("idle-by-drop", output=self.output, **drop)


@dataclass(frozen=True)
class EfficiencyTest:
    """AC W out and DC W in, read together at several loads; limits of the meters, shares."""

    pairs: tuple[tuple[float, float], ...]
    ac_limit: float = 0.01
    dc_limit: float = 0.01
    on: str = ""

    @property
    def subject(self) -> tuple[str, ...]:
        """As for an idle test."""
        return ("efficiency",)

    @property
    def result(self) -> Message:
        """What was read."""
        most_w = max(ac_w for ac_w, _ in self.pairs)
        return message("pairs-read", pairs=len(self.pairs), most_w=most_w)

    @property
    def enough(self) -> bool:
        """Whether there are enough pairs for a fit."""
        return len(self.pairs) >= LEAST_PAIRS

    def fit(self) -> InverterFit:
        """The fitted losses, if there are enough pairs."""
        return fit_inverter(self.pairs, self.ac_limit, self.dc_limit)


@dataclass(frozen=True)
class CapacityTest:
    """A discharge test.

    Attributes
    ----------
    log : tuple of (h, charge or None, Wh)
        Hours, displayed charge, Wh counted since the start; the last row is the result.
    counted : str
        ``"battery"``, or ``"ac"`` for a meter behind the inverter.
    start, end : float
        Charge at the start and the end, shares.
    step : float
        Resolution of the charge, share; 0 if it ran from full to the cut-off.
    on : str
        Date, ISO 8601.
    held : Estimate or None
        Capacity from full to empty, if a whole trial was evaluated, Wh.
    """

    log: tuple[tuple[float, float | None, float], ...]
    counted: str = "battery"
    start: float = 1.0
    end: float = 0.0
    step: float = 0.01
    on: str = ""
    held: Estimate | None = None

    @property
    def subject(self) -> tuple[str, ...]:
        """As for an idle test."""
        return ("capacity",)

    @property
    def result(self) -> Message:
        """What was counted."""
        hours, _, wh = self.log[-1]
        return message(
            "drained",
            wh=wh,
            behind_inverter=self.counted == "ac",
            start=self.start,
            end=self.end,
            hours=hours,
        )


@dataclass(frozen=True)
class RouteRun:
    """One route of a comparison: Wh at the load (None if not metered), charges, shares."""

    load_wh: float | None
    start: float
    end: float


@dataclass(frozen=True)
class RouteTest:
    """One load for the same hours on AC and on another output."""

    load: str
    output: str
    hours: float
    ac: RouteRun
    dc: RouteRun
    step: float = 0.01
    on: str = ""

    @property
    def subject(self) -> tuple[str, ...]:
        """As for an idle test."""
        return "route", self.load, self.output

    @property
    def result(self) -> Message:
        """What was compared."""
        return message("routes-compared", load=self.load, output=self.output, hours=self.hours)


@dataclass(frozen=True)
class TogetherTest:
    """Energy that left the battery over some hours while only these loads ran, Wh.

    It includes the supply's own losses; a plan with all of these loads is conditioned on it.
    """

    wh: float
    hours: float
    loads: tuple[str, ...]
    on: str = ""

    @property
    def subject(self) -> tuple[str, ...]:
        """As for an idle test; each is evidence of its own, and none replaces another."""
        return "together", self.on, str(self.hours), str(self.wh), *self.loads

    @property
    def result(self) -> Message:
        """What was counted."""
        mean_w = self.wh / self.hours
        return message("ran-together", mean_w=mean_w, hours=self.hours, loads=self.loads)


#: Share of an electronic load's W on AC that is left on DC, without its adapter's loss (general).
ADAPTER = Estimate(0.88, 0.05, "D", (message("adapter-usual"),))
#: Relative spread of that share, read over the same hours on both routes.
_READ_ON_BOTH = 0.03


SupplyTest = IdleTest | EfficiencyTest | CapacityTest | RouteTest | TogetherTest


def left_on_dc(tests: Sequence[SupplyTest], load: str, output: str) -> Estimate:
    """Share of a load's AC power that it draws on a DC output, from its newest route test there.

    Parameters
    ----------
    tests : sequence of SupplyTest
        Oldest first.
    load, output : str
    """
    for test in reversed(tests):
        if isinstance(test, RouteTest) and (test.load, test.output) == (load, output):
            if test.ac.load_wh and test.dc.load_wh:
                share = min(1.0, max(0.3, test.dc.load_wh / test.ac.load_wh))
                return Estimate(
                    share, _READ_ON_BOTH, "B", (_dated(message("read-on-both"), test.on),)
                )
            break
    return ADAPTER


def drop_wh(start: float, end: float, step: float, held_wh: Estimate) -> Estimate:
    """Energy that left a battery while its display fell from one charge to another, Wh."""
    drop = start - end
    # A display is not straight: only from full to empty it shows all that there was.
    whole = start >= 0.99 and end <= 0.01
    off = math.hypot(step / math.sqrt(6), 0.0 if whole else DISPLAY_BEND)
    spread = math.hypot(off / drop, held_wh.spread) if drop > 0 else 0.0
    how = message("drop-of", start=start, end=end, held_wh=held_wh.value)
    return Estimate(held_wh.value * drop, spread, worst(("B", held_wh.grade)), (how,))


def idle_w(test: IdleTest, held_wh: Estimate) -> Estimate:
    """Idle draw of an output, W: drop × Wh held ÷ h, or as read directly.

    Parameters
    ----------
    test : IdleTest
    held_wh : Estimate
        Real capacity of the battery, Wh.
    """
    if test.watts is not None:
        off = math.hypot(METER_SD, 0.05 / max(test.watts, 0.1))
        return Estimate(test.watts, off, "A", (_dated(message("idle-read"), test.on),))
    # The grade is the drop's own: what the battery holds widens the range, not the evidence.
    wh = drop_wh(test.start, test.end, test.step, held_wh)
    how = _dated(message("idle-test", drop=wh.how[0], hours=test.hours), test.on)
    grade = "A" if wh.spread < 0.05 else "B"
    return Estimate(wh.value / test.hours, wh.spread, grade, (how,))


def state_of_health(
    test: CapacityTest,
    nominal_wh: float,
    inverter: Inverter | None = None,
    peukert: tuple[float, float] = (1.0, 20.0),
) -> Estimate:
    """Share of the nominal energy that the battery gives at its rated current.

    Parameters
    ----------
    test : CapacityTest
    nominal_wh : float
        Nominal energy, Wh.
    inverter : Inverter or None
        Its losses are added if Wh were counted behind it.
    peukert : (float, float)
        The battery's Peukert exponent, and the hours of its rated current: a faster discharge gives
        less, which is corrected for.

    Raises
    ------
    DocumentError
        It was counted behind an inverter that the supply does not have.
    """
    if test.held is not None:
        how = _dated(message("from-trial", held=test.held.how[-1]), test.on)
        return replace(test.held.scaled(1 / nominal_wh), how=(how,))
    hours, _, counted = test.log[-1]
    given = Estimate(counted, METER_SD, "A", (message("wh-counted", wh=counted),))
    if test.counted == "ac":
        if inverter is None:
            raise DocumentError("counted", "is “ac”, but this supply has no inverter")
        given = _before_inverter(given, hours, inverter)
    share = test.start - test.end
    whole = test.start >= 0.99 and test.end <= 0.01
    bend = 0.0 if whole else DISPLAY_BEND
    off = math.hypot(0.0 if whole else test.step / math.sqrt(6), bend) / share
    at_rate = given.value / (nominal_wh * share)
    n, rated_h = peukert
    rate = given.value / hours / nominal_wh * rated_h
    factor = float(rated_share(at_rate, rate, n, SLOW_EXPONENT * (n - 1)))
    grade = worst((given.grade, "A" if share >= 0.7 else "B"))
    slowed = {"hours": hours, "factor": factor, "rated_h": rated_h} if factor > at_rate else {}
    code = "drain-fast" if slowed else "drain"
    how = _dated(
        message(code, counted=given.how[-1], start=test.start, end=test.end, **slowed), test.on
    )
    return Estimate(factor, math.hypot(given.spread, off), grade, (how,))


def test_rate(
    test: CapacityTest, nominal_wh: float, inverter: Inverter | None, rated_hours: float
) -> float | None:
    """Mean current of a capacity test over the rated one; None if its log does not tell."""
    if test.held is not None:
        return None
    hours, _, counted = test.log[-1]
    given = counted
    if test.counted == "ac" and inverter is not None:
        given = _before_inverter(Estimate(counted), hours, inverter).value
    return given / hours / nominal_wh * rated_hours


def passed_on(
    test: RouteTest, held_wh: Estimate, idle: Estimate, usual: Estimate
) -> Estimate | None:
    """Efficiency of a DC output from the DC half of a route test; None if it was not metered.

    The usual value is used as far as the test is imprecise.
    """
    if not test.dc.load_wh:
        return None
    gone = drop_wh(test.dc.start, test.dc.end, test.step, held_wh)
    idle_wh = idle.scaled(test.hours)
    into = gone.value - idle_wh.value
    if into <= 0:
        return None
    off_wh = math.hypot(gone.value * gone.spread, idle_wh.value * idle_wh.spread)
    how = (_dated(message("route-test"), test.on),)
    read = Estimate(test.dc.load_wh / into, off_wh / into, "B", how)
    both = pool([read, usual])
    return replace(both, value=min(1.0, both.value), grade="B", how=how, most=1.0)


def _before_inverter(out: Estimate, hours: float, inverter: Inverter) -> Estimate:
    """Energy at the battery for Wh counted behind the inverter over some hours."""
    mean = out.value / hours
    taken = hours * float(
        dc_w(mean, inverter.idle_w.value, inverter.efficiency.value, inverter.square_per_w.value)
    )
    passed = out.value / inverter.efficiency.value
    idle_wh = inverter.idle_w.value * hours
    absolute = math.hypot(
        passed * math.hypot(out.spread, inverter.efficiency.spread),
        idle_wh * inverter.idle_w.spread,
    )
    grade = worst((out.grade, inverter.efficiency.grade, inverter.idle_w.grade))
    how = message("behind-inverter", battery_wh=taken, ac_wh=out.value)
    return Estimate(taken, absolute / taken, grade, (*out.how, how))


@dataclass(frozen=True)
class RouteAccount:
    """Energy balance of a route: battery = load + idle + conversion.

    ``load_wh`` and ``conversion_wh`` are None if the load was not metered.
    """

    name: str
    battery_wh: Estimate
    idle_wh: Estimate
    load_wh: float | None
    conversion_wh: Estimate | None
    mean_w: Estimate


def account(
    name: str,
    run: RouteRun,
    test: RouteTest,
    held_wh: Estimate,
    idle: Estimate,
) -> RouteAccount:
    """Return the energy balance of one route.

    Raises
    ------
    DocumentError
        The load used more than left the battery.
    """
    gone = drop_wh(run.start, run.end, test.step, held_wh)
    idle_wh = idle.scaled(test.hours)
    conversion = None
    if run.load_wh is not None:
        left = gone.value - run.load_wh - idle_wh.value
        absolute = math.hypot(gone.value * gone.spread, idle_wh.value * idle_wh.spread)
        if left < -2 * max(absolute, 0.01 * gone.value):
            raise DocumentError(
                name,
                f"{with_unit(run.load_wh, 'Wh')} at the load and {with_unit(idle_wh.value, 'Wh')} "
                f"idle are more than the {with_unit(gone.value, 'Wh')} that left the battery",
            )
        left = max(left, 0.0)
        spread = absolute / left if left > 0 else 0.0
        conversion = Estimate(left, spread, worst((gone.grade, idle.grade)), gone.how)
    return RouteAccount(name, gone, idle_wh, run.load_wh, conversion, gone.scaled(1 / test.hours))


def saved_w(ac: RouteAccount, dc: RouteAccount) -> tuple[float, float, float]:
    """Power at the battery that the second route saves, W: 10th, 50th and 90th percentile.

    The capacity is common to both, so only the display's resolution limits the difference.
    """
    value = ac.mean_w.value - dc.mean_w.value
    off = math.hypot(ac.mean_w.value * ac.mean_w.spread, dc.mean_w.value * dc.mean_w.spread)
    return value - 1.2816 * off, value, value + 1.2816 * off


def _dated(how: Message, on: str) -> Message:
    return message("dated", said=how, on=on) if on else how


_CHARGE_FIELDS: Fields = {
    "from": Number("charge at the start", unit="share", most=1.0, default=1.0),
    "to": Number("charge at the end", unit="share", most=1.0),
}
COMMON_FIELDS: Fields = {
    "type": Text("type of the test"),
    "on": Text("its day, ISO 8601", most=40),
}
_STEP_FIELDS: Fields = {
    "step": Number("smallest step of the display", unit="share", most=0.5, default=0.01),
}


def parse_tests(items: Sequence[Any], path: str = "tests") -> tuple[SupplyTest, ...]:
    """Parse a supply document's tests, oldest first.

    Raises
    ------
    DocumentError
    """
    return tuple(parse_test(item, f"{path}[{index}]") for index, item in enumerate(items))


def parse_test(data: Any, path: str = "test") -> SupplyTest:
    """Parse one test.

    Raises
    ------
    DocumentError
    """
    kind = TYPES[kind_of(data, path, "type", TYPES)]
    return kind.read(Reader(data, path, {**COMMON_FIELDS, **kind.fields}))


def _on(reader: Reader) -> str:
    """The day of a test, ISO 8601; empty if there is none."""
    text = reader.text("on")
    try:
        return date.fromisoformat(text[:10]).isoformat() if text else ""
    except ValueError:
        raise DocumentError(
            reader.at("on"), f"“{text[:20]}” is not a day such as 2026-05-03"
        ) from None


def _charges(reader: Reader, end: float | None = None) -> tuple[float, float]:
    """Charge at the start and at the end, shares; ``end`` where the document has none."""
    first, last = reader.number("from"), reader.number_or_none("to")
    last = end if last is None else last
    if last is None:
        raise DocumentError(reader.at("to"), "is needed: the charge at the end, 0…1")
    if last >= first:
        raise DocumentError(reader.at("to"), f"{last:g} is not below the {first:g} at the start")
    return first, last


_TOGETHER_FIELDS: Fields = {
    "wh": Number("energy at the battery", unit="Wh", most=1e8, above=True),
    "watts": Number("mean power at the battery, in place of it", unit="W", most=1e6, above=True),
    "hours": Number("time it was counted", unit="h", most=2000, above=True, needed=True),
    "loads": Items("names of the loads that ran", form='["fridge", …]', most=200),
}


def _together(reader: Reader) -> TogetherTest:
    hours = reader.number("hours")
    wh = reader.number("watts") * hours if reader.has("watts") else reader.number("wh")
    names = [str(name)[:120] for name in reader.items("loads")]
    if not names:
        raise DocumentError(reader.at("loads"), "is empty: say what ran on the supply")
    return TogetherTest(wh, hours, tuple(dict.fromkeys(names)), _on(reader))


_IDLE_FIELDS: Fields = {
    "output": Text("ac, or the name of an output", default="ac", most=40),
    "watts": Number("consumption with nothing plugged in, as read", unit="W", most=10_000),
    **_CHARGE_FIELDS,
    **_STEP_FIELDS,
    "hours": Number("time between, in place of `watts`", unit="h", most=1000, above=True),
}


def _idle(reader: Reader) -> IdleTest:
    watts, output, on = reader.number_or_none("watts"), reader.text("output"), _on(reader)
    if watts is not None:
        return IdleTest(output, watts, on=on)
    first, last = _charges(reader)
    return IdleTest(output, None, first, last, reader.number("hours"), reader.number("step"), on)


_EFFICIENCY_FIELDS: Fields = {
    "pairs": Rows(
        "power out and in at the same time; three pairs give a line",
        columns={
            "ac_w": Number("AC watts", unit="W", most=1e6, needed=True),
            "dc_w": Number("DC watts", unit="W", most=1e6, above=True, needed=True),
        },
        most=200,
    ),
    "ac_limit": Number(
        "accuracy of the AC meter", unit="share", most=0.2, above=True, default=0.01
    ),
    "dc_limit": Number(
        "accuracy of the DC meter", unit="share", most=0.2, above=True, default=0.01
    ),
}


def _efficiency(reader: Reader) -> EfficiencyTest:
    pairs = [(row.number("ac_w"), row.number("dc_w")) for row in reader.rows("pairs")]
    limits = reader.number("ac_limit"), reader.number("dc_limit")
    test = EfficiencyTest(tuple(pairs), *limits, _on(reader))
    if test.enough:
        fit_inverter(pairs, *limits, path=reader.at("pairs"))
    elif not pairs:
        raise DocumentError(reader.at("pairs"), "needs at least one pair of AC and DC watts")
    return test


_CAPACITY_FIELDS: Fields = {
    "wh": Number("energy counted", unit="Wh", above=True),
    "hours": Number("time it took", unit="h", most=2000, above=True),
    "log": Rows(
        "checks on the way, in place of `wh` and `hours`; a charge may be null",
        columns={
            "h": Number("hours", unit="h", most=2000, needed=True),
            "charge": Number("charge", unit="share", most=1.0),
            "wh": Number("Wh", unit="Wh", most=1e7, needed=True),
        },
        most=2000,
    ),
    "counted": Choice("where the energy was counted", choices=("battery", "ac"), default="battery"),
    **_CHARGE_FIELDS,
    **_STEP_FIELDS,
    "held_wh": Number("capacity that a whole trial came to", unit="Wh", most=1e7, above=True),
    "held_spread": Number("relative spread of it", most=1.0, default=METER_SD),
}


def _capacity(reader: Reader) -> CapacityTest:
    log: list[tuple[float, float | None, float]] = []
    for row in reader.rows("log"):
        entry = (row.number("h"), row.number_or_none("charge"), row.number("wh"))
        if log and (entry[0] <= log[-1][0] or entry[2] < log[-1][2]):
            raise DocumentError(row.path, "hours must rise and the counter must not fall")
        log.append(entry)
    if not log:
        log = [(reader.number("hours"), None, reader.number("wh"))]
    if log[-1][0] <= 0 or log[-1][2] <= 0:
        raise DocumentError(reader.at("log"), "ends before anything was counted")
    first, end = _charges(reader, _last_charge(log))
    return CapacityTest(
        tuple(log),
        reader.choice("counted"),
        first,
        end,
        reader.number("step"),
        _on(reader),
        _held(reader, first - end),
    )


def _last_charge(log: Sequence[tuple[float, float | None, float]]) -> float | None:
    return next((charge for _, charge, _ in reversed(log) if charge is not None), None)


def _held(reader: Reader, share: float) -> Estimate | None:
    """Capacity from a trial; graded by the share of it that was used."""
    if not reader.has("held_wh"):
        return None
    held_wh = reader.number("held_wh")
    how = message("full-to-empty", held_wh=held_wh)
    return Estimate(held_wh, reader.number("held_spread"), "A" if share >= 0.7 else "B", (how,))


_ROUTE_RUN_FIELDS: Fields = {
    "load_wh": Number("energy at the load, where it was counted", unit="Wh", most=1e6, above=True),
    **_CHARGE_FIELDS,
}
_ROUTE_FIELDS: Fields = {
    "load": Text("name of the load", most=120),
    "output": Text("name of the DC output", most=40),
    "hours": Number("time on each", unit="h", most=1000, above=True, needed=True),
    "ac": Part("its run on the inverter; needed", fields=_ROUTE_RUN_FIELDS),
    "dc": Part("its run on the output; needed", fields=_ROUTE_RUN_FIELDS),
    **_STEP_FIELDS,
}


def _route_run(reader: Reader, key: str) -> RouteRun:
    run = reader.part(key)
    if run is None:
        raise DocumentError(reader.at(key), "must be an object with named values")
    return RouteRun(run.number_or_none("load_wh"), *_charges(run))


def _route(reader: Reader) -> RouteTest:
    return RouteTest(
        load=reader.text("load"),
        output=reader.text("output"),
        hours=reader.number("hours"),
        ac=_route_run(reader, "ac"),
        dc=_route_run(reader, "dc"),
        step=reader.number("step"),
        on=_on(reader),
    )


@dataclass(frozen=True)
class SupplyTestType:
    """A type of supply test: its title, fields beside the common ones, and what reads them."""

    title: str
    fields: Fields
    read: Callable[[Reader], SupplyTest]


#: Types of tests as documents name them.
TYPES = {
    "idle": SupplyTestType("idle test", _IDLE_FIELDS, _idle),
    "efficiency": SupplyTestType("efficiency test", _EFFICIENCY_FIELDS, _efficiency),
    "capacity": SupplyTestType("capacity test", _CAPACITY_FIELDS, _capacity),
    "route": SupplyTestType("AC against DC", _ROUTE_FIELDS, _route),
    "together": SupplyTestType("everything together", _TOGETHER_FIELDS, _together),
}


def log_from_text(text: str) -> list[list[float | None]]:
    """Parse a discharge log: one row per check, of hours, charge in percent (or ``-``) and Wh.

    Raises
    ------
    DocumentError
        A row is invalid; the message names it.
    """
    rows: list[list[float | None]] = []
    for number, line in enumerate(text.strip().splitlines(), 1):
        cells = [cell.strip(" %\t") for cell in re.split(r"[;,\t]|\s{2,}", line.strip())]
        try:
            hours, charge, wh = cells
            share = None if charge in ("", "-", "–") else float(charge) / 100
            row = [float(hours), share, float(wh)]
        except ValueError:
            raise DocumentError(
                "log", f"row {number}, “{line.strip()[:30]}”, is not “hours, charge in %, Wh”"
            ) from None
        if any(text is not None and not math.isfinite(text) for text in row):
            raise DocumentError("log", f"row {number} has a figure that is not finite")
        rows.append(row)
    return rows
