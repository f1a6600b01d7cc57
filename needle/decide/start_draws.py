"""A start beside the loads that run already, in every random draw."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from needle.decide.starting import (
    StartTried,
    Verdict,
    as_tested,
    carried_va,
    fits_volts,
    rating_va,
    required_va,
    start_as_tried,
    start_factor,
    times_rating,
    will_it_start,
    word_by_odds,
)
from needle.message import message
from needle.percentiles import median
from needle.supply.inverter import Inverter


@dataclass(frozen=True)
class Running:
    """Running loads, in every draw, (draws,) each.

    Attributes
    ----------
    watts, nonactive_va : ndarray
        W and non-active VA of loads with a known power factor.
    plain_w : ndarray
        W of the others, which are added to VA as they are.
    """

    watts: np.ndarray
    nonactive_va: np.ndarray
    plain_w: np.ndarray

    @classmethod
    def nothing(cls, draws: int) -> Running:
        return cls(np.zeros(draws), np.zeros(draws), np.zeros(draws))

    def with_load(self, watts: np.ndarray, known: bool, nonactive: np.ndarray | None) -> Running:
        """The sum with another load: W, whether its power factor is known, non-active VA per W."""
        if not known:
            return Running(self.watts, self.nonactive_va, self.plain_w + watts)
        more = 0.0 if nonactive is None else watts * nonactive
        return Running(self.watts + watts, self.nonactive_va + more, self.plain_w)

    @cached_property
    def all_w(self) -> np.ndarray:
        return np.asarray(self.watts + self.plain_w)

    @cached_property
    def va(self) -> np.ndarray:
        return np.asarray(np.hypot(self.watts, self.nonactive_va) + self.plain_w)

    @cached_property
    def usual_w(self) -> float:
        """Median W over draws."""
        return median(self.all_w)

    @cached_property
    def usual_va(self) -> float:
        """Median VA over draws."""
        return median(self.va)


@dataclass(frozen=True)
class Start:
    """A start in every draw.

    Attributes
    ----------
    va, running_w, grey : ndarray, (draws,)
        Start-up VA, running W, and a rank that decides grey starts.
    start_s : float
    power_factor : float or None
        None if unknown.
    nonactive : ndarray or None
        Non-active VA per W while running.
    volts : float or None
        Supply voltage that it needs, V.
    """

    va: np.ndarray
    running_w: np.ndarray
    grey: np.ndarray
    start_s: float
    power_factor: float | None = None
    nonactive: np.ndarray | None = None
    volts: float | None = None

    @cached_property
    def usual_va(self) -> float:
        return median(self.va)

    @cached_property
    def usual_running_w(self) -> float:
        return median(self.running_w)

    def beside(self, others: Running) -> StartBeside:
        return StartBeside(self, others)


@dataclass(frozen=True)
class StartBeside:
    """A start together with running loads, computed once for all inverters."""

    start: Start
    others: Running

    @cached_property
    def required_va(self) -> np.ndarray:
        """VA needed during the start, (draws,)."""
        others, factor = self.others, start_factor(self.start.power_factor)
        return required_va(self.start.va, factor, others.watts, others.nonactive_va, others.plain_w)

    @cached_property
    def usual_asks_va(self) -> float:
        return median(self.required_va)

    @cached_property
    def after(self) -> Running:
        """What runs after the start."""
        start = self.start
        known = start.power_factor is not None
        return self.others.with_load(start.running_w, known, start.nonactive)

    def verdict(self, inverter: Inverter, tried: StartTried | None = None) -> Verdict:
        """Whether it starts, by medians, by the chance over draws, and by a start test."""
        return self.verdicts([(inverter, tried)])[0]

    def verdicts(self, tried_on: Sequence[tuple[Inverter, StartTried | None]]) -> list[Verdict]:
        """Whether it starts on each of some inverters, each with its start test."""
        if not tried_on:
            return []
        chances = self._chances([inverter for inverter, _ in tried_on])
        return [
            self._verdict(inverter, tried, chance)
            for (inverter, tried), chance in zip(tried_on, chances, strict=True)
        ]

    def _chances(self, inverters: Sequence[Inverter]) -> list[float]:
        """Share of the draws that start on each inverter, if nobody has tried it."""
        start = self.start
        ratings_va = np.array([rating_va(inverter, start.start_s) for inverter in inverters])
        limits_va = ratings_va[:, None] * times_rating(start.start_s, start.grey)
        return self._shares_within(limits_va, inverters)

    def _shares_within(self, limits_va: np.ndarray, inverters: Sequence[Inverter]) -> list[float]:
        """Share of the draws that each inverter carries, at their start and while they run.

        ``limits_va`` are the VA above which a start trips, (inverters, draws).
        """
        times, rated_w, rated_va = np.array(
            [(one.most_times, one.continuous_w, one.continuous_va) for one in inverters]
        ).T[:, :, None]
        most_w, most_va = rated_w * times, rated_va * times
        runs = (self.after.all_w <= most_w + 1e-6) & (self.after.va <= most_va + 1e-6)
        starts = np.count_nonzero((self.required_va <= limits_va) & runs, axis=1)
        return [int(number) / runs.shape[1] for number in starts]

    def _verdict(self, inverter: Inverter, tried: StartTried | None, chance: float) -> Verdict:
        """Its verdict on one inverter, on which it has this chance if nobody has tried it."""
        start, usual_w = self.start, self.others.usual_w
        computed = will_it_start(
            start.usual_va, start.start_s, start.usual_running_w, usual_w, inverter
        )
        if not fits_volts(start.volts, inverter):
            reason = message("other-inverter-volts", wants_v=start.volts, gives_v=inverter.volts)
            return Verdict("trips", computed.limit_va, computed.margin_va, reason, 0.0)
        if tried is not None and tried.settles(usual_w):
            return as_tested(computed, tried, usual_w)
        if tried is not None:
            untested = carried_va(inverter, start.va, start.start_s, start.grey)
            return self._as_tried(inverter, tried, start_as_tried(start.va, untested, tried))
        return self._by_odds(inverter, computed, chance)

    def _as_tried(self, inverter: Inverter, tried: StartTried, va: np.ndarray) -> Verdict:
        """The verdict if the test does not settle it, with start-up VA conditioned on the test."""
        known, usual_w = replace(self, start=replace(self.start, va=va)), self.others.usual_w
        computed = will_it_start(
            known.start.usual_va,
            known.start.start_s,
            known.start.usual_running_w,
            usual_w,
            inverter,
        )
        limit_va = carried_va(inverter, va, self.start.start_s, self.start.grey, tried)
        chance = known._shares_within(limit_va[None], [inverter])[0]
        return as_tested(known._by_odds(inverter, computed, chance), tried, usual_w)

    def _by_odds(self, inverter: Inverter, computed: Verdict, chance: float) -> Verdict:
        """The computed verdict with the chance over draws."""
        limit_va, reason = computed.limit_va, computed.reason
        margin_va = min(computed.margin_va, limit_va - self.usual_asks_va)
        running_va, rated_va = self.after.usual_va, inverter.continuous_va
        if computed.verdict != "trips" and running_va > rated_va * inverter.most_times:
            limit_va, margin_va = rated_va, rated_va - running_va
            reason = message("over-continuous-va", va=running_va, carried_va=rated_va)
        word = word_by_odds(computed.verdict, chance)
        return Verdict(word, limit_va, margin_va, reason, chance)
