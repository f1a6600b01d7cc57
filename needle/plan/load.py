"""A load as a plan uses it: what it draws, when it is used, and how uncertain both are."""

from __future__ import annotations

from dataclasses import dataclass, replace

from needle.decide.starting import StartTried
from needle.message import Message
from needle.moments import Moment, Window
from needle.profile.energy import Watched
from needle.profile.kinds import KINDS

PRIORITIES = ("must", "should", "nice")
AC = "ac"


@dataclass(frozen=True)
class TaskStep:
    """One step of a task: W, minutes, and the share of these minutes that it is on."""

    watts: float
    minutes: float
    duty: float = 1.0


@dataclass(frozen=True)
class Charge:
    """A battery pack to charge: Wh, share missing, charging efficiency, and W while charging."""

    pack_wh: float
    missing: float
    efficiency: float
    watts: float

    @property
    def wall_wh(self) -> float:
        """Energy from the outlet for one charge, Wh."""
        return self.pack_wh * self.missing / self.efficiency


@dataclass(frozen=True)
class Setting:
    """Another setting of a load: its name, and its W and duty there."""

    name: str
    running_w: float
    duty: float


@dataclass(frozen=True)
class LoadSpreads:
    """How uncertain a load's figures are: relative spreads.

    Attributes
    ----------
    mean : float
        Of its mean draw.
    watts : float
        Of the running W, which limits are checked against.
    duty : float or None
        Of the duty, if the mean is computed from watts and duty; None if the mean itself was
        measured (then ``mean`` applies).
    task : float
        Of a task's energy.
    start : float
        Of the start-up VA.
    day : float
        Relative sd of a single day's mean about the long-run mean.
    power_factor : float
    va : float or None
        Of the running VA where VA were measured; the power factor is then drawn as W over VA. None
        where W and power factor were measured separately.
    meter : float
        The part that all readings of the same meter share.
    adapter : float
        Of the share that is left without its adapter.
    after : float or None
        Of its mean, duty or task after the next measurement; None for that of grade A.
    """

    mean: float = 0.0
    watts: float = 0.0
    duty: float | None = None
    task: float = 0.0
    start: float = 0.0
    day: float = 0.0
    power_factor: float = 0.0
    va: float | None = None
    meter: float = 0.0
    adapter: float = 0.0
    after: float | None = None


@dataclass(frozen=True)
class LoadThermal:
    """What a load's use depends on in temperatures.

    Attributes
    ----------
    set_c, measured_room_c, measured_set_c : float or None
        Set point, and the room and set point at which the duty was measured, °C; the latter None
        where it is the same.
    pull_down_wh : float
        Extra energy, once at the start, to cool down warm contents without cycling off, Wh.
    """

    set_c: float | None = None
    measured_room_c: float | None = None
    measured_set_c: float | None = None
    pull_down_wh: float = 0.0


@dataclass(frozen=True)
class LoadDraw:
    """What a load draws while it is in use.

    Attributes
    ----------
    running_w, resting_w : float
        W.
    duty : float
        Share of time running while in use.
    cycle_min : float
        Length of a cycle, min.
    power_factor : float
        Share.
    power_factor_known : bool
        Whether a power factor is known; without one, W are added to other loads' VA as they are.
    start_va : float
        Start-up VA; running VA if no start-up value is known.
    start_s : float
        Duration of the start-up surge, s.
    day_swing : float
        Relative amplitude of the swing over a day.
    wander : float
        How its W wander within the hour, relative sd.
    volts : float or None
        Supply voltage that it needs, V; None if any will do.
    adapter : float
        Share of its W that it draws on a DC route, without the loss of its AC adapter.
    """

    running_w: float
    resting_w: float = 0.0
    duty: float = 1.0
    cycle_min: float = 40.0
    power_factor: float = 1.0
    power_factor_known: bool = True
    start_va: float = 0.0
    start_s: float = 0.3
    day_swing: float = 0.0
    wander: float = 0.0
    volts: float | None = None
    adapter: float = 1.0

    def times(self, ratio: float) -> LoadDraw:
        """The same with its W scaled, running and resting."""
        return replace(self, running_w=self.running_w * ratio, resting_w=self.resting_w * ratio)

    @property
    def mean_w(self) -> float:
        """Mean W by its duty."""
        return self.resting_w + self.duty * (self.running_w - self.resting_w)


@dataclass(frozen=True)
class LoadUse:
    """When a load is used.

    Attributes
    ----------
    windows : tuple of Window
        Times of use; empty means always, unless it has tasks or charges.
    moments : tuple of Moment
        Start times of its tasks or charges.
    steps : tuple of TaskStep
        Steps of one task.
    charge : Charge or None
        The pack that is charged at each of ``moments``.
    flexible : tuple of Window
        Windows in which its tasks may be rescheduled; empty if they must not be.
    alone : bool
        Whether its tasks must not overlap with other tasks that can be rescheduled.
    runs_by : str
        Who decides when it runs, a key of :data:`needle.profile.kinds.RUNS_BY`; empty if unknown.
    uses_per_day : float or None
        Mean number of uses a day, if it runs by uses at uncertain times.
    """

    windows: tuple[Window, ...] = ()
    moments: tuple[Moment, ...] = ()
    steps: tuple[TaskStep, ...] = ()
    charge: Charge | None = None
    flexible: tuple[Window, ...] = ()
    alone: bool = False
    runs_by: str = ""
    uses_per_day: float | None = None

    def times(self, ratio: float) -> LoadUse:
        """The same with the W of its task's steps scaled."""
        steps = tuple(replace(step, watts=step.watts * ratio) for step in self.steps)
        return replace(self, steps=steps)

    @property
    def by_moments(self) -> bool:
        """Whether there are tasks or charges instead of hours of use."""
        return bool(self.steps) or self.charge is not None

    @property
    def task_min(self) -> float:
        """Duration of one task, min; 0 without tasks."""
        return sum(step.minutes for step in self.steps)

    @property
    def task_wh(self) -> float:
        """Energy of one task, Wh."""
        return sum(step.watts * step.duty * step.minutes for step in self.steps) / 60


@dataclass(frozen=True)
class PlanLoad:
    """A load as the plan uses it.

    Attributes
    ----------
    name : str
    draw : LoadDraw
    use : LoadUse
    route : str
        ``"ac"`` or the name of an output.
    meter : str
        The meter that read it.
    spreads : LoadSpreads
    thermal : LoadThermal
    priority : str
        One of :data:`PRIORITIES`.
    count : int
        Number of identical loads; each cycles independently.
    tried : StartTried or None
        Its newest start test on this supply.
    can : tuple of str
        Other routes that it could be connected to.
    settings : tuple of Setting
        Other settings that it has.
    safety_class : str
        One of :data:`needle.profile.kinds.SAFETY_CLASSES`.
    wired : bool
        Whether it is hard-wired: it has no plug, and is for licensed hands.
    both_legs : bool
        Whether it runs on both legs of split mains, on twice the volts of an outlet.
    purpose : bool
        Whether the plan exists for this load; no advice leaves it off.
    kind : str
        Key of :data:`needle.profile.kinds.KINDS`; empty where it is not known.
    notices : tuple of str or Message
        Remarks on its evidence.
    id : str
        Seed of its random streams, so that renaming a load changes no draw; empty: its name.
    """

    name: str
    draw: LoadDraw
    use: LoadUse = LoadUse()
    route: str = AC
    priority: str = "should"
    count: int = 1
    tried: StartTried | None = None
    can: tuple[str, ...] = ()
    settings: tuple[Setting, ...] = ()
    safety_class: str = ""
    wired: bool = False
    both_legs: bool = False
    purpose: bool = False
    meter: str = ""
    spreads: LoadSpreads = LoadSpreads()
    thermal: LoadThermal = LoadThermal()
    kind: str = ""
    notices: tuple[str | Message, ...] = ()
    id: str = ""

    @property
    def watched(self) -> Watched:
        """Assumed behaviour between readings; without a kind, from whether it cycles."""
        kind = KINDS[self.kind or ("thermostat-heat" if self.draw.duty < 1 else "electronics")]
        return Watched(kind, self.spreads.day, self.draw.cycle_min, self.draw.duty)

    @property
    def thermostatic(self) -> bool:
        """Whether it catches up afterwards on what it missed during a power cut."""
        return self.draw.duty < 1 and not self.use.by_moments and not self.use.windows

    @property
    def protected(self) -> bool:
        """Whether a life depends on it, or contents that must stay in their temperature range."""
        return self.safety_class in ("life", "store")

    @property
    def must_run(self) -> bool:
        """Whether an inverter switched off during its use is a failure."""
        return self.priority == "must" or self.protected

    @property
    def stays_on(self) -> bool:
        """Whether advice never switches it off: a must, protected, or hard-wired."""
        return self.must_run or self.wired

    @property
    def read_in_panel(self) -> bool:
        """Whether no plug meter fits it: it is read in the panel, by a licensed electrician."""
        return self.wired or self.both_legs

    @property
    def may_be_dropped(self) -> bool:
        """Whether the plan succeeds without it: it is nice to have, and not protected."""
        return self.priority == "nice" and not self.protected

    @property
    def mean_w(self) -> float:
        """Mean W of one load while in use."""
        if self.use.steps:
            return self.use.task_wh / (self.use.task_min / 60)
        if self.use.charge is not None:
            return self.use.charge.watts
        return self.draw.mean_w

    @property
    def most_w(self) -> float:
        """Highest W of one load while it is on."""
        if self.use.charge is not None:
            return self.use.charge.watts
        return max((step.watts for step in self.use.steps), default=self.draw.running_w)
