"""When a trial will stop: the plan is the prior, the present leg's check-ins are the data.

What is unknown: the share of its label that the battery holds, where its display bends, and how
many times the expected W are really drawn. The first two lie on a grid; at each of its points the
Wh drawn and the level of the present leg are followed by a Kalman filter (R. Kalman 1960, J. Basic
Eng. 82, 35), and the points are weighed by how well they foretold each check-in (Bayes). The stop
is then drawn from all of them together.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from needle.document import DocumentError
from needle.supply.display import KNEE, LAST_FIFTH, slope, true_charge
from needle.supply.voltage import open_circuit_v
from needle.trial.trial import CheckIn, Trial

#: Points of the grid: shares held, and knees.
_HELD_POINTS, _KNEE_POINTS = 151, 5
#: How far below and above what is believed the held share is looked for (logarithm): batteries are
#: worn more often than they are better than they say.
_HELD_REACH = (0.6, 0.25)
#: Weight and width of the tails: a belief is sometimes far off.
_TAIL, _TAIL_WIDTH = 0.05, 4.0
_DRAWS = 4000
#: Energy of an hour strays by so much of itself (cycles, doors), one standard deviation; of t hours
#: by so much times √t. The level itself wanders by so much of itself in an hour.
STRAY, WANDER = 0.05, 0.01
#: How far a new leg's level may differ from the last one's, relative.
LEG_SPREAD = 0.4
#: A display's ±1 %, a counter's 1 %, volts of a chemistry's table, W read at one moment: one sd.
DISPLAY_SD, COUNTER_SD, VOLTS_SD, MOMENT_SD = 0.008, 0.01, 0.012, 0.6
#: Mean volts under load over nominal volts, of Ah counted, one sd.
AH_VOLTS_SD = 0.01
#: Without any expectation: hours that a full battery is taken to last, and the spread of that.
_BLIND_H, _BLIND_SPREAD = 24.0, 1.5
#: A charge that rises by more than this without a source is asked about, share.
RISE = 0.015

Range = tuple[float, float, float]


@dataclass(frozen=True)
class Leg:
    """Part of a trial under like conditions: from h, its mean W at the battery, its name."""

    from_h: float
    mean_w: float
    name: str


@dataclass(frozen=True)
class Forecast:
    """What a trial comes to; ranges are 10th, 50th and 90th percentile.

    Attributes
    ----------
    stop_h : Range
        Hours from the start to the stop.
    now_h : float
        The moment that it speaks of: the last check-in, or the end.
    mean_w : Range
        W at the battery in the present leg.
    level : Range
        What is drawn in the present leg over what was expected; 1 is as expected.
    used_wh : float
        Wh drawn so far.
    charge : Range
        True charge now, share of what the battery holds.
    legs : list of Leg
    state_of_health : Range or None
        Share of the label that it held; None until the end tells.
    held_wh : Range
        Wh between full and empty.
    ended_h : float or None
    display_error_h : float or None
        Mean of how far the display's promises were from the end, h.
    fan : list of (h, low, mid, high)
        True charge foreseen, share.
    notices : list of str
    """

    stop_h: Range
    now_h: float
    mean_w: Range
    level: Range
    used_wh: float
    charge: Range
    legs: list[Leg]
    state_of_health: Range | None
    held_wh: Range
    ended_h: float | None
    display_error_h: float | None
    fan: list[tuple[float, float, float, float]]
    notices: list[str] = field(default_factory=list)

    @property
    def remaining_h(self) -> Range:
        """Hours left from now."""
        low, mid, high = (max(0.0, hours - self.now_h) for hours in self.stop_h)
        return low, mid, high


class _Expected:
    """Wh that were expected to be drawn by an hour, and the hour by which so many are."""

    def __init__(self, trial: Trial) -> None:
        held = trial.battery.nominal_wh * trial.battery.state_of_health.value
        hourly = np.array(trial.expected_w or (held / _BLIND_H,))
        self.spread = trial.expected_spread if trial.expected_w else _BLIND_SPREAD
        self.mean_w = float(hourly.mean())
        # A plan's hour with more from sources than drawn does not run the clock backwards.
        hourly = np.maximum(hourly, 0.02 * self.mean_w)
        self.hours = np.arange(len(hourly) + 1, dtype=float)
        self.wh = np.concatenate([[0.0], np.cumsum(hourly)])

    def by(self, hour: np.ndarray | float) -> np.ndarray:
        inside = np.interp(hour, self.hours, self.wh)
        return inside + np.maximum(0.0, np.asarray(hour) - self.hours[-1]) * self.mean_w

    def hour_of(self, wh: np.ndarray) -> np.ndarray:
        inside = np.interp(wh, self.wh, self.hours)
        return inside + np.maximum(0.0, wh - self.wh[-1]) / self.mean_w


class _Filter:
    """Wh drawn and level of the leg at every point of the grid, and the points' weights."""

    def __init__(self, trial: Trial, expected: _Expected) -> None:
        believed = trial.battery.state_of_health
        knees = np.linspace(*KNEE, _KNEE_POINTS)
        off = np.linspace(-_HELD_REACH[0], _HELD_REACH[1], _HELD_POINTS)
        self.spacing = float(off[1] - off[0])
        off, self.knee = (grid.ravel() for grid in np.meshgrid(off, knees))
        self.factor = believed.value * np.exp(off)
        self.held_wh = self.factor * trial.battery.nominal_wh
        count = len(off)
        sd = max(believed.sigma_log, self.spacing)
        core, tail = (np.exp(-0.5 * (off / width) ** 2) / width for width in (sd, _TAIL_WIDTH * sd))
        self.log_weight = np.log((1 - _TAIL) * core + _TAIL * tail + 1e-300)
        self.expected = expected
        self.hour = 0.0
        self.wh, self.level = np.zeros(count), np.ones(count)
        self.wh_var, self.cross = np.zeros(count), np.zeros(count)
        self.level_var = np.full(count, expected.spread**2)
        self.start = true_charge(trial.start_charge, self.knee)

    @property
    def weight(self) -> np.ndarray:
        weight = np.exp(self.log_weight - self.log_weight.max())
        return weight / weight.sum()

    def advance(self, hour: float) -> None:
        """Let time pass to an hour."""
        span = hour - self.hour
        if span <= 0:
            return
        wh = float(self.expected.by(hour) - self.expected.by(self.hour))
        stray = (STRAY * wh * np.maximum(self.level, 0.05)) ** 2 / span
        self.wh_var = self.wh_var + 2 * wh * self.cross + wh**2 * self.level_var + stray
        self.cross = self.cross + wh * self.level_var
        self.wh = self.wh + wh * self.level
        self.level_var = self.level_var + (WANDER * self.level) ** 2 * span
        self.hour = hour

    def see_wh(self, wh: np.ndarray | float, sd: np.ndarray | float) -> None:
        """Take in a reading of the Wh drawn so far."""
        self._update(np.asarray(wh) - self.wh, np.asarray(sd) ** 2, 1.0)

    def see_charge(self, charge: np.ndarray, sd: np.ndarray | float) -> None:
        """Take in a reading of the true charge (share)."""
        self.see_wh((self.start - charge) * self.held_wh, sd * self.held_wh)

    def see_volts(self, volts: float, nominal_v: float, chemistry: str) -> None:
        """Take in the terminals' volts: by the slope of the chemistry's table where it now is."""
        charge = np.clip(self.start - self.wh / self.held_wh, 0.0, 1.0)
        at, near = (open_circuit_v(chemistry, nominal_v, one) for one in (charge, charge - 0.02))
        steep = np.maximum(1e-9, (at - near) / 0.02) / self.held_wh
        self._update(at - volts, np.asarray((VOLTS_SD * volts) ** 2), steep)

    def see_watts(self, watts: float) -> None:
        """Take in the W of one moment: it may be any moment of a cycle."""
        rate = max(1e-9, float(self.expected.by(self.hour + 0.5) - self.expected.by(self.hour)) * 2)
        off = watts / rate - self.level
        total = self.level_var + (MOMENT_SD * np.maximum(watts / rate, self.level)) ** 2
        gain_wh, gain_level = self.cross / total, self.level_var / total
        self.wh = self.wh + gain_wh * off
        self.level = self.level + gain_level * off
        self.wh_var = self.wh_var - gain_wh * self.cross
        self.cross = self.cross * (1 - gain_level)
        self.level_var = self.level_var * (1 - gain_level)

    def _update(self, off: np.ndarray, noise: np.ndarray, steep: np.ndarray | float) -> None:
        """One measurement that grows by ``steep`` with each Wh drawn."""
        total = steep**2 * self.wh_var + noise
        self.log_weight = self.log_weight - 0.5 * (off**2 / total + np.log(total))
        gain_wh, gain_level = self.wh_var * steep / total, self.cross * steep / total
        self.wh = self.wh + gain_wh * off
        self.level = self.level + gain_level * off
        self.level_var = np.maximum(1e-12, self.level_var - gain_level * steep * self.cross)
        self.cross = self.cross * (1 - gain_wh * steep)
        self.wh_var = np.maximum(0.0, self.wh_var * (1 - gain_wh * steep))

    def new_leg(self) -> None:
        """Forget most of the level: conditions changed."""
        self.level_var = self.level_var + (LEG_SPREAD * self.level) ** 2
        self.cross = np.zeros_like(self.cross)


def forecast(trial: Trial, seed: int = 1) -> Forecast:
    """Forecast the stop of a trial, or say what it proved once it ended.

    Parameters
    ----------
    trial : Trial
    seed : int
        Of the draws; the same seed gives the same answer.

    Raises
    ------
    DocumentError
        Nothing to go by: neither an expectation nor a check-in.
    """
    telling = [check_in for check_in in trial.check_ins if _tells(check_in)]
    if not trial.expected_w and not telling and trial.ended is None:
        raise DocumentError("expected_w", "is needed until the first check-in")
    expected = _Expected(trial)
    bank = _Filter(trial, expected)
    notices: list[str] = []
    legs = _follow(trial, bank, notices)
    stop: np.ndarray | float = trial.stop_at
    if any(check_in.shown is not None for check_in in trial.check_ins):
        stop = true_charge(trial.stop_at, bank.knee)
    stop_wh = (bank.start - stop) * bank.held_wh
    if trial.ended is not None:
        _see_end(trial, bank, stop_wh)
    else:
        _still_running(bank, stop_wh)
    return _forecast_from(
        trial, bank, expected, stop_wh, legs, notices, np.random.default_rng(seed)
    )


def _tells(one: CheckIn) -> bool:
    return any(value is not None for value in (one.shown, one.ah, one.wh, one.volts, one.watts))


def _follow(trial: Trial, bank: _Filter, notices: list[str]) -> list[Leg]:
    """Take in all check-ins; returns the legs before the present one, and its begin."""
    battery = trial.battery
    legs, begin, name = [], (0.0, 0.0), "start"
    last_shown, counted = trial.start_charge, 0.0
    for check_in in trial.check_ins:
        bank.advance(check_in.h)
        if check_in.shown is not None:
            if check_in.shown > last_shown + _step(check_in) + RISE:
                notices.append(
                    f"At {check_in.h:g} h the charge rose from {last_shown * 100:.3g} to "
                    f"{check_in.shown * 100:.3g} %: was it charged? Kept as a note, not counted."
                )
            else:
                last_shown = check_in.shown
                step = _step(check_in)
                bank.see_charge(
                    true_charge(check_in.shown, bank.knee),
                    np.hypot(step / np.sqrt(12), DISPLAY_SD) * slope(check_in.shown, bank.knee),
                )
        wh = check_in.wh
        sd = COUNTER_SD
        if wh is None and check_in.ah is not None and battery.volts:
            wh, sd = check_in.ah * battery.volts, float(np.hypot(COUNTER_SD, AH_VOLTS_SD))
        if wh is not None and wh < counted - 1.0:
            notices.append(f"At {check_in.h:g} h the counter fell: was it reset? Not counted.")
        elif wh is not None:
            counted = wh
            bank.see_wh(wh, sd * wh + 0.002 * battery.nominal_wh)
        if check_in.volts is not None and battery.volts:
            bank.see_volts(check_in.volts, battery.volts, battery.chemistry)
        if check_in.watts:
            bank.see_watts(check_in.watts)
        if check_in.leg is not None:
            wh_now = float(bank.weight @ bank.wh)
            if check_in.h > begin[0]:
                legs.append(Leg(begin[0], (wh_now - begin[1]) / (check_in.h - begin[0]), name))
            begin, name = (check_in.h, wh_now), check_in.leg
            bank.new_leg()
    legs.append(Leg(begin[0], begin[1], name))
    shown = [check_in.shown for check_in in trial.check_ins if check_in.shown is not None]
    if shown and shown[-1] <= LAST_FIFTH + 0.05:
        notices.append("The last fifth of a display often goes faster than it says.")
    return legs


def _step(one: CheckIn) -> float:
    """Last digit of a displayed charge, share."""
    return 0.01 if one.percent is not None or not one.of else 1.0 / one.of


def _see_end(trial: Trial, bank: _Filter, stop_wh: np.ndarray) -> None:
    assert trial.ended is not None
    bank.advance(trial.ended.h)
    if trial.ended.why == "cutoff":
        bank.see_wh(bank.start * bank.held_wh, 0.01 * bank.held_wh)
    elif trial.ended.why == "floor":
        bank.see_wh(stop_wh, 0.01 * bank.held_wh)


def _still_running(bank: _Filter, stop_wh: np.ndarray) -> None:
    """That it has not stopped yet speaks against points at which it would have."""
    from scipy.special import log_ndtr

    sd = np.sqrt(np.maximum(bank.wh_var, (0.01 * bank.held_wh) ** 2))
    bank.log_weight = bank.log_weight + log_ndtr((stop_wh - bank.wh) / sd)


def _forecast_from(
    trial: Trial,
    bank: _Filter,
    expected: _Expected,
    stop_wh: np.ndarray,
    legs: list[Leg],
    notices: list[str],
    rng: np.random.Generator,
) -> Forecast:
    """Draw from the weighed points, and put it into figures."""
    weight = bank.weight
    picked = np.searchsorted(np.cumsum(weight), (np.arange(_DRAWS) + rng.random()) / _DRAWS)
    picked = np.minimum(picked, len(weight) - 1)
    level_sd = np.sqrt(bank.level_var[picked])
    level_z, wh_z, stray_z = (rng.standard_normal(_DRAWS) for _ in range(3))
    level = bank.level[picked] + level_sd * level_z
    level = np.maximum(level, 0.05 * max(1e-6, float(weight @ bank.level)))
    tied = bank.cross[picked] / np.maximum(level_sd, 1e-9)
    own = np.sqrt(np.maximum(0.0, bank.wh_var[picked] - tied**2))
    wh = np.maximum(0.0, bank.wh[picked] + tied * level_z + own * wh_z)
    # Between the points of the grid what it holds is anything.
    spread = np.exp(bank.spacing * (rng.random(_DRAWS) - 0.5))
    now, held = bank.hour, bank.held_wh[picked] * spread
    left = np.maximum(0.0, stop_wh[picked] * spread - wh)
    rate = level * expected.mean_w
    ahead = left / rate
    strayed = left * (1 + WANDER * np.sqrt(ahead / 3) * stray_z)
    strayed += STRAY * rate * np.sqrt(ahead) * rng.standard_normal(_DRAWS)
    stops = expected.hour_of(expected.by(now) + np.maximum(0.0, strayed) / level)
    ended = trial.ended
    stop_h = _range(np.maximum(stops, now)) if ended is None else (ended.h, ended.h, ended.h)
    charge = np.clip(bank.start[picked] - wh / held, 0.0, 1.0)
    used = float(np.median(wh))
    begin = legs.pop()
    span = now - begin.from_h
    own_wh = expected.by(now) - expected.by(begin.from_h)
    if span > 0.25:
        scale = float(own_wh) / span
    else:
        scale = float(expected.by(now + 24) - expected.by(now)) / 24
    mean_w = _range(level * scale)
    legs.append(Leg(begin.from_h, mean_w[1], begin.name))
    proved = ended is not None and ended.why in ("floor", "cutoff")
    return Forecast(
        stop_h=stop_h,
        now_h=now,
        mean_w=mean_w,
        level=_range(level),
        used_wh=used,
        charge=_range(charge),
        legs=legs,
        state_of_health=_range(bank.factor[picked] * spread) if proved else None,
        held_wh=_range(held),
        ended_h=None if ended is None else ended.h,
        display_error_h=_display_error(trial),
        fan=[] if ended else _fan(now, charge, wh, held, level, expected, stop_h[2]),
        notices=notices,
    )


def _fan(
    now: float,
    charge: np.ndarray,
    wh: np.ndarray,
    held: np.ndarray,
    level: np.ndarray,
    expected: _Expected,
    until: float,
) -> list[tuple[float, float, float, float]]:
    """True charge from now to the latest likely stop."""
    fan = []
    for hour in np.linspace(now, max(until, now + 0.5), 25):
        gone = level * float(expected.by(hour) - expected.by(now))
        fan.append((float(hour), *_range(np.clip(charge - gone / held, 0.0, 1.0))))
    return fan


def _range(values: np.ndarray) -> Range:
    low, mid, high = (float(value) for value in np.quantile(values, [0.1, 0.5, 0.9]))
    return low, mid, high


def _display_error(trial: Trial) -> float | None:
    """How far the display's promises were from the end, mean of their sizes, h."""
    if trial.ended is None:
        return None
    off = [
        abs(check_in.h + check_in.display_h - trial.ended.h)
        for check_in in trial.check_ins
        if check_in.display_h is not None
    ]
    return sum(off) / len(off) if off else None


def as_document(prediction: Forecast) -> dict[str, Any]:
    """The forecast as ``needle forecast`` prints it."""

    def span(one: Range | None) -> dict[str, float] | None:
        return None if one is None else {"value": one[1], "low": one[0], "high": one[2]}

    return {
        "stop_h": span(prediction.stop_h),
        "remaining_h": span(prediction.remaining_h),
        "mean_w": span(prediction.mean_w),
        "used_wh": prediction.used_wh,
        "charge": span(prediction.charge),
        "legs": [{"from_h": o.from_h, "mean_w": o.mean_w, "name": o.name} for o in prediction.legs],
        "capacity_factor": span(prediction.state_of_health),
        "held_wh": span(prediction.held_wh),
        "ended_h": prediction.ended_h,
        "display_error_h": prediction.display_error_h,
        "notices": prediction.notices,
    }
