"""A finished trial as a run that plans are conditioned on, or why it is not one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from needle.plan.load import AC
from needle.plan.run import COUNTED_IN_SPREAD
from needle.trial.trial import BATTERY, CheckIn, Trial

#: How near to the end (share of its hours) a charge, and a count, are read that stand for it.
CHARGE_READ, COUNT_READ = 0.97, 0.99
#: Share of a run's hours before which a count says little of the whole of it.
LEAST_COUNTED = 0.5
#: The same of the energy that was put in, which may come to its end earlier, as the sun does.
LAST_PUT_IN = 0.8
#: Relative sd of Wh going in from W that were read now and then, and how many of these it takes.
READ_IN_SPREAD, LEAST_READ_IN = 0.15, 4
#: A run that used a smaller share of the charge tells nothing.
LEAST_USED = 0.05


@dataclass(frozen=True)
class FinishedRun:
    """What a finished trial shows about its supply.

    Attributes
    ----------
    hours : float
    start, end : float
        Charge, shares.
    why : str
        How it ended, one of :data:`needle.trial.trial.ENDS`.
    wh : float or None
        Energy counted, Wh.
    counted : str
        Where it was counted: ``"battery"``, ``"ac"`` or the name of an output.
    counted_h : float or None
        Hour at which it was read.
    wh_in : float or None
        Energy put in from sources by its end, Wh; None if nobody read it.
    wh_in_spread : float
        Relative sd of it.
    legs : tuple of RunPart
        Its parts, if what ran changed; else empty.
    """

    hours: float
    start: float
    end: float
    why: str
    wh: float | None
    counted: str
    counted_h: float | None
    wh_in: float | None = None
    wh_in_spread: float = COUNTED_IN_SPREAD
    legs: tuple[RunPart, ...] = ()


@dataclass(frozen=True)
class RunPart:
    """A leg of a run: its start (h), the loads that ran (None: all), or else W as read on AC."""

    h: float
    on: tuple[str, ...] | None
    watts: float | None = None


def _ran_on_mains(trial: Trial) -> bool:
    """Whether mains of its plan ran loads meanwhile, so that the battery did not."""
    if trial.plan is None or trial.ended is None:
        return False
    start, minutes = trial.plan.start, max(1, round(60 * trial.ended.h))
    carried = [source.carried(start, minutes) for source in trial.plan.sources]
    return any(mask is not None and bool(mask.any()) for mask in carried)


def sources_give(trial: Trial) -> bool:
    """Whether a source of its plan would give anything by its end: no sun shines by night."""
    if trial.plan is None or trial.ended is None:
        return False
    start, minutes = trial.plan.start, max(1, round(60 * trial.ended.h))
    return any(bool(source.power_w(start, minutes).any()) for source in trial.plan.sources)


def run_of(trial: Trial) -> FinishedRun | str:
    """Return a finished trial as a run; or, as text, why it is not one.

    A leg of which neither the loads nor their watts are known says nothing, a trip is no end of the
    battery, and without a charge at the end the energy used is unknown.
    """
    if trial.ended is None:
        return "it still runs"
    if trial.ended.why == "trip":
        return "it tripped"
    if _ran_on_mains(trial):
        return "part of it ran on mains"
    legs = _legs(trial)
    if legs is None:
        return "it is not known what ran in its legs: say which loads were on, or the watts read"
    end = _end_charge(trial)
    if end is None or end > trial.start_charge - LEAST_USED:
        return "its charge at the end was not read"
    hours = trial.ended.h
    count = last_count(trial)
    if count is not None and count.h < LEAST_COUNTED * hours:
        count = None
    return FinishedRun(
        hours,
        trial.start_charge,
        end,
        trial.ended.why,
        None if count is None else count.wh,
        BATTERY if count is None else count.place,
        None if count is None else min(count.h, hours),
        *_put_in(trial, hours),
        legs,
    )


#: Fewest charges shown on the way that say how a display bends.
LEAST_SHOWN = 3


def display_seen(trial: Trial) -> list[tuple[float, float]]:
    """Charges that the display showed in a run to its cut-off, each with the true one (shares).

    The true ones are by what was counted, or else by the hours of a run that was not changed. Empty
    where that is not known: it was charged meanwhile, or did not end by its cut-off.
    """
    if trial.ended is None or trial.ended.why != "cutoff" or _is_charged(trial):
        return []
    hours = trial.ended.h
    shown = [
        check for check in trial.check_ins if check.percent is not None and 0 < check.h < hours
    ]
    used = _used_shares(trial, shown, hours) if len(shown) >= LEAST_SHOWN else []
    return [
        (check.percent or 0.0, max(0.0, 1 - share))
        for check, share in zip(shown, used, strict=False)
    ]


def _is_charged(trial: Trial) -> bool:
    """Whether it did not begin full, or anything was, or would have been, put in on the way."""
    put_in = any(check.watts_in or check.wh_in for check in trial.check_ins)
    return put_in or trial.start_charge < 1 or sources_give(trial)


def _used_shares(trial: Trial, shown: Sequence[CheckIn], hours: float) -> list[float]:
    """Share of what it held that was used at each check-in; empty if that is not known."""
    counted = [check.counted_wh(trial.battery.volts) or 0.0 for check in shown]
    if all(counted) and len({check.counted for check in shown}) == 1:
        whole = counted[-1] * hours / shown[-1].h
        return [wh / whole for wh in counted]
    return [] if trial.legs else [check.h / hours for check in shown]


def _legs(trial: Trial) -> tuple[RunPart, ...] | None:
    """Its legs, none if it has one only; None if it is not known what ran in one."""
    assert trial.ended is not None
    begins = [check_in for check_in in trial.check_ins if check_in.leg is not None]
    known: dict[str, tuple[str, ...] | None] = {"start": trial.on}
    legs = [RunPart(0.0, trial.on)] if begins or trial.on is not None else []
    ends = [*(check_in.h for check_in in begins), trial.ended.h][1:]
    for check_in, last_h in zip(begins, ends, strict=True):
        assert check_in.leg is not None
        watts = None
        if check_in.on is not None:
            known[check_in.leg] = check_in.on
        elif check_in.leg not in known:
            watts = _mean_ac_w(trial, check_in.h, last_h)
            if watts is None:
                return None
        part = RunPart(check_in.h, known.get(check_in.leg), watts)
        # One that began with the trial, or ended with it, is no part of its own.
        if check_in.h <= 0:
            legs[0] = part
        elif check_in.h < trial.ended.h:
            legs.append(part)
    return tuple(legs)


def _mean_ac_w(trial: Trial, first_h: float, last_h: float) -> float | None:
    """Mean of the W that were read on AC from one hour to before another; None without any."""
    read = [
        check_in.watts
        for check_in in trial.check_ins
        if first_h <= check_in.h < last_h and check_in.watts is not None and check_in.watts_at == AC
    ]
    return sum(read) / len(read) if read else None


def _put_in(trial: Trial, hours: float) -> tuple[float | None, float]:
    """Wh from sources by its end, and their relative sd; None if nobody read it.

    As counted near the end or once no more came; else from the W that were read on the way.
    """
    counts = [
        (check_in.h, check_in.wh_in) for check_in in trial.check_ins if check_in.wh_in is not None
    ]
    if counts and counts[-1][0] >= LAST_PUT_IN * hours:
        return counts[-1][1], COUNTED_IN_SPREAD
    read = [
        (check_in.h, check_in.watts_in)
        for check_in in trial.check_ins
        if check_in.watts_in is not None
    ]
    if len(read) < LEAST_READ_IN or read[-1][0] < LAST_PUT_IN * hours:
        return None, COUNTED_IN_SPREAD
    at_h, watts = (np.array(values) for values in zip(*read, strict=True))
    wh = float(np.trapezoid(np.append(watts, watts[-1]), np.append(at_h, hours)))
    # Before the first look as at it.
    return wh + float(watts[0] * at_h[0]), READ_IN_SPREAD


@dataclass(frozen=True)
class Count:
    """The last count of a trial: time (h), Wh, and where it was read."""

    h: float
    wh: float
    place: str


def last_count(trial: Trial) -> Count | None:
    """Return the last Wh, or Ah times nominal volts, that were counted; None if nothing was.

    Of several counters read near the end, the one at the battery; else the one with the most
    energy.
    """
    last: dict[str, Count] = {}
    for check_in in trial.check_ins:
        wh = check_in.counted_wh(trial.battery.volts)
        if wh and check_in.h > 0:
            last[check_in.counted] = Count(check_in.h, wh, check_in.counted)
    if not last:
        return None
    end_h = max(count.h for count in last.values())
    late = [count for count in last.values() if count.h >= COUNT_READ * end_h]
    return max(late, key=lambda count: (count.place == BATTERY, count.wh))


def _end_charge(trial: Trial) -> float | None:
    """Charge at the end, share; None if it was not read near enough to the end."""
    assert trial.ended is not None
    if trial.ended.why in ("floor", "cutoff"):
        return trial.stop_at if trial.ended.why == "floor" else 0.0
    shown = [
        check_in.percent
        for check_in in trial.check_ins
        if check_in.percent is not None and check_in.h >= CHARGE_READ * trial.ended.h
    ]
    return shown[-1] if shown else None
