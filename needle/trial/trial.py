"""A trial document: start and stop, check-ins on the way, and how it ended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

from needle.document import DocumentError, Reader
from needle.fields import Choice, Fields, Items, Number, Part, Parts, Text
from needle.plan.documents.parse import parse_plan
from needle.plan.load import AC
from needle.plan.plan import Plan
from needle.supply.battery import Battery
from needle.supply.supply import Supply, parse_supply

#: Where a trial's counts are read, unless it is said.
BATTERY = "battery"
#: Why a trial ends.
ENDS = ("floor", "cutoff", "trip", "by hand")
#: Longest trial, h: a month.
MOST_H = 744.0


@dataclass(frozen=True)
class CheckIn:
    """Figures read at one moment; all but ``h`` may be None.

    Attributes
    ----------
    h : float
        Hours since the start.
    percent : float or None
        Charge on the supply's display, share 0…1.
    bars, of : int or None
        Bars lit, and number of bars.
    ah, wh : float or None
        Ah and Wh counted since the start.
    wh_in : float or None
        Wh that went into the battery since the start.
    volts : float or None
        Volts at the battery's terminals.
    watts, amps : float or None
        Present power, W; present current at the battery, A, which times volts gives W.
    watts_in : float or None
        Present power of sun or charger, W.
    counted : str
        Where Wh and Ah are read: ``"battery"``, ``"ac"`` or the name of an output.
    watts_at : str
        Where W are read, likewise; a supply's display shows the power at its outlets.
    display_h : float or None
        Hours left on the supply's display.
    room_c, inside_c : float or None
        °C.
    leg : str or None
        Name of the new leg that begins here.
    on : tuple of str or None
        Names of the plan's loads that run from here on, if they changed.
    note : str
    number : int
        Index in the document.
    """

    h: float
    percent: float | None = None
    bars: int | None = None
    of: int | None = None
    ah: float | None = None
    wh: float | None = None
    wh_in: float | None = None
    volts: float | None = None
    watts: float | None = None
    amps: float | None = None
    watts_in: float | None = None
    counted: str = BATTERY
    display_h: float | None = None
    room_c: float | None = None
    inside_c: float | None = None
    leg: str | None = None
    on: tuple[str, ...] | None = None
    note: str = ""
    watts_at: str = BATTERY
    number: int = 0

    @property
    def drawn_w(self) -> float | None:
        """Present power, W: as read, or amps times volts."""
        if self.watts is None and self.amps is not None and self.volts is not None:
            return self.amps * self.volts
        return self.watts

    def counted_wh(self, nominal_v: float | None) -> float | None:
        """Energy counted, Wh, or Ah times nominal volts."""
        if self.wh is None and self.ah is not None and nominal_v is not None:
            return self.ah * nominal_v
        return self.wh

    @property
    def tells(self) -> bool:
        """Whether it has any figure of charge or energy."""
        figures = (
            self.shown,
            self.ah,
            self.wh,
            self.wh_in,
            self.volts,
            self.drawn_w,
            self.watts_in,
        )
        return any(figure is not None for figure in figures)

    @property
    def shown(self) -> float | None:
        """Displayed charge, share; for bars the middle of the last one lit."""
        if self.percent is not None:
            return self.percent
        if self.bars is not None and self.of:
            return max(0.0, (self.bars - 0.5) / self.of)
        return None


@dataclass(frozen=True)
class End:
    """When (h) and why it ended, one of :data:`ENDS`."""

    h: float
    why: str


@dataclass(frozen=True)
class Trial:
    """A run of a supply that is recorded.

    Attributes
    ----------
    supply : Supply
    plan : Plan or None
        The expected run, with that supply, start charge and stop; None if only watts are expected.
    start_charge, stop_at : float
        Charge at the start, and at which it is to stop, shares: on the display if any check-in
        reads it, else true ones.
    start_step : float
        Step of the display on which that at the start was read, share: bars are coarse.
    expected_w : tuple of float
        W at the battery that the plan expects, one per hour from the start; then their mean.
        Empty if nothing is expected.
    expected_spread : float
        Relative spread of ``expected_w``.
    check_ins : tuple of CheckIn
        In order of time.
    ended : End or None
    on : tuple of str or None
        Names of the plan's loads that run from the start; None for all of them.
    display : tuple of (shown, true)
        Charges that its display showed in earlier runs, and the true ones, shares.
    """

    supply: Supply
    start_charge: float
    stop_at: float
    expected_w: tuple[float, ...]
    expected_spread: float
    check_ins: tuple[CheckIn, ...]
    ended: End | None = None
    plan: Plan | None = None
    on: tuple[str, ...] | None = None
    display: tuple[tuple[float, float], ...] = ()
    start_step: float = 0.0

    def plan_of(self, on: tuple[str, ...] | None) -> Plan:
        """Its plan with only some of its loads; with all of them for None."""
        assert self.plan is not None
        if on is None:
            return self.plan
        loads = tuple(load for load in self.plan.loads if load.name in on)
        return replace(self.plan, loads=loads)

    @property
    def places(self) -> frozenset[str]:
        """Places other than the battery where energy was counted."""
        counted = {check_in.counted for check_in in self.check_ins}
        return frozenset(counted | {check_in.watts_at for check_in in self.check_ins}) - {BATTERY}

    @property
    def battery(self) -> Battery:
        return self.supply.battery

    @property
    def legs(self) -> list[CheckIn]:
        """Check-ins at which a new leg begins."""
        return [check_in for check_in in self.check_ins if check_in.leg is not None]


_ANYWHERE = "battery, ac or an output; elsewhere than at the battery only with a plan"

CHECK_IN_FIELDS: Fields = {
    "h": Number("hours since the start", unit="h", least=-1e9, most=1e9, needed=True),
    "percent": Number("charge on the display", unit="%", most=100.0),
    "bars": Number("bars on the display", most=100, whole=True),
    "of": Number("how many bars there are", most=100, whole=True),
    "ah": Number("charge used since the start", unit="Ah", most=1e6),
    "wh": Number("energy used since the start", unit="Wh", most=1e8),
    "wh_in": Number("energy put into the battery since the start", unit="Wh", most=1e8),
    "volts": Number("battery voltage", unit="V", most=2000, above=True),
    "watts": Number("power now", unit="W", most=1e6),
    "amps": Number("current now; with `volts` it gives the power", unit="A", most=1e5),
    "watts_in": Number("power of sun or charger now", unit="W", most=1e6),
    "counted": Text(f"where Wh and Ah are read: {_ANYWHERE}", default=BATTERY, most=80),
    "watts_at": Text(f"where W are read: {_ANYWHERE}", most=80, otherwise="`counted`"),
    "display_h": Number("hours that its display promises", unit="h", most=10_000),
    "room_c": Number("room temperature", unit="°C", least=-60, most=80),
    "inside_c": Number("temperature in a fridge, for the record", unit="°C", least=-100, most=400),
    "leg": Text('name of a leg that begins; an earlier name or "start" goes back to it', most=120),
    "on": Items(
        "the plan's loads that run from here on: a new leg, named by them unless `leg` is given",
        form='["Fridge", "Lamp"]',
        most=500,
    ),
    "note": Text("remark", most=400),
}
TRIAL_FIELDS: Fields = {
    "name": Text("its name"),
    "plan": Part("what is expected: a plan, sources and all", see="plan"),
    "supply": Part("or a supply; the battery is enough", see="supply"),
    "expected_w": Part(
        "with it, what is drawn at the battery, sources taken off",
        fields={
            "value": Number("mean power", unit="W", most=1_000_000, above=True),
            "by_hour": Items("or the mean of each hour, W", form="[120, 80, …]", most=1000),
            "spread": Number("relative spread of it", most=3.0, default=0.3),
        },
    ),
    "start_charge": Number(
        "charge at the start; as the display shows it where check-ins do",
        unit="share",
        most=1.0,
        above=True,
        otherwise="the plan's, else 1",
    ),
    "start_step": Number(
        "step of the display on which that was read; a fifth for five bars",
        unit="share",
        most=0.5,
        default=0.0,
    ),
    "stop_at": Number(
        "charge at which it is stopped",
        unit="share",
        most=0.99,
        otherwise="the plan's floor, else 0",
    ),
    "display": Items(
        "charges that its display showed in earlier runs, each with the true one, shares",
        form="[[0.6, 0.48], …]",
        most=500,
    ),
    "on": Items(
        "which of the plan's loads run from the start; all of them if left out",
        form='["Fridge"]',
        most=500,
    ),
    "check_ins": Parts("check-ins, in any order", see="trial: check-in", most=5000),
    "ended": Part(
        "its end",
        fields={
            "h": Number("hours since the start", unit="h", most=MOST_H, above=True, needed=True),
            "why": Choice("why", choices=ENDS),
        },
    ),
}
_HOUR: Fields = {
    "watts": Number("mean power of an hour", unit="W", least=-100_000, most=1_000_000, needed=True)
}


def parse_trial(data: Any) -> Trial:
    """Parse a trial document (see ``docs/fields.md``).

    Raises
    ------
    DocumentError
    """
    reader = Reader(data, "", TRIAL_FIELDS)
    plan = _parse_plan(reader)
    supply = plan.supply if plan is not None else parse_supply(reader.document("supply"))
    battery = supply.battery
    start = reader.number("start_charge", 1.0 if plan is None else battery.start_charge)
    stop = reader.number("stop_at", 0.0 if plan is None else battery.floor)
    if stop >= start:
        raise DocumentError("stop_at", f"{stop:g} is not below the start charge {start:g}")
    if plan is not None:
        supply = replace(supply, battery=replace(battery, start_charge=start, floor=stop))
        plan = replace(plan, supply=supply)
    watts, spread = _expected(reader)
    names = () if plan is None else tuple(load.name for load in plan.loads)
    checks = parse_check_ins(reader.documents("check_ins"), _routes(supply, plan), names)
    ended, on = _ended(reader, checks), _on(reader, names)
    display, step = _display(reader), reader.number("start_step")
    return Trial(supply, start, stop, watts, spread, checks, ended, plan, on, display, step)


def _parse_plan(reader: Reader) -> Plan | None:
    if not reader.has("plan"):
        return None
    for key in ("supply", "expected_w"):
        if reader.has(key):
            raise DocumentError(key, "stands in the plan already: give one of them")
    try:
        return parse_plan(reader.document("plan"))
    except DocumentError as error:
        raise error.under("plan") from None


def _routes(supply: Supply, plan: Plan | None) -> tuple[str, ...]:
    """Places where a trial's Wh can be counted; other than the battery only with a plan."""
    if plan is None:
        return (BATTERY,)
    ac = (AC,) if supply.inverter is not None else ()
    return (BATTERY, *ac, *(output.name for output in supply.outputs))


def _expected(reader: Reader) -> tuple[tuple[float, ...], float]:
    expected = reader.part("expected_w")
    if expected is None:
        return (), 0.0
    spread, hours = expected.number("spread"), []
    for index, item in enumerate(expected.items("by_hour")):
        hour = Reader({"watts": item}, f"expected_w.by_hour[{index}]", _HOUR)
        hours.append(hour.number("watts"))
    if hours:
        if sum(hours) <= 0:
            raise DocumentError("expected_w.by_hour", "adds up to nothing drawn")
        return tuple(hours), spread
    return (expected.number("value"),), spread


def _display(reader: Reader) -> tuple[tuple[float, float], ...]:
    """Charges that were shown in earlier runs, with the true ones."""
    pairs = []
    for index, pair in enumerate(reader.items("display")):
        where = f"{reader.at('display')}[{index}]"
        shares = pair if isinstance(pair, list) and len(pair) == 2 else ()
        if not shares or not all(isinstance(share, int | float) for share in shares):
            raise DocumentError(where, "is not a charge shown and a true one, such as [0.6, 0.48]")
        if not all(0 <= share <= 1 for share in shares):
            raise DocumentError(where, f"{pair} is not between 0 and 1")
        pairs.append((float(shares[0]), float(shares[1])))
    return tuple(pairs)


def _on(reader: Reader, names: Sequence[str] | None) -> tuple[str, ...] | None:
    """Names of loads that are on, of the plan's ``names`` (None: any); None if not given."""
    if not reader.has("on"):
        return None
    on = []
    for index, name in enumerate(reader.items("on")):
        if not isinstance(name, str) or (names is not None and name not in names):
            where = f"{reader.at('on')}[{index}]"
            raise DocumentError(where, f"{str(name)[:40]!r} is no load of its plan")
        on.append(name)
    return tuple(dict.fromkeys(on))


def parse_check_ins(
    items: Sequence[Any],
    places: Sequence[str] | None = None,
    names: Sequence[str] | None = None,
) -> tuple[CheckIn, ...]:
    """Parse check-ins in any order, counted at one of ``places`` (None: anywhere).

    ``names`` are those of the plan's loads (None: any).

    Raises
    ------
    DocumentError
    """
    check_ins = sorted(
        (
            replace(_check_in(item, f"check_ins[{index}]", places, names), number=index)
            for index, item in enumerate(items)
        ),
        key=lambda check_in: check_in.h,
    )
    legs = [check_in.h for check_in in check_ins if check_in.leg is not None]
    for first, second in pairwise(legs):
        if first == second:
            raise DocumentError("check_ins", f"two legs begin at {first:g} h: keep one")
    return tuple(check_ins)


def _check_in(
    item: Any, path: str, places: Sequence[str] | None, names: Sequence[str] | None
) -> CheckIn:
    reader = Reader(item, path, CHECK_IN_FIELDS)
    hours = reader.number("h")
    if hours < 0:
        raise DocumentError(reader.at("h"), f"{hours:g} is before the start of the trial")
    if hours > MOST_H:
        raise DocumentError(reader.at("h"), f"{hours:g} is too large: at most {MOST_H:g}")
    percent = reader.number_or_none("percent")
    bars, of = _whole(reader, "bars"), _whole(reader, "of")
    if bars is not None and not of:
        raise DocumentError(reader.at("of"), "is needed beside bars: how many there are")
    if bars is not None and of and bars > of:
        raise DocumentError(reader.at("bars"), f"{bars} of {of} is more than there are")
    counted = reader.text("counted")
    watts_at = reader.text("watts_at", counted)
    for key, place in (("counted", counted), ("watts_at", watts_at)):
        if places is not None and place not in places:
            known = ", ".join(places)
            raise DocumentError(reader.at(key), f"“{place}” is none of {known}")
    on = _on(reader, names)
    leg = reader.text("leg") if reader.has("leg") else None
    if leg is None and on is not None:
        leg = leg_name(on)
    return CheckIn(
        h=hours,
        percent=None if percent is None else percent / 100,
        bars=bars,
        of=of,
        ah=reader.number_or_none("ah"),
        wh=reader.number_or_none("wh"),
        wh_in=reader.number_or_none("wh_in"),
        volts=reader.number_or_none("volts"),
        watts=reader.number_or_none("watts"),
        amps=reader.number_or_none("amps"),
        watts_in=reader.number_or_none("watts_in"),
        counted=counted,
        watts_at=watts_at,
        display_h=reader.number_or_none("display_h"),
        room_c=reader.number_or_none("room_c"),
        inside_c=reader.number_or_none("inside_c"),
        leg=leg,
        on=on,
        note=reader.text("note"),
    )


def leg_name(on: Sequence[str]) -> str:
    """Name of a leg by the loads that run in it."""
    return ", ".join(sorted(on)) or "nothing on"


def _whole(reader: Reader, key: str) -> int | None:
    value = reader.number_or_none(key)
    return None if value is None else int(value)


def _ended(reader: Reader, checks: Sequence[CheckIn]) -> End | None:
    ended = reader.part("ended")
    if ended is None:
        return None
    end = End(ended.number("h"), ended.choice("why"))
    late = next((check for check in checks if check.h > end.h + 1e-9), None)
    if late is not None:
        raise DocumentError("ended.h", f"{end.h:g} is before the check-in at {late.h:g} h")
    return end
