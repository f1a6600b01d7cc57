"""How an outage stands that is under way: how long, what helps, and what may be switched on."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

import numpy as np

from needle.document import DocumentError
from needle.message import Message, message
from needle.moments import moment_after
from needle.percentiles import range_of
from needle.plan.draws.patterns import mean_w
from needle.plan.load import PlanLoad
from needle.plan.plan import Plan
from needle.plan.sources.registry import ChargeWindow
from needle.trial.expected import expected_of
from needle.trial.prediction import Forecast, Range
from needle.trial.trial import MOST_H, Trial
from needle.trial.trial_filter import TrialFilter
from needle.watch.course import QUARTER_MIN, QUARTERS_PER_HOUR, Course, course_of
from needle.watch.not_run import never_run, not_run_notices
from needle.watch.standing import Ahead, Standing, standing_of
from needle.watch.starts import StartNow, start_now

#: Hours for which a charger is proposed, and minutes of a use where its length is not known.
CHARGE_H, USE_MIN = 2.0, 15.0
#: Parts of the likely hours left after which a charger is tried.
CHARGE_PARTS = (0.0, 0.25, 0.5, 0.75, 0.9)
#: Longest look ahead beyond the hour needed, h.
MOST_AHEAD_H = 48.0
#: W below which a load draws nothing that matters.
IDLE_W = 0.5
#: Most of the musts' chance that anything else may take from one look to the next.
MOST_RISK = 0.02
#: Hours within which a check-in is of now.
SAME_H = 1e-3
#: Least hours, and least part of a chance, that a change is worth being named for.
LEAST_H, LEAST_CHANCE = 0.1, 0.02
#: Share of particles in which the sun must carry a use for it to cost nothing.
CARRIED_BY_SUN = 0.5


@dataclass(frozen=True)
class WatchHelp:
    """A change from here on, and what it gains.

    Attributes
    ----------
    kind : str
        ``"leave-off"`` or ``"charge"``.
    name : str
        The load, or the source.
    gained_h : Range
        Hours until the stop that it adds, paired draw by draw; 10th, 50th, 90th percentile.
    chance, chance_musts : float
        Chance that everything that is on, and that the musts reach the hour needed, with it.
    said : Message
    caution : Message or None
    from_h : float or None
        Hour of the trial at which a charger begins.
    """

    kind: str
    name: str
    gained_h: Range
    chance: float
    chance_musts: float
    said: Message
    caution: Message | None = None
    from_h: float | None = None

    @property
    def rank(self) -> tuple[float, float, float]:
        """Sort key: the musts first, then all that is on, then hours."""
        return round(self.chance_musts, 2), round(self.chance, 2), self.gained_h[1]


@dataclass(frozen=True)
class MaySwitchOn:
    """Whether a load may be switched on now, and what one use of it costs at the end.

    Attributes
    ----------
    load : str
    minutes : float
        Length of the use.
    start : StartNow
    cost_h : Range
        Hours that it takes from the end.
    chance, chance_after : float
        Chance that everything that is on reaches the hour needed, without and with it.
    chance_musts, chance_musts_after : float or None
        The same where only the musts stay on; None where none is on.
    takes_from_musts : bool
        Whether it is no must, and leaves them less than is safe.
    free_at_h : float or None
        Hour of the trial from which on sources likely carry it; None if not in sight.
    """

    load: str
    minutes: float
    start: StartNow
    cost_h: Range
    chance: float
    chance_after: float
    chance_musts: float | None
    chance_musts_after: float | None
    takes_from_musts: bool
    free_at_h: float | None


class Watch:
    """An outage at an hour; what it is asked is answered on the same particles.

    Attributes
    ----------
    trial : Trial
    needed_h : float
        Hours from its start until which it is needed.
    hour : float
        Now, hours from its start.
    on : list of str
        Loads that are on.
    forecast : Forecast
    chance, chance_musts : float
        Chance that everything that is on, and that the musts alone, reach the hour needed.
    """

    def __init__(self, trial: Trial, hour: float, needed_h: float, seed: int = 1) -> None:
        """Follow a trial up to an hour.

        Raises
        ------
        DocumentError
            It has no plan, or has ended.
        """
        if trial.plan is None:
            raise DocumentError("plan", "is needed: a watch follows the loads of a plan")
        if trial.ended is not None:
            raise DocumentError("ended", "it has ended: there is nothing left to watch")
        if not 0 <= hour <= MOST_H:
            raise DocumentError("h", f"{hour:g} h is not within a trial: 0 to {MOST_H:g}")
        self.trial, self.needed_h, self.seed = trial, needed_h, seed
        expected = expected_of(trial, seed=seed)
        most_h = min(MOST_H, max(hour, needed_h) + MOST_AHEAD_H)
        followed = TrialFilter(trial, expected, seed, most_h)
        followed.assimilate_check_ins(
            tuple(check_in for check_in in trial.check_ins if check_in.h <= hour + SAME_H)
        )
        followed.advance_to(max(hour, followed.hour))
        self.hour = followed.hour
        names = [load.name for load in trial.plan.loads]
        self.mostly_dropped = expected.mostly_dropped
        self.on = names if followed.on_now is None else [n for n in names if n in followed.on_now]
        self.forecast: Forecast = followed.forecast()
        stops, _ = followed.run_ahead()
        self.chance = float(followed.particles.weight @ (stops >= needed_h - 1e-9))
        self.course: Course = course_of(trial.plan, expected.draws, seed)
        self.standing: Standing = standing_of(followed, self.course)
        self._ahead: Ahead = self.standing.ahead(self._look_h())
        self._base_h, self._musts_h = self._stops(self.on), self._stops(self.musts)
        self.chance_musts = self._chance(self._musts_h)

    @property
    def plan(self) -> Plan:
        """The plan as simulated."""
        return self.course.plan

    @property
    def notices(self) -> list[Message]:
        """What does not run, and remarks on the forecast."""
        return [*not_run_notices(self.cannot_run), *self.forecast.notices]

    @property
    def cannot_run(self) -> dict[str, str]:
        """Loads that are on and that the supply drops in most draws: their names and the reason."""
        return {name: why for name, why in self.mostly_dropped.items() if name in self.on}

    def announced(self, off: Collection[str]) -> list[str]:
        """Loads that are on and whose steps are announced: not those that go off or never run."""
        never = never_run(self.cannot_run)
        return [name for name in self.on if name not in off and name not in never]

    @property
    def musts(self) -> list[str]:
        """Loads that are on and stay on: musts, what is protected, and what is hard-wired."""
        return [load.name for load in self.plan.loads if load.stays_on and load.name in self.on]

    def load(self, name: str) -> PlanLoad:
        """A load of the plan.

        Raises
        ------
        DocumentError
            The plan has none of that name.
        """
        for load in self.plan.loads:
            if load.name == name:
                return load
        raise DocumentError("load", f"“{name[:60]}” is no load of its plan")

    def watts(self, name: str) -> Range:
        """W of a load in the next hour if it is on, on its route."""
        columns = self._ahead.columns[:QUARTERS_PER_HOUR]
        drawn = self.course.loads_w[name][self.standing.rows][:, columns].mean(axis=1)
        return range_of(drawn * self.standing.level)

    def may_run(self, until_h: float) -> list[str]:
        """Loads that may run until a later look, so that the musts are still safe after it.

        First all that is on or began on, else without the nice ones, else the musts: the first that
        leaves the musts the chance that the plan wants, and takes hardly anything of what they have
        now, if only they run from that look on.
        """
        began = self.trial.on
        wanted = [
            load
            for load in self.plan.loads
            if load.name in self.on or began is None or load.name in began
        ]
        without_nice = [load for load in wanted if load.stays_on or not load.may_be_dropped]
        look = self._quarters_until(until_h)
        musts_w = self._ahead.drawn_w(self.musts)
        for loads in (wanted, without_nice):
            names = [load.name for load in loads]
            drawn_w = np.concatenate(
                [self._ahead.drawn_w(names)[:, :look], musts_w[:, look:]], axis=1
            )
            stops = self._ahead.stop_h(self._ahead.charge(drawn_w))
            if self._safe(self._chance(stops, self._musts_h, self.chance_musts)):
                return names
        return self.musts

    def _safe(self, chance_musts: float) -> bool:
        """Whether the musts keep the chance that is wanted, and nearly all of what they have."""
        return chance_musts >= max(self.plan.wanted_chance, self.chance_musts - MOST_RISK)

    def switches(self, until_h: float) -> tuple[list[str], list[str]]:
        """What should go off now, and what may come on again, until a later look.

        Only loads that would draw something until then.
        """
        may = self.may_run(until_h)
        columns = self._ahead.columns[: self._quarters_until(until_h)]
        draws = [
            load.name
            for load in self.plan.loads
            if float(self.course.loads_w[load.name][:, columns].max()) > IDLE_W
        ]
        off = [name for name in draws if name in self.on and name not in may]
        return off, [name for name in draws if name in may and name not in self.on]

    def _quarters_until(self, hour: float) -> int:
        return max(1, round((hour - self.hour) * QUARTERS_PER_HOUR))

    def helps(self) -> list[WatchHelp]:
        """Changes that lengthen it or raise a chance, the most useful first."""
        found = [*self._leave_off(), *self._charge()]
        worth = [
            each
            for each in found
            if each.gained_h[1] >= LEAST_H or each.chance - self.chance >= LEAST_CHANCE
        ]
        return sorted(worth, key=lambda each: each.rank, reverse=True)

    def may(self, name: str, minutes: float | None = None) -> MaySwitchOn:
        """Whether a load may be switched on now.

        ``minutes`` is the length of the use; its usual one if None.

        Raises
        ------
        DocumentError
            The plan has no such load.
        """
        load = self.load(name)
        length = _use_min(load) if minutes is None else minutes
        more_w = self._use_w(load, length)
        stops = self._stops(self.on, -more_w)
        musts = musts_after = None
        if self.musts:
            musts, musts_h = self.chance_musts, self._stops(self.musts, -more_w)
            musts_after = self._chance(musts_h, self._musts_h, musts)
        return MaySwitchOn(
            load=name,
            minutes=length,
            start=start_now(self.plan, self.hour, self.on, load, self.seed),
            cost_h=_gained(stops, self._base_h, self._end_h),
            chance=self.chance,
            chance_after=self._chance(stops),
            chance_musts=musts,
            chance_musts_after=musts_after,
            takes_from_musts=(
                musts_after is not None and not load.stays_on and not self._safe(musts_after)
            ),
            free_at_h=self._free_at_h(load),
        )

    def _look_h(self) -> float:
        """Hours ahead that matter: past the hour needed, and past the latest likely stop.

        A supply that lasts for weeks is not followed to its end, unless it is needed for so long.
        """
        until_stop = min(MOST_AHEAD_H, self.forecast.stop_h[2] - self.hour)
        return max(1.0, 1 + max(self.needed_h - self.hour, until_stop))

    @property
    def _end_h(self) -> float:
        return self.hour + self._ahead.hours

    def _stops(self, on: Collection[str], more_fed_w: np.ndarray | float = 0.0) -> np.ndarray:
        """Hour of each particle's stop if these loads are on; inf if not in sight."""
        ahead = self._ahead
        return ahead.stop_h(ahead.charge(ahead.drawn_w(on), more_fed_w))

    def _chance(
        self,
        stops: np.ndarray,
        base_h: np.ndarray | None = None,
        chance: float | None = None,
    ) -> float:
        """Chance of the hour needed: that of the base, moved by the paired difference.

        The base is what is on, with the forecast's own chance, unless others are given.
        """
        base_h = self._base_h if base_h is None else base_h
        reached = float((stops >= self.needed_h - 1e-9).mean())
        before = float((base_h >= self.needed_h - 1e-9).mean())
        return min(1.0, max(0.0, (self.chance if chance is None else chance) + reached - before))

    def _leave_off(self) -> Iterator[WatchHelp]:
        """Each load that may go off; never a must, a life, or contents that must be kept."""
        for load in self.plan.loads:
            if load.name in self.on and not load.stays_on:
                rest = [name for name in self.on if name != load.name]
                stops = self._stops(rest)
                yield WatchHelp(
                    "leave-off",
                    load.name,
                    _gained(self._base_h, stops, self._end_h),
                    self._chance(stops),
                    self.chance_musts,
                    message("leave-off", load=load.name),
                )

    def _charge(self) -> Iterator[WatchHelp]:
        """Each of the plan's chargers, for some hours from when they help most."""
        for source in self.plan.sources:
            if isinstance(source, ChargeWindow):
                left_h = max(0.0, self.forecast.stop_h[1] - self.hour)
                starts = {round(2 * part * left_h) / 2 for part in CHARGE_PARTS}
                proposed = [self._charged(source, self.hour + later) for later in sorted(starts)]
                yield max(proposed, key=lambda each: each.rank)

    def _charged(self, source: ChargeWindow, from_h: float) -> WatchHelp:
        """A charger for some hours from an hour on."""
        more_w = self._charger_w(source, from_h)
        stops = self._stops(self.on, more_w)
        litres = source.watts * CHARGE_H / 1000 * source.litres_per_kwh
        begins = self.plan.start
        return WatchHelp(
            "charge",
            source.name,
            _gained(self._base_h, stops, self._end_h),
            self._chance(stops),
            self._chance(self._stops(self.musts, more_w), self._musts_h, self.chance_musts),
            message(
                "charge-from",
                source=source.name,
                hours=CHARGE_H,
                at=moment_after(begins, from_h),
                begins=begins,
            ),
            message("burns-fuel", litres=litres) if litres > 0 else None,
            from_h,
        )

    def _charger_w(self, source: ChargeWindow, from_h: float) -> np.ndarray:
        """W of a charger for some hours, where it does not run already, (1, quarters)."""
        minutes, most_w = self.course.quarters * QUARTER_MIN, min(source.watts, source.limit_w)
        by_hours = source.power_w(self.plan.start, minutes).reshape(-1, QUARTER_MIN).mean(axis=1)
        columns = self._ahead.columns
        later_h = np.arange(len(columns)) / QUARTERS_PER_HOUR - (from_h - self.hour)
        runs = (later_h >= 0) & (later_h < CHARGE_H)
        more_w = np.where(runs, np.maximum(0.0, most_w - by_hours[columns]), 0.0)
        return np.asarray(more_w)[None]

    def _use_w(self, load: PlanLoad, minutes: float) -> np.ndarray:
        """W at the battery of one use that begins now, (particles, quarters).

        As uncertain as the load's own watts and the conversion are.
        """
        rows = self.standing.rows
        watts = mean_w(load, self.course.inputs)[rows] * load.count
        from_now_min = np.arange(len(self._ahead.columns)) * QUARTER_MIN
        share = np.clip((minutes - from_now_min) / QUARTER_MIN, 0.0, 1.0)
        return np.asarray(watts[:, None] / self.course.passes(load.route, rows) * share)

    def _free_at_h(self, load: PlanLoad) -> float | None:
        """Hour from which on sources likely carry a load beside all that is on."""
        watts = (
            load.draw.running_w * load.count / self.course.passes(load.route, self.standing.rows)
        )
        over = self._ahead.fed_w - self._ahead.drawn_w(self.on) >= watts
        often = np.flatnonzero(over.mean(axis=0) >= CARRIED_BY_SUN)
        return self.hour + often[0] / QUARTERS_PER_HOUR if len(often) else None


def _use_min(load: PlanLoad) -> float:
    """Length of one use, min."""
    if load.use.steps:
        return load.use.task_min
    if load.use.charge is not None:
        return 60 * load.use.charge.wall_wh / load.use.charge.watts
    return USE_MIN if load.use.uses_per_day is not None else 60.0


def _gained(before: np.ndarray, after: np.ndarray, end_h: float) -> Range:
    """Hours that stops lie later, paired; what lies beyond the look counts as its end."""
    return range_of(np.minimum(after, end_h) - np.minimum(before, end_h))
