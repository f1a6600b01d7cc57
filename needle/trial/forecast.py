"""Forecast of a trial's stop: the plan's own answer, or the plan conditioned on check-ins."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from needle.document import DocumentError
from needle.ledger import LedgerEntry
from needle.message import message
from needle.plan.energy.bank import MINUTES_PER_HOUR
from needle.trial.expected import Expected, expected_of
from needle.trial.prediction import Forecast, Leg, weighted_range
from needle.trial.trial import CheckIn, Trial
from needle.trial.trial_filter import TrialFilter

#: A display that fell by no more than this so soon after the start says nothing yet, h and share.
TOO_SOON_H, TOO_LITTLE = 0.25, 0.02


def forecast(
    trial: Trial, seed: int = 1, draws: int | None = None, expected: Expected | None = None
) -> Forecast:
    """Return the forecast of a trial's stop, or what it showed if it has ended.

    Without check-ins this is the plan's own answer.

    Parameters
    ----------
    trial : Trial
    seed, draws : int
        As for the plan; the same values give the same answer. None: as many draws as its answer.
    expected : Expected or None
        The expected course, if already computed.

    Raises
    ------
    DocumentError
        The trial has neither an expectation nor a check-in.
    """
    by_plan = trial.plan is not None or bool(trial.expected_w)
    soon = [check_in for check_in in trial.check_ins if by_plan and _is_too_soon(check_in, trial)]
    known = any(check_in.tells for check_in in trial.check_ins if check_in not in soon)
    # That it still ran, at an hour, is evidence too.
    telling = known or any(check_in.h > 0 for check_in in trial.check_ins if check_in not in soon)
    if not known and trial.plan is None and not trial.expected_w and trial.ended is None:
        raise DocumentError("expected_w", "is needed until the first check-in")
    expected = expected or expected_of(trial, draws, seed)
    if not telling and not trial.legs and trial.ended is None and not trial.start_step:
        return _as_planned(trial, expected, soon)
    followed = TrialFilter(trial, expected, seed)
    followed.assimilate_check_ins(trial.check_ins)
    if trial.ended is not None:
        followed.end()
    return followed.forecast()


def _is_too_soon(check_in: CheckIn, trial: Trial) -> bool:
    """Whether a check-in so soon after the start shows a full display and nothing else.

    It then only says that the run has begun.
    """
    shown = check_in.shown
    told = replace(check_in, percent=None, bars=None, of=None)
    return (
        shown is not None
        and not told.tells
        and check_in.leg is None
        and check_in.h < TOO_SOON_H
        and trial.start_charge - shown <= TOO_LITTLE
    )


def _as_planned(trial: Trial, expected: Expected, soon: Sequence[CheckIn] = ()) -> Forecast:
    """The plan's own answer; ``soon`` are check-ins that came too soon to tell anything."""
    stop_h = weighted_range(expected.stop_h)
    mean_w = weighted_range(np.exp(expected.log_level))
    held_wh = weighted_range(expected.battery.capacity_wh)
    start = trial.start_charge
    fan = [
        (float(minute) / MINUTES_PER_HOUR, *weighted_range(charge))
        for minute, charge in zip(expected.curve_min, expected.charge.T, strict=True)
        if minute / MINUTES_PER_HOUR <= stop_h[2] + 0.5
    ]
    return Forecast(
        stop_h=stop_h,
        most_h=expected.plan.hours,
        now_h=0.0,
        mean_w=mean_w,
        drawn_wh=(0.0, 0.0, 0.0),
        fall_per_h=(0.0, 0.0, 0.0),
        level=(1.0, 1.0, 1.0),
        used_wh=0.0,
        charge=(start, start, start),
        legs=[Leg(0.0, mean_w[1], "start")],
        state_of_health=None,
        held_wh=held_wh,
        ended_h=None,
        display_error_h=None,
        fan=fan,
        ledger=tuple(
            LedgerEntry(f"check_ins[{check_in.number}]", False, message("too-soon"))
            for check_in in soon
        ),
    )
