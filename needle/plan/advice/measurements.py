"""Which measurement narrows the answer most, and what a supply's display would promise."""

from __future__ import annotations

import math
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np

from needle.estimate import DEFAULT_SPREAD
from needle.plan.draws.inputs import (
    CAPACITY,
    LOAD,
    LOAD_DUTY,
    LOAD_START,
    LOAD_TASK,
    MEASURABLE,
    InputKey,
)
from needle.plan.energy.simulate import Outcome
from needle.plan.load import AC
from needle.plan.plan import Plan, feeds
from needle.plan.verdict import verdict_of
from needle.supply.battery import usable_wh

#: What a measurement could say, as standard normal outcomes of equal chance.
_OUTCOMES = tuple(NormalDist().inv_cdf((index + 0.5) / 9) for index in range(9))
#: A measurement that takes less of the range is not worth telling.
LEAST_SHARE = 0.03
#: Chances between which it is in doubt whether a plan holds; the least part of it worth telling.
DOUBTFUL, LEAST_SETTLED = (0.1, 0.9), 0.08
#: Part of that doubt from which a measurement is said to decide it.
DECIDES = 0.2
#: What a drain counted at the battery leaves of what it holds (a monitor's 1 %, a repeat).
_CAPACITY_AFTER = 0.025
#: Share of a spread below which too few draws would carry the weight.
_NARROWEST = 0.2
#: Odds of failing at a start between which a start test says something.
_OPEN = (0.05, 0.95)


@dataclass(frozen=True)
class Narrowing:
    """How much one better measurement would narrow the answer's range.

    Attributes
    ----------
    key : InputKey
        The input that is measured.
    share : float
        Share of the runtime's variance that it removes. For a start test, which leaves the range
        as it is: the share of draws that fail by that start.
    range_h, range_h_after : float
        Width of the runtime's range, h: now, and after the measurement.
    settles : float
        Share of the doubt whether the plan holds that it removes; 0 if there is little doubt.
    """

    key: InputKey
    share: float
    range_h: float
    range_h_after: float
    settles: float = 0.0

    @property
    def gain(self) -> float:
        """What it is worth: the part of the range, or of the doubt, that it removes."""
        narrowed = 1 - self.range_h_after / self.range_h if self.range_h > 0 else 0.0
        return max(narrowed, self.settles)

    @property
    def what(self) -> str:
        return self.key.words


def measure_next(outcome: Outcome) -> list[Narrowing]:
    """Rank measurements by what they remove of the runtime's range, or of the doubt of the plan.

    A measurement that leaves a share r of an input's spread has one of several results. For each
    result the draws are weighted by how well they fit it, and the range of the weighted draws is
    computed; the mean over the results is the expected range (pre-posterior analysis: H. Raiffa and
    R. Schlaifer, "Applied Statistical Decision Theory", 1961, ch. 4). It uses the outcome's own
    draws, so it assumes nothing about how the answer depends on the input.
    """
    settles = _start_test(outcome)
    low, _, high = outcome.runtime
    width, runtime = high - low, outcome.runtime_h
    if width <= 0 or float(np.std(runtime)) < 1e-9 or len(runtime) < 10:
        return settles
    left = _spreads_after(outcome.plan)
    order = np.argsort(runtime)
    holds = outcome.holds.astype(float)
    doubtful = DOUBTFUL[0] < outcome.chance < DOUBTFUL[1]
    narrowings = []
    for key, normals in outcome.inputs.normals.items():
        spread = outcome.inputs.spreads[key]
        after = left.get(key) or DEFAULT_SPREAD["A"]
        if key.kind not in MEASURABLE or spread <= 1.1 * after:
            continue
        decides = doubtful and _matters(holds, normals)
        if not decides and not _matters(runtime, normals):
            continue
        rest = max(_NARROWEST, math.sqrt(math.log1p(after**2) / math.log1p(spread**2)))
        width_after, share = _left_of(runtime[order], normals[order], rest)
        settled = _left_of(holds[order], normals[order], rest)[1] if decides else 0.0
        narrows = share > LEAST_SHARE and width_after < width * (1 - LEAST_SHARE / 2)
        if narrows or settled > LEAST_SETTLED:
            narrowings.append(Narrowing(key, share, width, min(width, width_after), settled))
    narrowings.sort(key=lambda narrowing: (-narrowing.gain, narrowing.what))
    return settles + narrowings


def _spreads_after(plan: Plan) -> dict[InputKey, float | None]:
    """Relative spread of each input after a measurement; None for that of grade A."""
    left: dict[InputKey, float | None] = {InputKey(CAPACITY): _CAPACITY_AFTER}
    for load in plan.loads:
        for kind in (LOAD, LOAD_DUTY, LOAD_TASK):
            left[InputKey(kind, load.name)] = load.spreads.after
    return left


def _matters(runtime: np.ndarray, normals: np.ndarray) -> bool:
    """Whether a runtime depends on an input by more than chance, linearly or quadratically.

    The test is the share of variance that a parabola explains: 2/n of n independent draws on
    average, and more than 14/n once in a thousand.
    """
    terms = np.vander(normals, 3)
    fitted = terms @ np.linalg.lstsq(terms, runtime, rcond=None)[0]
    explained = float(np.var(fitted) / np.var(runtime))
    return explained > max(LEAST_SHARE, 14 / len(runtime))


def _left_of(runtime: np.ndarray, normals: np.ndarray, rest: float) -> tuple[float, float]:
    """Expected range after an input's spread falls to ``rest``, and the share of variance removed.

    ``runtime`` is sorted, and ``normals`` is in its order.
    """
    before = float(np.var(runtime))
    widths, variances = [], []
    for outcome in _OUTCOMES:
        middle = outcome * math.sqrt(1 - rest**2)
        # How much likelier each draw became: the new density over the old.
        fits = np.exp(normals**2 / 2 - ((normals - middle) / rest) ** 2 / 2)
        weights = fits / fits.sum()
        reached = np.cumsum(weights) - weights / 2
        low, high = np.interp((0.1, 0.9), reached, runtime)
        mean = float(weights @ runtime)
        widths.append(float(high - low))
        variances.append(float(weights @ (runtime - mean) ** 2))
    return float(np.mean(widths)), 1 - float(np.mean(variances)) / before


def _start_test(outcome: Outcome) -> list[Narrowing]:
    """A start test of the first failure, if its result is uncertain."""
    failure = verdict_of(outcome).first_failure
    if failure is None or failure.why != "start" or not _OPEN[0] < failure.chance < _OPEN[1]:
        return []
    low, _, high = outcome.runtime
    key = InputKey(LOAD_START, failure.load)
    return [Narrowing(key, failure.chance, high - low, high - low)]


def _idle_w(plan: Plan) -> float:
    """Likely idle draw of the inverter and outputs that are on, W."""
    parts = {output.name: output for output in plan.supply.outputs} | {AC: plan.supply.inverter}
    return sum(
        part.idle_w.value
        for route, part in parts.items()
        if part is not None and (feeds(plan, route) or not part.off_unused)
    )


def display_hours(plan: Plan) -> tuple[float, float] | None:
    """Hours that a supply's display would promise between cycles and while everything runs.

    A display divides the remaining energy by the present power, so both promises are wrong. While
    everything runs, all loads are on. Between cycles, only loads without a thermostat that are
    always on count, or else the smallest load alone. None if nothing draws power.
    """
    supply = plan.supply
    left = usable_wh(supply.battery).value
    idle_w = _idle_w(plan)
    passes = {output.name: output.efficiency.value for output in supply.outputs}
    if supply.inverter is not None:
        passes[AC] = supply.inverter.efficiency.value
    fed = [load for load in plan.loads if load.route in passes]
    working = [load.count * load.draw.running_w / passes[load.route] for load in fed]
    resting = [
        load.count
        * (load.draw.running_w if load.draw.duty >= 1 else load.draw.resting_w)
        / passes[load.route]
        for load in fed
        if not load.use.windows and not load.use.by_moments
    ]
    at_work_w = idle_w + sum(working)
    at_rest_w = idle_w + sum(resting)
    if at_rest_w <= 0:
        at_rest_w = min((watts for watts in working if watts > 0), default=0.0)
    if at_rest_w <= 0 or at_work_w <= 0:
        return None
    return left / at_rest_w, left / at_work_w
