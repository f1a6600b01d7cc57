"""A measured load as a plan document has it."""

from __future__ import annotations

from typing import Any

from needle.document import DocumentError
from needle.profile.document import parse_load
from needle.profile.profile import Profile, derive


def duty_of(profile: Profile) -> tuple[float, float, float]:
    """Running W, resting W, and the duty that the mean asks for.

    A mean that lies above the running watts lifts them: the energy is what the mean says.
    """
    mean = profile.mean_w.value
    running = max(profile.running_w.value, mean)
    resting = min(profile.resting_w.value if profile.resting_w else 0.0, mean)
    duty = (mean - resting) / (running - resting) if running > resting else 1.0
    return running, resting, min(1.0, max(0.0, duty))


def load_document(profile: Profile, name: str, by_task: bool = False) -> dict[str, Any]:
    """What a plan document says of a measured load, all but how it is used.

    ``by_task``: it is used by tasks, whose steps may be entered.
    """
    running, resting, duty = duty_of(profile)
    task_spread = profile.task_wh.spread if profile.task_wh else profile.running_w.spread
    factor = {
        "power_factor": max(0.01, profile.power_factor.value),
        "power_factor_spread": min(1.0, profile.power_factor.spread),
    }
    shared = {"meter": profile.meter, "meter_spread": min(0.5, profile.meter_spread)}
    return {
        "name": name,
        **({} if profile.dc else factor),
        **(shared if profile.meter else {}),
        "running_w": running,
        "resting_w": resting,
        "duty": duty,
        "cycle_min": min(10_080.0, max(0.5, profile.cycle_min)),
        "start_va": profile.start_va.value,
        "start_s": profile.start_s,
        "spread": min(2.0, task_spread if by_task else profile.mean_w.spread),
        "watts_spread": min(2.0, profile.running_w.spread),
        "task_spread": min(2.0, task_spread),
        "start_spread": min(3.0, profile.start_va.spread),
        "spread_after": _spread_after(profile, task_spread if by_task else profile.mean_w.spread),
        "day_spread": profile.day_spread,
        "day_swing": profile.day_swing,
    }


def _spread_after(profile: Profile, spread: float) -> float:
    """What the next measurement of its mean would leave; all of it where there is none to make."""
    of_mean = ["mean"] if duty_of(profile)[2] < 1 else ["mean", "running watts"]
    left = [advice.spread_after for advice in profile.advice if advice.narrows in of_mean]
    return min(2.0, spread, *left)


def steps_of(profile: Profile) -> list[dict[str, float]]:
    """A measured task as one step: its highest W, on for the share that its Wh ask for.

    Limits then see the highest W, and the battery the energy. Empty where no task was timed.
    """
    if profile.task_wh is None or profile.task_min is None:
        return []
    mean_w = profile.task_wh.value / (profile.task_min / 60)
    watts = max(profile.running_w.value, mean_w)
    return [{"watts": watts, "minutes": profile.task_min, "duty": mean_w / watts}]


def with_profile(item: Any, path: str) -> Any:
    """A plan's load that is given by its evidence, spelt out; what stands beside it comes first.

    Raises
    ------
    DocumentError
    """
    if not isinstance(item, dict) or item.get("profile") is None:
        return item
    rest = {key: value for key, value in item.items() if key != "profile"}
    try:
        record = parse_load(item["profile"])
        profile = derive(record)
    except DocumentError as error:
        raise error.under(f"{path}.profile") from None
    use = item.get("use")
    by_task = isinstance(use, dict) and bool(use.get("tasks"))
    measured = {**load_document(profile, record.name, by_task), "kind": record.kind}
    if by_task and "steps" not in rest and (steps := steps_of(profile)):
        measured["steps"] = steps
    if record.set_c is not None:
        measured |= {"set_c": record.set_c, "measured_room_c": profile.measured_room_c}
    return {**measured, **rest}
