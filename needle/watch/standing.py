"""Where an outage stands, and what would come of it if this or that ran from here on."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from needle.plan.energy.bank import peukert_w
from needle.supply.chemistry import CHEMISTRIES, TRICKLE_PER_H
from needle.trial.particles import FORGETS_H, WANDER
from needle.trial.trial_filter import TrialFilter
from needle.watch.course import QUARTERS_PER_HOUR, Course

#: Particles that are asked; the rest of a trial's would say the same.
MOST_ASKED = 400


@dataclass(frozen=True)
class Standing:
    """The particles of a trial at an hour, equally likely, (particles,) each.

    Attributes
    ----------
    course : Course
    hour : float
        Hours since the trial's start.
    rows : ndarray of int
        Each one's draw of the plan.
    charge, floor : ndarray
        True charge now, and at which it stops, shares.
    held_wh : ndarray
        Real capacity, Wh.
    level, wander : ndarray
        Power relative to its draw of the plan; and the part of it that fades (logarithm).
    sun : ndarray
        Source power relative to its draw of the plan.
    other_wh : ndarray
        What other batteries still hold, Wh.
    """

    course: Course
    hour: float
    rows: np.ndarray
    charge: np.ndarray
    floor: np.ndarray
    held_wh: np.ndarray
    level: np.ndarray
    wander: np.ndarray
    sun: np.ndarray
    other_wh: np.ndarray

    def ahead(self, hours: float) -> Ahead:
        """The quarter hours of the next hours."""
        count = int(np.ceil(hours * QUARTERS_PER_HOUR))
        first = int(self.hour * QUARTERS_PER_HOUR)
        columns = self.course.columns(first, max(1, count))
        later_h = np.arange(len(columns)) / QUARTERS_PER_HOUR
        fading = self.wander[:, None] * (np.exp(-later_h / FORGETS_H) - 1)
        times = (self.level[:, None] * np.exp(fading)).astype(float)
        fed_w = self.course.fed(self.rows, columns) * self.sun[:, None]
        return Ahead(self, columns, times, fed_w)


@dataclass(frozen=True)
class Ahead:
    """Some quarter hours ahead of a standing; arrays are (particles, quarters).

    Attributes
    ----------
    standing : Standing
    columns : ndarray of int
        Quarter hours of the course.
    times : ndarray
        Power relative to the course.
    fed_w : ndarray
        W of all sources.
    """

    standing: Standing
    columns: np.ndarray
    times: np.ndarray
    fed_w: np.ndarray

    @property
    def hours(self) -> float:
        return len(self.columns) / QUARTERS_PER_HOUR

    def drawn_w(self, on: Collection[str]) -> np.ndarray:
        """Demand of some loads at the battery, W."""
        course, rows = self.standing.course, self.standing.rows
        return np.asarray(course.drawn_w(on, rows, self.columns) * self.times)

    def charge(self, drawn_w: np.ndarray, more_fed_w: np.ndarray | float = 0.0) -> np.ndarray:
        """True charge after each quarter hour, share, with ``more_fed_w`` more from sources."""
        falls, stored = self.flows(drawn_w, more_fed_w)
        if self.standing.course.other_w is None and not stored.any():
            return np.asarray(self.standing.charge[:, None] - np.cumsum(falls, axis=1))
        return self._charged(drawn_w, falls, stored)

    def flows(
        self, drawn_w: np.ndarray, more_fed_w: np.ndarray | float = 0.0
    ) -> tuple[np.ndarray, np.ndarray]:
        """Share of what the battery holds that each quarter hour takes, and that it could store."""
        standing = self.standing
        course, held_wh = standing.course, standing.held_wh[:, None]
        battery = course.plan.supply.battery
        net_w = drawn_w - self.fed_w - more_fed_w
        n, slow = (
            values[standing.rows][:, None]
            for values in (course.battery.peukert_n, course.battery.slow)
        )
        falls_w = peukert_w(battery, np.maximum(net_w, 0.0), held_wh, n, slow)
        stored_w = battery.charge_efficiency * np.maximum(-net_w, 0.0)
        stored_w = stored_w * course.may_charge[self.columns]
        return falls_w / held_wh / QUARTERS_PER_HOUR, stored_w / held_wh / QUARTERS_PER_HOUR

    def _charged(self, drawn_w: np.ndarray, falls: np.ndarray, stored: np.ndarray) -> np.ndarray:
        """The same where something charges: a battery accepts less the fuller it is."""
        standing = self.standing
        course, held_wh = standing.course, standing.held_wh
        battery = course.plan.supply.battery
        takes = course.battery.takes[standing.rows] / QUARTERS_PER_HOUR * battery.charge_efficiency
        per_h = CHEMISTRIES[battery.chemistry].takes_per_h
        charge, other_wh = standing.charge.copy(), standing.other_wh.copy()
        course_of_charge = np.empty_like(falls)
        for number, column in enumerate(self.columns):
            fall, missing = falls[:, number], np.maximum(0.0, 1 - charge)
            room = np.minimum(missing, takes * (per_h * missing + TRICKLE_PER_H))
            into = np.minimum(stored[:, number], room)
            if course.other_w is not None:
                # Another battery first feeds what is drawn; it then fills up.
                most_w = np.minimum(course.other_w[column], other_wh * QUARTERS_PER_HOUR)
                feeds_w = np.where(fall > 0, np.minimum(most_w, drawn_w[:, number]), 0.0)
                fall = fall * (1 - feeds_w / np.maximum(drawn_w[:, number], 1e-9))
                fills_w = np.minimum(most_w - feeds_w, (room - into) * held_wh * QUARTERS_PER_HOUR)
                fills_w = fills_w * course.may_charge[column]
                into = into + fills_w / held_wh / QUARTERS_PER_HOUR
                other_wh = other_wh - (feeds_w + fills_w) / QUARTERS_PER_HOUR
            charge = charge + into - fall
            course_of_charge[:, number] = charge
        return course_of_charge

    def stop_h(self, charge: np.ndarray) -> np.ndarray:
        """Hours since the trial's start at which each one's charge is used up; inf if it is not."""
        standing = self.standing
        left = charge - standing.floor[:, None]
        used_up = left <= 0
        first = used_up.argmax(axis=1)
        rows = np.arange(len(left))
        before = np.where(first > 0, left[rows, first - 1], standing.charge - standing.floor)
        fall = before - left[rows, first]
        part = np.clip(before / np.where(fall > 0, fall, 1.0), 0.0, 1.0)
        hours = standing.hour + (first + part) / QUARTERS_PER_HOUR
        return np.where(used_up.any(axis=1), hours, np.inf)


def standing_of(followed: TrialFilter, course: Course) -> Standing:
    """The particles of a trial that was followed up to now, as equally likely ones."""
    particles = followed.particles
    weight = np.cumsum(particles.weight)
    places = (np.arange(MOST_ASKED) + 0.5) / MOST_ASKED
    picked = np.minimum(np.searchsorted(weight, places * weight[-1]), len(weight) - 1)
    return Standing(
        course=course,
        hour=followed.hour,
        rows=particles.rows[picked],
        charge=particles.bank.charge[picked],
        floor=np.minimum(followed.stop_charge(particles), particles.bank.charge)[picked],
        held_wh=particles.held_wh[picked],
        level=particles.level[picked],
        wander=particles.state[WANDER][picked],
        sun=particles.sun[picked],
        other_wh=particles.bank.other_wh[picked],
    )
