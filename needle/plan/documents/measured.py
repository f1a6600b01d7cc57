"""A measured load as an entry of a plan document."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

from needle.document import DocumentError
from needle.message import as_stored
from needle.moments import DAY_MIN, in_windows, parse_windows
from needle.profile.document import parse_load
from needle.profile.profile import Profile, derive
from needle.profile.use_process import STATED_TIMES_SPREAD, USE_DAY_SPREAD
from needle.profile.variation import HOURS_A_DAY

_ANY_DAY = datetime(2001, 1, 1, tzinfo=UTC)


def duty_of(profile: Profile, use_h: float = 0.0) -> tuple[float, float, float]:
    """Running W, resting W and duty that reproduce the mean, for a number of hours of use per day.

    Energy that was counted over longer than the use was drawn within the use (``use_h`` 0: always
    in use), up to continuous running. A mean above the running W raises these.
    """
    times = profile.within_use(use_h)
    mean = profile.mean_w.value
    running = max(profile.running_w.value, mean)
    if times > 1:
        mean = min(running, mean * times)
    resting = min(profile.resting_w.value if profile.resting_w else 0.0, mean)
    duty = (mean - resting) / (running - resting) if running > resting else 1.0
    return running, resting, min(1.0, max(0.0, duty))


def use_hours(use: Any) -> float:
    """Hours per day of a use between times of day; 0 for any other use."""
    between = use.get("between") if isinstance(use, dict) else None
    if not isinstance(between, list) or not between:
        return 0.0
    try:
        windows = parse_windows(between, "between", UTC)
    except DocumentError:
        return 0.0  # refused with its place where the use itself is read
    if any(not isinstance(window.start, int) for window in windows):
        return 0.0
    return float(in_windows(windows, _ANY_DAY, DAY_MIN).sum()) / 60


def usual_use(profile: Profile, begin_min: int = 0) -> dict[str, Any] | None:
    """How a load is used according to its evidence; None if nothing is known of its use.

    Parameters
    ----------
    profile : Profile
    begin_min : int
        Minutes after midnight at which its hours begin, if only their number is known.

    Returns
    -------
    dict or None
        Empty for always, else as a plan document's ``use``. What is used less than once a day is
        not known to be used in a plan at all, unless its uses are drawn at any hour.
    """
    if profile.times_per_day is not None and profile.times_per_day < 1:
        return {} if profile.runs_by_uses else None
    if profile.times_per_day is not None and steps_of(profile):
        times = min(100, max(1, round(profile.times_per_day)))
        return {"tasks": times}
    if profile.by_task:
        return None
    hours = profile.hours_per_day
    if hours is None or hours >= HOURS_A_DAY:
        return {}
    minutes = round(hours * 60)
    if minutes < 1:
        return None
    first, last = begin_min % DAY_MIN, (begin_min + minutes) % DAY_MIN
    return {"between": [[_clock(first), _clock(last)]]}


def _clock(minute: int) -> str:
    return f"{minute // 60:02d}:{minute % 60:02d}"


def load_document(profile: Profile, name: str, use: Any = None) -> dict[str, Any]:
    """Return the plan document's entry for a measured load.

    ``use`` as in the document; None, empty or ``"always"`` for always.
    """
    by_task = isinstance(use, dict) and bool(use.get("tasks"))
    runs_by_uses = "uses_per_day" in _use_document(profile, use)
    running, resting, duty = duty_of(profile, use_hours(use))
    task_spread = profile.task_wh.spread if profile.task_wh else profile.running_w.spread
    day_spread = profile.day_spread
    if _is_number_of_uses(profile, use):
        task_spread = math.hypot(task_spread, STATED_TIMES_SPREAD)
        day_spread = max(day_spread, USE_DAY_SPREAD)
    factor = {
        "power_factor": max(0.01, profile.power_factor.value),
        "power_factor_spread": min(1.0, profile.power_factor.spread),
    }
    if profile.va_spread is not None:
        factor["va_spread"] = min(1.0, profile.va_spread)
    shared = {"meter": profile.meter_id, "meter_spread": min(0.5, profile.meter_spread)}
    return {
        "name": name,
        **_use_document(profile, use),
        **({} if profile.dc else factor),
        **(shared if profile.meter else {}),
        "running_w": running,
        "resting_w": resting,
        "duty": duty,
        "cycle_min": _USE_CYCLE_MIN if runs_by_uses else min(10_080.0, max(0.5, profile.cycle_min)),
        "wander": profile.wander,
        "start_va": profile.start_va.value,
        "start_s": profile.start_s,
        "spread": min(2.0, task_spread if by_task else profile.mean_w.spread),
        "watts_spread": min(2.0, profile.running_w.spread),
        "task_spread": min(2.0, task_spread),
        "start_spread": min(3.0, profile.start_va.spread),
        "spread_after": _spread_after(profile, task_spread if by_task else profile.mean_w.spread),
        "day_spread": day_spread,
        "day_swing": profile.day_swing,
        "notices": [as_stored(notice) for notice in profile.notices],
    }


#: Uses are drawn in stretches of hours; within one, they are parted into cycles of so many minutes.
_USE_CYCLE_MIN = 45.0


def _use_document(profile: Profile, use: Any) -> dict[str, Any]:
    """Entries of a load that runs by uses; none for one whose hours are set."""
    if _is_number_of_uses(profile, use):
        return {"runs_by": profile.runs_by, "uses_per_day": float(use["tasks"])}
    if not profile.runs_by_uses or (use and use != "always"):
        return {}
    assert profile.uses is not None
    return {"runs_by": profile.runs_by, "uses_per_day": profile.uses.per_day.value}


def _is_number_of_uses(profile: Profile, use: Any) -> bool:
    """Whether a plan says only how often a day somebody uses it: about so often, some day more."""
    tasks = use.get("tasks") if isinstance(use, dict) else None
    return isinstance(tasks, int) and profile.runs_by in ("person", "water")


def _spread_after(profile: Profile, spread: float) -> float:
    """Relative spread after the next measurement of its mean; unchanged if there is none."""
    of_mean = ["mean"] if duty_of(profile)[2] < 1 else ["mean", "running watts"]
    left = [advice.spread_after for advice in profile.advice if advice.narrows in of_mean]
    return min(2.0, spread, *left)


def steps_of(profile: Profile) -> list[dict[str, float]]:
    """A measured task: the steps of its programme if one was captured, else one step.

    One step has its highest W, against which limits are checked, and is on for the share that
    reproduces its Wh. A programme's steps are lengthened or shortened to the Wh of all tasks. A
    short capture is a task if none was timed; empty without either.
    """
    if profile.task_wh is not None and profile.task_min is not None:
        wh, minutes = profile.task_wh.value, profile.task_min
    elif profile.block is not None and profile.block.minutes:
        wh, minutes = profile.block.wh, profile.block.minutes
    else:
        return []
    steps = profile.programme
    if (programme_wh := sum(step.wh for step in steps)) > 0:
        longer = wh / programme_wh
        return [
            {"watts": step.watts, "minutes": step.minutes * longer, "duty": step.duty}
            for step in steps
        ]
    mean_w = wh / (minutes / 60)
    watts = max(profile.running_w.value, mean_w)
    return [{"watts": watts, "minutes": minutes, "duty": mean_w / watts}]


#: Notice on a load known by single uses without times.
NO_USE = "is known by single uses: say when it is used"


#: What a load's document says of it that only plans use.
_OF_PLANS = ("cares", "wired", "legs")


def with_profile(item: Any, path: str, begin_min: int = 0) -> Any:
    """Return a plan's load with its evidence converted to figures; figures given beside it win.

    Without a use it is used as its evidence says, starting at ``begin_min`` (minutes after
    midnight).

    Raises
    ------
    DocumentError
    """
    if not isinstance(item, dict) or item.get("profile") is None:
        return item
    rest = {key: value for key, value in item.items() if key != "profile"}
    try:
        record = parse_load(item["profile"])
        profile = derive(replace(record, in_hours=use_hours(item.get("use")) > 0))
    except DocumentError as error:
        raise error.under(f"{path}.profile") from None
    use = item.get("use")
    if {"use", "steps", "charge"}.isdisjoint(key for key in item if item[key] is not None):
        use = usual_use(profile, begin_min)
        if use is None:
            raise DocumentError(f"{path}.use", NO_USE)
        use = use or "always"
    measured = {**load_document(profile, record.name, use), "kind": record.kind}
    if use is not None:
        measured["use"] = use
    by_task = isinstance(use, dict) and bool(use.get("tasks"))
    if by_task and "steps" not in rest and (steps := steps_of(profile)):
        measured["steps"] = steps
    if record.set_c is not None:
        measured |= {"set_c": record.set_c, "measured_room_c": profile.measured_room_c}
    measured |= {key: item["profile"][key] for key in _OF_PLANS if key in item["profile"]}
    return {**measured, **rest}
