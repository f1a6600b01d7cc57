"""Mean watts, duty and energy per task, from counters, tallies, charge drops and labels."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from needle.estimate import DEFAULT_SPREAD, Z90, Estimate, pool
from needle.measure.readings import ChargeDrop, EnergyRun, Label, Tally, Task
from needle.profile.states import repeated_spread
from needle.quantity import hours_text, with_unit

LONG_ENOUGH_H = 24.0
ENOUGH_CYCLES = 6
#: Time to note a moment by ear or eye, limits in s.
STOPWATCH_S = 2.0
#: No counter run claims to know the next days better than this.
_LEAST_SPREAD = 0.02
_HOURS_PER_YEAR = 8760.0


@dataclass(frozen=True)
class Cycles:
    """Whole cycles heard or seen.

    Attributes
    ----------
    duty : Estimate
        Share of time running.
    count : int
        Whole cycles.
    period_min : float
        Mean length of one, in minutes.
    more_cycles : int
        How many more would know the duty to ±5 % (10th to 90th percentile).
    """

    duty: Estimate
    count: int
    period_min: float
    more_cycles: int

    @classmethod
    def of(cls, duty: Estimate, count: int, period_min: float) -> Cycles:
        """Work out how many more cycles there must be."""
        wanted = count * (duty.spread * Z90 / 0.05) ** 2
        return cls(duty, count, period_min, max(0, math.ceil(wanted) - count))


def count_error(wh: float, step_wh: float) -> float:
    """Relative limit of a counter's last digit: half a step over what it shows."""
    return 0.5 * step_wh / wh if wh > 0 else math.inf


def hours_to_settle_count(mean_w: float, step_wh: float, limit: float = 0.05) -> float:
    """Hours until half a step of the counter is under ``limit`` of its total, at ``mean_w`` W."""
    return 0.5 * step_wh / (limit * mean_w) if mean_w > 0 else math.inf


def from_counter(runs: Sequence[EnergyRun], cycle_min: float | None) -> Estimate | None:
    """Mean W from energy counters.

    The spread joins the counter's last digit, the meter's accuracy, and how well the span stands
    for other days: 4 % at 24 h or 6 whole cycles, growing as the root of what is missing.
    """
    counted = [run for run in runs if run.wh > 0]
    if not counted:
        return None
    total_h = sum(run.hours for run in counted)
    cycles = 0.0 if cycle_min is None else total_h * 60 / cycle_min
    settled = count_error(sum(r.wh for r in counted), max(r.step_wh for r in counted)) <= 0.05
    enough = (total_h >= LONG_ENOUGH_H or cycles >= ENOUGH_CYCLES) and settled
    grade = "A" if enough else "B"
    pooled = pool([_counter_mean(run, cycle_min, grade) for run in counted], _LEAST_SPREAD)
    return replace(pooled, grade=grade)


def stands_for(hours: float, cycles: float) -> float:
    """How well a span stands for other days, as a relative spread.

    4 % at 24 h or 6 whole cycles, growing as the root of what is missing up to 40 %, shrinking as
    the root of more hours down to 2 %.
    """
    covered = max(hours / LONG_ENOUGH_H, min(1.0, cycles / ENOUGH_CYCLES))
    spread = DEFAULT_SPREAD["A"] / math.sqrt(max(covered, 1e-6))
    return min(DEFAULT_SPREAD["D"], max(_LEAST_SPREAD, spread))


def _counter_mean(run: EnergyRun, cycle_min: float | None, grade: str) -> Estimate:
    cycles = 0.0 if cycle_min is None else run.hours * 60 / cycle_min
    meter = run.context.meter()
    digits = count_error(run.wh, run.step_wh) / math.sqrt(3)
    spread = math.hypot(stands_for(run.hours, cycles), digits, meter.limit / math.sqrt(3))
    mean_w = run.wh / run.hours
    how = (
        f"{with_unit(run.wh, 'Wh')} in {hours_text(run.hours, exact=True)} on a {meter.name}: "
        f"mean {with_unit(mean_w, 'W')}"
    )
    return Estimate(mean_w, spread, grade, (how,))


def from_tallies(tallies: Sequence[Tally]) -> Cycles | None:
    """Duty over whole cycles of all tallies.

    Ratio estimator R = Σon/Σperiod with its standard error (W. G. Cochran, "Sampling Techniques",
    3rd ed., eq. 2.46); with fewer than 3 cycles the default of grade B.
    """
    pairs = sorted(pair for tally in tallies for pair in _whole_cycles(tally))
    if not pairs:
        return None
    on_s = sum(on for on, _ in pairs)
    all_s = sum(period for _, period in pairs)
    count, duty = len(pairs), on_s / all_s
    spread = DEFAULT_SPREAD["B"]
    if count >= 3:
        squares = sum((on - duty * period) ** 2 for on, period in pairs)
        relative = math.sqrt(squares / (count - 1) / count) * count / on_s
        timing = STOPWATCH_S * math.sqrt(2 / 3) * math.sqrt(count) / on_s
        spread = max(_LEAST_SPREAD, math.hypot(relative, timing))
    how = (
        f"{count} whole cycle{'s' if count > 1 else ''} tallied, "
        f"{hours_text(on_s / 3600)} on of {hours_text(all_s / 3600)}: duty {duty:.2f}"
    )
    return Cycles.of(Estimate(duty, spread, "B", (how,), 1.0), count, all_s / count / 60)


def _whole_cycles(tally: Tally) -> list[tuple[float, float]]:
    """(on seconds, period seconds) of each whole cycle, from the first edge's own kind onward.

    Cut-off cycles at the ends would bias the duty, so they are not counted.
    """
    edges = tally.edges
    cycles = []
    for first in range(0, len(edges) - 2, 2):
        (name, start), (_, middle), (_, end) = edges[first : first + 3]
        on_s = middle - start if name == "on" else end - middle
        cycles.append((on_s, end - start))
    return cycles


def from_charge_drop(drop: ChargeDrop) -> Estimate | None:
    """Mean W that a supply's fall in charge implies; None when idle alone explains the fall."""
    fallen = drop.start - drop.end
    mean_w = (drop.supply_wh * fallen / drop.hours - drop.idle_w) * drop.efficiency
    if mean_w <= 0:
        return None
    resolution = drop.step * math.sqrt(2 / 12) / fallen
    spread = math.hypot(DEFAULT_SPREAD["B"], resolution)
    span = hours_text(drop.hours, exact=True)
    how = (
        f"{fallen * 100:.3g} % of {with_unit(drop.supply_wh, 'Wh')} in {span}, "
        f"less {with_unit(drop.idle_w, 'W')} idle: mean {with_unit(mean_w, 'W')}"
    )
    return Estimate(mean_w, spread, "B", (how,))


def from_energy_label(labels: Sequence[Label]) -> Estimate | None:
    """Mean W from an energy label's kWh a year (grade C)."""
    yearly = [label.kwh_per_year for label in labels if label.kwh_per_year]
    if not yearly:
        return None
    kwh = max(yearly)
    mean_w = kwh * 1000 / _HOURS_PER_YEAR
    how = f"energy label {kwh:g} kWh a year: mean {with_unit(mean_w, 'W')}"
    return Estimate(mean_w, DEFAULT_SPREAD["C"], "C", (how,))


def per_task(tasks: Sequence[Task]) -> tuple[Estimate | None, Estimate | None, Estimate | None]:
    """Wh a task, Wh a piece and mean W while the task lasts; each None where unknown."""
    if not tasks:
        return None, None, None
    runs = sum(task.runs for task in tasks)
    grade = "A" if runs >= 2 else "B"
    accuracy = min(task.context.meter().limit for task in tasks) / math.sqrt(3)

    def known(values: list[float], weights: list[float], how: str, unit: str) -> Estimate | None:
        if not values:
            return None
        spread = max(
            repeated_spread(values, accuracy, DEFAULT_SPREAD["B"]),
            DEFAULT_SPREAD["A"] / math.sqrt(max(1.0, runs / 2)),
        )
        if runs >= 2 and len(values) == 1:
            spread = DEFAULT_SPREAD["A"]
        value = sum(v * w for v, w in zip(values, weights, strict=True)) / sum(weights)
        return Estimate(value, spread, grade, (f"{how} {with_unit(value, unit)}",))

    ordered = sorted(tasks, key=lambda task: (task.wh, task.minutes or 0.0, task.pieces or 0.0))
    times = f"{runs} task{'s' if runs > 1 else ''} measured:"
    timed = [task for task in ordered if task.minutes]
    pieced = [task for task in ordered if task.pieces]
    return (
        known([t.wh / t.runs for t in ordered], [t.runs for t in ordered], times, "Wh"),
        known(
            [t.wh / (t.pieces or 1) for t in pieced],
            [t.pieces or 1 for t in pieced],
            f"{times} a piece",
            "Wh",
        ),
        known(
            [t.wh * 60 / (t.minutes or 1) for t in timed],
            [t.minutes or 1 for t in timed],
            f"{times} mean while it lasts",
            "W",
        ),
    )
