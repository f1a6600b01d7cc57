"""A finished trial as a run that plans are conditioned on, or why it is not one."""

from __future__ import annotations

from dataclasses import dataclass

from needle.plan.plan import AC
from needle.trial.trial import BATTERY, Trial

#: How near to the end (share of its hours) a charge, and a count, are read that stand for it.
CHARGE_READ, COUNT_READ = 0.97, 0.99
#: The same of the energy that was put in, which may come to its end earlier, as the sun does.
LAST_PUT_IN = 0.8
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
        Energy counted by its end, Wh.
    counted : str
        Where it was counted: ``"battery"``, ``"ac"`` or the name of an output.
    wh_in : float or None
        Energy put in from sources by its end, Wh; None if nobody counted it.
    legs : tuple of RunPart
        Its parts, if what ran changed; else empty.
    """

    hours: float
    start: float
    end: float
    why: str
    wh: float | None
    counted: str
    wh_in: float | None = None
    legs: tuple[RunPart, ...] = ()


@dataclass(frozen=True)
class RunPart:
    """A leg of a run: its start (h), the loads that ran (None: all), or else W as read on AC."""

    h: float
    on: tuple[str, ...] | None
    watts: float | None = None


def run_of(trial: Trial) -> FinishedRun | str:
    """Return a finished trial as a run; or, as text, why it is not one.

    A leg of which neither the loads nor their watts are known says nothing, a trip is no end of the
    battery, and without a charge at the end the energy used is unknown.
    """
    if trial.ended is None:
        return "it still runs"
    if trial.ended.why == "trip":
        return "it tripped"
    legs = _legs(trial)
    if legs is None:
        return "it is not known what ran in its legs: say which loads were on, or the watts read"
    end = _end_charge(trial)
    if end is None or end > trial.start_charge - LEAST_USED:
        return "its charge at the end was not read"
    hours = trial.ended.h
    count = last_count(trial)
    late = count is not None and count.h >= COUNT_READ * hours
    return FinishedRun(
        hours,
        trial.start_charge,
        end,
        trial.ended.why,
        count.wh * hours / count.h if count is not None and late else None,
        count.place if count is not None and late else BATTERY,
        _put_in_wh(trial, hours),
        legs,
    )


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


def _put_in_wh(trial: Trial, hours: float) -> float | None:
    """Wh from sources, as counted near the end or once no more came; None if not counted."""
    counts = [
        (check_in.h, check_in.wh_in) for check_in in trial.check_ins if check_in.wh_in is not None
    ]
    if not counts or counts[-1][0] < LAST_PUT_IN * hours:
        return None
    return counts[-1][1]


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
