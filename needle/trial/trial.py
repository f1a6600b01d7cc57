"""A trial: where it started and stops, what was seen on the way, and how it ended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from needle.document import DocumentError, Reader
from needle.plan.simulate import Outcome
from needle.supply.battery import Battery
from needle.supply.supply import Supply, parse_supply

#: Why a trial ends.
ENDS = ("floor", "cutoff", "trip", "by hand")
#: Longest trial, h: a month.
MOST_H = 744.0


@dataclass(frozen=True)
class CheckIn:
    """What was seen at one moment; all but ``h`` may be None.

    Attributes
    ----------
    h : float
        Hours since the start.
    percent : float or None
        Charge that the supply shows, share 0…1.
    bars, of : int or None
        Bars lit, of so many.
    ah, wh : float or None
        Counted at the battery since the start, Ah, Wh.
    volts : float or None
        At the battery's terminals.
    watts : float or None
        Drawn at the battery just then, W.
    display_h : float or None
        Hours left, as the supply promises.
    room_c, inside_c : float or None
        °C.
    leg : str or None
        What changed: a new leg begins here.
    note : str
    """

    h: float
    percent: float | None = None
    bars: int | None = None
    of: int | None = None
    ah: float | None = None
    wh: float | None = None
    volts: float | None = None
    watts: float | None = None
    display_h: float | None = None
    room_c: float | None = None
    inside_c: float | None = None
    leg: str | None = None
    note: str = ""

    @property
    def shown(self) -> float | None:
        """Charge as the supply shows it, share; of bars the middle of the last one lit."""
        if self.percent is not None:
            return self.percent
        if self.bars is not None and self.of:
            return max(0.0, (self.bars - 0.5) / self.of)
        return None


@dataclass(frozen=True)
class End:
    """When and why it ended: h, one of :data:`ENDS`."""

    h: float
    why: str


@dataclass(frozen=True)
class Trial:
    """A run of a supply.

    Attributes
    ----------
    supply : Supply
    start_charge, stop_at : float
        Charge at the start and where it shall stop, shares: as the supply shows them where any
        check-in has its display, else true ones.
    expected_w : tuple of float
        W at the battery that the plan expects, one an hour from the start; after the last they go
        on at their mean. Empty where nothing is expected.
    expected_spread : float
        Relative spread of their level.
    check_ins : tuple of CheckIn
        By time.
    ended : End or None
    """

    supply: Supply
    start_charge: float
    stop_at: float
    expected_w: tuple[float, ...]
    expected_spread: float
    check_ins: tuple[CheckIn, ...]
    ended: End | None = None

    @property
    def battery(self) -> Battery:
        return self.supply.battery

    @property
    def legs(self) -> list[CheckIn]:
        """Check-ins at which a new leg begins."""
        return [check_in for check_in in self.check_ins if check_in.leg is not None]


_CHECK_KEYS = ("h", "percent", "bars", "of", "ah", "wh", "volts", "watts", "display_h", "room_c",
               "inside_c", "leg", "note")  # fmt: skip


def parse_trial(data: Any) -> Trial:
    """Read a trial document (see ``docs/formats.md``).

    Raises
    ------
    DocumentError
    """
    known = ("name", "supply", "start_charge", "stop_at", "expected_w", "check_ins", "ended")
    reader = Reader(data, "", known)
    supply = parse_supply(reader.data.get("supply"))
    start = reader.number("start_charge", most=1.0, above=True)
    start = 1.0 if start is None else start
    stop = reader.number("stop_at", most=0.99)
    stop = 0.0 if stop is None else stop
    if stop >= start:
        raise DocumentError("stop_at", f"{stop:g} is not below the start charge {start:g}")
    watts, spread = _expected(reader)
    checks = parse_check_ins(reader.items("check_ins", most=5000))
    ended = _ended(reader, checks)
    return Trial(supply, start, stop, watts, spread, checks, ended)


def _expected(reader: Reader) -> tuple[tuple[float, ...], float]:
    if not reader.has("expected_w"):
        return (), 0.0
    inner = Reader(reader.data["expected_w"], "expected_w", ("value", "spread", "by_hour"))
    spread = inner.number("spread", most=3.0)
    spread = 0.3 if spread is None else spread
    hours = []
    for index, item in enumerate(inner.items("by_hour", most=1000)):
        one = Reader({"watts": item}, f"expected_w.by_hour[{index}]", ("watts",))
        hours.append(one.need("watts", least=-100_000, most=1_000_000))
    if hours:
        if sum(hours) <= 0:
            raise DocumentError("expected_w.by_hour", "adds up to nothing drawn")
        return tuple(hours), spread
    return (inner.need("value", most=1_000_000, above=True),), spread


def parse_check_ins(items: Sequence[Any]) -> tuple[CheckIn, ...]:
    """Read check-ins, in any order.

    Raises
    ------
    DocumentError
    """
    check_ins = sorted(
        (_check_in(item, f"check_ins[{index}]") for index, item in enumerate(items)),
        key=lambda one: one.h,
    )
    legs = [check_in.h for check_in in check_ins if check_in.leg is not None]
    for first, second in pairwise(legs):
        if first == second:
            raise DocumentError("check_ins", f"two legs begin at {first:g} h: keep one")
    return tuple(check_ins)


def _check_in(item: Any, path: str) -> CheckIn:
    reader = Reader(item, path, _CHECK_KEYS)
    hours = reader.number("h", least=-1e9, most=1e9)
    if hours is None:
        raise DocumentError(reader.at("h"), "is needed")
    if hours < 0:
        raise DocumentError(reader.at("h"), f"{hours:g} is before the start of the trial")
    if hours > MOST_H:
        raise DocumentError(reader.at("h"), f"{hours:g} is too large: at most {MOST_H:g}")
    percent = reader.number("percent", most=100.0)
    bars, of = _whole(reader, "bars"), _whole(reader, "of")
    if bars is not None and not of:
        raise DocumentError(reader.at("of"), "is needed beside bars: how many there are")
    if bars is not None and of and bars > of:
        raise DocumentError(reader.at("bars"), f"{bars} of {of} is more than there are")
    return CheckIn(
        h=hours,
        percent=None if percent is None else percent / 100,
        bars=bars,
        of=of,
        ah=reader.number("ah", most=1e6),
        wh=reader.number("wh", most=1e8),
        volts=reader.number("volts", most=2000, above=True),
        watts=reader.number("watts", most=1e6),
        display_h=reader.number("display_h", most=10_000),
        room_c=reader.number("room_c", least=-60, most=80),
        inside_c=reader.number("inside_c", least=-100, most=400),
        leg=reader.text("leg", most=120) if reader.has("leg") else None,
        note=reader.text("note", most=400),
    )


def _whole(reader: Reader, key: str) -> int | None:
    value = reader.number(key, most=100)
    if value is not None and value != int(value):
        raise DocumentError(reader.at(key), f"{value:g} must be a whole number")
    return None if value is None else int(value)


def _ended(reader: Reader, checks: Sequence[CheckIn]) -> End | None:
    if not reader.has("ended"):
        return None
    inner = Reader(reader.data["ended"], "ended", ("h", "why"))
    end = End(inner.need("h", most=MOST_H, above=True), inner.choice("why", ENDS))
    late = next((check for check in checks if check.h > end.h + 1e-9), None)
    if late is not None:
        raise DocumentError("ended.h", f"{end.h:g} is before the check-in at {late.h:g} h")
    return end


def expected_of(outcome: Outcome) -> dict[str, Any]:
    """What a plan's outcome expects at the battery, as a trial document has it.

    The spread is what is left of the runtime's after the battery's own.
    """
    runtime = outcome.runtime_h
    varies = float(np.std(runtime) / max(1e-9, np.mean(runtime)))
    own = outcome.plan.supply.battery.state_of_health.spread
    hours = max(1, int(np.floor(outcome.runtime[1])))
    net = outcome.drawn_w[:hours] - outcome.sources_w[:hours]
    return {
        "by_hour": [float(watts) for watts in net],
        "spread": float(np.sqrt(max(0.03**2, varies**2 - own**2))),
    }
