"""Start matrix: whether each load starts on each inverter, with all the others running."""

from __future__ import annotations

import math
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from needle.decide.start_draws import Running, Start
from needle.decide.starting import StartTried, Verdict, holds_above
from needle.estimate import Estimate
from needle.message import Message, message
from needle.profile.kinds import Kind
from needle.supply.inverter import Inverter
from needle.supply.supply import Supply

#: A modified sine's effect, by what a load is.
MOTOR_ON_STEPS = message("motor-on-steps")
DRIVE_ON_STEPS = message("drive-on-steps")
#: Below this charge a start that is bound to fail is worth a word.
WORTH_A_WORD = 0.05


#: Draws of a start.
DRAWS = 400


@dataclass(frozen=True)
class Contender:
    """A load in the matrix.

    Attributes
    ----------
    name : str
    kind : Kind
    running_w : Estimate
        Power of its highest state, W.
    start_va : Estimate
        Start-up VA.
    start_s : float
        Duration of the start-up surge, s.
    power_factor : Estimate
        Power factor while running.
    count : int
        Number of identical loads.
    volts : float or None
        Supply voltage that it needs, V.
    id : str
        Seed of its draws, so that renaming it changes no draw; empty: its name.
    """

    name: str
    kind: Kind
    running_w: Estimate
    start_va: Estimate
    start_s: float
    power_factor: Estimate
    count: int = 1
    volts: float | None = None
    id: str = ""

    def start(self) -> Start:
        """Its start in random draws, seeded by its name: the same on every inverter."""
        drawn = _drawn(self)
        return Start(
            va=drawn.start_va,
            running_w=drawn.running_w,
            grey=drawn.grey,
            start_s=self.start_s,
            power_factor=self.power_factor.value,
            nonactive=drawn.nonactive,
            volts=self.volts,
        )

    def beside(self, running: Running, count: int) -> Running:
        """The running loads with ``count`` more of it; negative for fewer."""
        drawn = _drawn(self)
        return running.with_load(drawn.running_w * count, True, drawn.nonactive)


@dataclass(frozen=True)
class _Drawn:
    running_w: np.ndarray
    start_va: np.ndarray
    nonactive: np.ndarray
    grey: np.ndarray


@lru_cache(maxsize=512)
def _drawn(load: Contender) -> _Drawn:
    """A load in random draws, (draws,) each; cached, as every inverter and other load uses it."""
    grey, start, watts, factor = (
        _normals(load.id or load.name, what) for what in ("grey", "start", "watts", "power factor")
    )
    running_w = _factors(load.running_w, watts)
    power_factor = np.minimum(1.0, _factors(load.power_factor, factor))
    return _Drawn(
        running_w=running_w,
        start_va=np.maximum(_factors(load.start_va, start), running_w),
        nonactive=np.sqrt(1 / power_factor**2 - 1),
        grey=np.argsort(np.argsort(grey)) / DRAWS,
    )


def _normals(name: str, what: str) -> np.ndarray:
    rng = np.random.default_rng([zlib.crc32(name.encode()), zlib.crc32(what.encode())])
    return rng.standard_normal(DRAWS)


def _factors(estimate: Estimate, normals: np.ndarray) -> np.ndarray:
    return estimate.value * np.exp(normals * math.sqrt(math.log1p(estimate.spread**2)))


@dataclass(frozen=True)
class Cell:
    """A load on an inverter.

    Attributes
    ----------
    alone : Verdict
    planned : Verdict or None
        With the loads that run at the worst moment of its use in the plan; None if it is not in the
        plan, or if those alone are too much.
    ticked : Verdict or None
        With all other chosen loads; None if there are none.
    too_much : bool
        Whether the chosen loads exceed the inverter without any start.
    warnings : tuple of str
        Warnings about the waveform and about a nearly empty battery.
    """

    alone: Verdict
    planned: Verdict | None
    ticked: Verdict | None
    too_much: bool
    warnings: tuple[Message, ...]

    @property
    def verdict(self) -> Verdict:
        """The most relevant verdict: in the plan, else with all chosen loads, else alone."""
        return self.planned or (self.alone if self.too_much else self.ticked) or self.alone


@dataclass(frozen=True)
class Row:
    """A row of the matrix.

    Attributes
    ----------
    load : Contender
    tried : tuple of StartTried or None
        Its newest start test on each supply.
    planned : tuple of Contender or None
        What runs at the worst moment of its use in the plan; None if it is not in the plan.
    """

    load: Contender
    tried: tuple[StartTried | None, ...]
    planned: tuple[Contender, ...] | None = None


@lru_cache(maxsize=32)
def cells_of_rows(
    rows: tuple[Row, ...], ticked: tuple[Contender, ...], supplies: tuple[Supply, ...]
) -> tuple[list[Cell], ...]:
    """Return the verdicts of each row on each supply; those asked for last are kept.

    Parameters
    ----------
    rows : tuple of Row
    ticked : tuple of Contender
        The chosen loads, which run together.
    supplies : tuple of Supply
        With inverters.
    """
    together = all_of(ticked)
    # Many loads meet the same others at their worst.
    planned = {row.planned: all_of(row.planned) for row in rows if row.planned is not None}
    cells = []
    for row in rows:
        beside = None
        if row.planned is not None:
            beside = others_of(row.load, row.planned, planned[row.planned]) or all_of([])
        others = others_of(row.load, ticked, together)
        cells.append(
            _cells_of(row.load, others, beside, tuple(zip(supplies, row.tried, strict=True)))
        )
    return tuple(cells)


def _cells_of(
    load: Contender,
    ticked: Running | None,
    planned: Running | None,
    supplies: Sequence[tuple[Supply, StartTried | None]],
) -> list[Cell]:
    """Return the verdicts of one load on several supplies with inverters and start tests.

    Parameters
    ----------
    load : Contender
    ticked, planned : Running or None
        The other chosen loads, and the other loads at the plan's worst moment.
    supplies : sequence of (Supply, StartTried or None)
    """
    start, nothing = load.start(), Running.nothing(DRAWS)
    tried_on = []
    for supply, tried in supplies:
        assert supply.inverter is not None
        tried_on.append((supply.inverter, tried))
    alone = start.beside(nothing).verdicts(tried_on)
    in_plan, with_ticked = (
        None if running is None else start.beside(running) for running in (planned, ticked)
    )
    # A sum that an inverter does not carry whatever the start is said once, of all.
    plan_counts = [
        in_plan is not None and not too_much(inverter, in_plan.others) for inverter, _ in tried_on
    ]
    nowhere: list[Verdict | None] = [None] * len(tried_on)
    as_planned = in_plan.verdicts(tried_on) if in_plan else nowhere
    as_ticked = with_ticked.verdicts(tried_on) if with_ticked else nowhere
    counts_w = (planned or ticked or nothing).usual_w
    return [
        Cell(
            alone=alone[n],
            planned=as_planned[n] if plan_counts[n] else None,
            ticked=as_ticked[n],
            too_much=with_ticked is not None and too_much(inverter, with_ticked.after),
            warnings=_warnings(load, supplies[n][0], inverter, counts_w),
        )
        for n, (inverter, _) in enumerate(tried_on)
    ]


def _warnings(
    load: Contender, supply: Supply, inverter: Inverter, others_w: float
) -> tuple[Message, ...]:
    """Warnings about an inverter's waveform, and about a battery that sags during a start."""
    warnings = []
    if inverter.waveform == "stepped" and load.kind.motor:
        warnings.append(MOTOR_ON_STEPS)
    elif inverter.waveform == "stepped" and load.kind.electronic:
        warnings.append(DRIVE_ON_STEPS)
    beside_w = others_w if carries(inverter, others_w + load.running_w.value) else 0.0
    asked = (load.start_va.value, load.running_w.value, beside_w)
    least = holds_above(*asked, supply.battery, inverter)
    if least is not None and least > max(WORTH_A_WORD, supply.battery.floor):
        warnings.append(
            message("battery-gives-way")
            if least >= 1.0
            else message("start-needs-charge", least=least)
        )
    return tuple(warnings)


def others_of(load: Contender, several: Sequence[Contender], together: Running) -> Running | None:
    """What runs besides one of a load; None if nothing does.

    ``together`` is the sum of ``several``, which may include the load.
    """
    count = sum(other.count for other in several) - any(other == load for other in several)
    if count <= 0:
        return None
    return load.beside(together, -1) if load in several else together


def all_of(several: Sequence[Contender]) -> Running:
    """The sum of several running loads."""
    running = Running.nothing(DRAWS)
    for contender in several:
        running = contender.beside(running, contender.count)
    return running


def too_much(inverter: Inverter, running: Running) -> bool:
    """Whether the running sum likely exceeds an inverter's limits for any time at all."""
    return (
        running.usual_w > inverter.continuous_w * inverter.most_times
        or running.usual_va > inverter.continuous_va * inverter.most_times
    )


def carries(inverter: Inverter, running_w: float) -> bool:
    """Whether an inverter supports a running sum, W, for any time at all."""
    return running_w <= inverter.continuous_w * inverter.most_times
