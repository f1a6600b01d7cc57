"""A load's readings in one setting, by type."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TypeVar

from needle.measure.readings import (
    AssumedDuty,
    ChargeDrop,
    EnergyRun,
    Label,
    Reading,
    Recorded,
    ShortRun,
    Start,
    Tally,
    Task,
)
from needle.profile import energy, recorded
from needle.profile.kinds import Kind
from needle.profile.variation import HOURS_A_DAY, day_spread

_T = TypeVar("_T")


@dataclass(frozen=True)
class Evidence:
    """Readings of one setting.

    Attributes
    ----------
    kind : Kind
    readings : tuple of Reading
        Readings of the setting, and readings without a setting.
    never_rarer : bool
        Whether the user states that it has no rare state, such as a defrost.
    dc : bool
        Whether it runs directly on DC, without an adapter.
    in_panel : bool
        Whether no plug meter fits it: it is hard-wired, or on both legs of split mains.
    """

    kind: Kind
    readings: tuple[Reading, ...]
    never_rarer: bool = False
    dc: bool = False
    in_panel: bool = False

    @property
    def meter(self) -> str:
        """Where a meter reads it: ``plug``, ``dc`` (in its DC line), or ``panel``."""
        if self.dc:
            return "dc"
        return "panel" if self.in_panel else "plug"

    def of(self, kind: type[_T]) -> list[_T]:
        return of_type(self.readings, kind)

    @cached_property
    def runs(self) -> list[EnergyRun]:
        return energy.without_read_on(self.of(EnergyRun))

    @cached_property
    def labels(self) -> list[Label]:
        return self.of(Label)

    @cached_property
    def drops(self) -> list[ChargeDrop]:
        return self.of(ChargeDrop)

    @cached_property
    def captures(self) -> list[Recorded]:
        return self.of(Recorded)

    @cached_property
    def assumed(self) -> AssumedDuty | None:
        """The duty that was assumed last."""
        return next(iter(reversed(self.of(AssumedDuty))), None)

    @cached_property
    def short_runs(self) -> list[ShortRun]:
        return self.of(ShortRun)

    @cached_property
    def tasks(self) -> list[Task]:
        short = [run.as_task() for run in self.short_runs]
        return self.of(Task) + short + recorded.tasks_of(self.captures)

    @cached_property
    def starts(self) -> list[Start]:
        return self.of(Start) + recorded.starts_of(self.captures)

    @cached_property
    def tallied(self) -> energy.Cycles | None:
        return energy.from_tallies(self.of(Tally))

    @cached_property
    def cycles(self) -> energy.Cycles | None:
        """The best known cycles: from a capture, else from a tally."""
        return recorded.cycles_of(self.captures) or self.tallied

    @property
    def by_task(self) -> bool:
        """Whether it is measured by task rather than by hours of use."""
        return bool(self.tasks) and not self.runs

    @cached_property
    def watched(self) -> energy.Watched:
        """Assumed behaviour between readings."""
        seen = [
            (capture.days, capture.day_spread)
            for capture in self.captures
            if capture.day_spread is not None
        ]
        duty = self.kind.duty[1] if self.kind.duty else 1.0
        return energy.Watched(
            kind=self.kind,
            day_spread=day_spread(self.kind, seen),
            cycle_min=self.cycles.period_min if self.cycles else self.kind.cycle_min,
            duty=self.cycles.duty.value if self.cycles else duty,
        )

    @cached_property
    def longest_h(self) -> float:
        """Longest uninterrupted measurement of its energy, h."""
        spans = [run.hours for run in self.runs] + [capture.covered_h for capture in self.captures]
        return max(spans, default=0.0)

    @property
    def longest_seen_h(self) -> float:
        """Longest capture, h; a counter does not show what it counted."""
        return max((capture.covered_h for capture in self.captures), default=0.0)

    @property
    def rarer_settled(self) -> bool:
        """Whether a rare state was recorded, or would have been."""
        seen = any(capture.rarer for capture in self.captures)
        return self.never_rarer or seen or self.longest_h >= HOURS_A_DAY


def of_type(readings: Sequence[Reading], kind: type[_T]) -> list[_T]:
    return [reading for reading in readings if isinstance(reading, kind)]
