"""Mains that come and go by a timetable, such as two hours on and six off."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta, tzinfo

import numpy as np

from needle.document import Reader
from needle.estimate import STATED_SPREAD
from needle.fields import Flag, Number, Text, Windows
from needle.moments import Moment, Window, in_windows, minute_of, parse_moment, parse_windows
from needle.plan.sources.source import Source, same_each_day


@dataclass(frozen=True)
class Mains(Source):
    """Mains with a charger, on and off by turns.

    Attributes
    ----------
    watts : float
        W that the charger gives the battery.
    on_min, off_min : int
        Minutes of each turn.
    comes : Moment
        When they come on: minutes after midnight of the plan's first day, or a moment.
    carries : bool
        Whether they run the loads on AC meanwhile, past the inverter.
    missed : tuple of Window
        When they are away although it is their turn.
    came : tuple of Window
        When they are on although it is not their turn.
    spread : float
        Relative sd of the charger's W.
    """

    TITLE = "mains that come and go"
    ABOUT = (
        "How rolling outages are counted",
        "While mains are on, the charger fills the battery and mains run what is on AC, unless you "
        "tick that loads stay on the battery. Turns that come late or not at all are not in it: "
        "plan with the shortest turns that you have seen.",
        "Limits and starts are checked as if the inverter carried everything all the time.",
    )
    TO_MEASURE = ("read the W that {name} put into the battery", "a turn")
    FIELDS = {
        "watts": Number(
            "what the charger puts into the battery",
            label="Charger",
            unit="W",
            most=1_000_000,
            above=True,
            needed=True,
        ),
        "on_h": Number(
            "hours that they are on each time",
            label="On for",
            unit="h",
            most=168,
            above=True,
            needed=True,
        ),
        "off_h": Number(
            "hours that they are off each time",
            label="Off for",
            unit="h",
            most=168,
            above=True,
            needed=True,
        ),
        "comes": Text(
            "a time at which they come on, 14:00; with a date where turns do not fit a day, "
            "2027-02-10 14:00",
            label="Come on at",
            most=40,
            needed=True,
        ),
        "battery_only": Flag(
            "whether loads on AC stay on the battery while mains are on",
            label="Loads stay on the battery",
        ),
        "missed": Windows("when they are away although it is their turn", most=500),
        "came": Windows("when they are on although it is not their turn", most=500),
        "spread": Number(
            "relative spread of the charger's W",
            label="Uncertain by",
            unit="share",
            most=1.0,
            default=STATED_SPREAD,
        ),
    }

    watts: float
    on_min: int
    off_min: int
    comes: Moment
    carries: bool = True
    spread: float = 0.0
    missed: tuple[Window, ...] = ()
    came: tuple[Window, ...] = ()

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> Mains:
        return cls(
            name,
            limit_w,
            reader.number("watts"),
            max(1, round(60 * reader.number("on_h"))),
            max(1, round(60 * reader.number("off_h"))),
            parse_moment(reader.text("comes"), reader.at("comes"), zone),
            not reader.flag("battery_only"),
            reader.number("spread"),
            parse_windows(reader.items("missed"), reader.at("missed"), zone),
            parse_windows(reader.items("came"), reader.at("came"), zone),
        )

    @property
    def rated_most_w(self) -> float:
        return self.watts

    def factors(
        self, days: int, normals: np.ndarray | None, rng: np.random.Generator
    ) -> np.ndarray:
        """Factors on its W, the same every day, (draws, 1)."""
        return same_each_day(self.spread, days, normals)

    def on(self, start: datetime, minutes: int) -> np.ndarray:
        """Minutes in which mains are on, boolean, (minutes,)."""
        comes = self.comes
        if not isinstance(comes, datetime):
            midnight = start.replace(hour=0, minute=0, second=0, microsecond=0)
            comes = midnight + timedelta(minutes=comes)
        place = (np.arange(minutes) - minute_of(comes, start)) % (self.on_min + self.off_min)
        on = np.asarray(place < self.on_min)
        if self.missed:
            on &= ~in_windows(self.missed, start, minutes)
        return on | in_windows(self.came, start, minutes) if self.came else on

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        return self.on(start, minutes) * self.most_w

    def carried(self, start: datetime, minutes: int) -> np.ndarray | None:
        return self.on(start, minutes) if self.carries else None
