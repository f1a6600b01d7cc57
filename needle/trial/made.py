"""A finished trial as a run that plans can rest on; or why it is none."""

from __future__ import annotations

from dataclasses import dataclass

from needle.trial.trial import Trial

#: How near to the end (share of its hours) a charge, and a count, are read that stand for it.
CHARGE_READ, COUNT_READ = 0.97, 0.99
#: A run that used a smaller share of the charge tells nothing.
LEAST_USED = 0.05


@dataclass(frozen=True)
class MadeRun:
    """What a finished trial tells of its supply.

    Attributes
    ----------
    hours : float
    start, end : float
        Charge, shares.
    why : str
        How it ended, one of :data:`needle.trial.trial.ENDS`.
    wh : float or None
        Counted at the battery by its end.
    """

    hours: float
    start: float
    end: float
    why: str
    wh: float | None


def run_of(trial: Trial) -> MadeRun | str:
    """A trial as a run; or, as words, why it is none.

    Two legs are two runs of unlike loads, a trip is no end of the battery's, and without a charge
    at its end nobody knows what was used.
    """
    if trial.ended is None:
        return "it still runs"
    if trial.ended.why == "trip":
        return "it tripped"
    if any(check_in.leg for check_in in trial.check_ins):
        return "its legs were unlike"
    end = _end_charge(trial)
    if end is None or end > trial.start_charge - LEAST_USED:
        return "its charge at the end was not read"
    hours = trial.ended.h
    counted = [
        check_in.wh
        for check_in in trial.check_ins
        if check_in.wh and check_in.h >= COUNT_READ * hours
    ]
    return MadeRun(
        hours, trial.start_charge, end, trial.ended.why, counted[-1] if counted else None
    )


def _end_charge(trial: Trial) -> float | None:
    """Charge at the end, a share; None where it was not read near enough to it."""
    assert trial.ended is not None
    if trial.ended.why in ("floor", "cutoff"):
        return trial.stop_at if trial.ended.why == "floor" else 0.0
    shown = [
        check_in.percent
        for check_in in trial.check_ins
        if check_in.percent is not None and check_in.h >= CHARGE_READ * trial.ended.h
    ]
    return shown[-1] if shown else None
