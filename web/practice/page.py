"""Contents of the practice pages."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from datetime import time
from typing import Any

from needle.drill.answer import drawn_hours
from needle.drill.drill import BEGINS_H, HOURS, METERS, Drill
from needle.drill.judge import SCORE_WORDS
from needle.drill.session import ALWAYS, OUT, Session
from needle.drill.shipped import DRILLS
from needle.measure.instruments import INSTRUMENTS, Instrument
from needle.quantity import as_read, hours_text, significant
from needle.standin.appliances import APPLIANCES
from web.common.units import clock
from web.practice.forms import BETWEEN, USES
from web.practice.models import DrillRun

#: Where the Wh of a drain were counted.
SIDES = {"battery": "at the battery", "ac": "behind the inverter"}


@dataclass(frozen=True)
class DrillCard:
    """A built-in drill: number, name, lesson, tries, the best try, and one under way."""

    number: int
    name: str
    lesson: str
    tries: int
    best: float | None
    open: DrillRun | None


def cards_of(runs: list[DrillRun]) -> list[DrillCard]:
    cards = []
    for number, document in enumerate(DRILLS, 1):
        mine = [run for run in runs if run.shipped == number]
        scores = [run.outcome["score"] for run in mine if run.outcome]
        under_way = next((run for run in mine if run.answer is None), None)
        cards.append(
            DrillCard(
                number,
                document["name"],
                document["lesson"],
                len(mine),
                min(scores, default=None),
                under_way,
            )
        )
    return cards


@dataclass(frozen=True)
class LoadReadings:
    """A load of a drill: its label and readings, in words."""

    name: str
    words: list[str]


@dataclass(frozen=True)
class PlanRow:
    """A load in the learner's plan: index, name, use (always, between, out), from and to."""

    number: int
    name: str
    use: str
    first: str
    last: str


@dataclass(frozen=True)
class DrillPage:
    """A try at a drill."""

    run: DrillRun
    drill: Drill
    session: Session
    score_words: str = SCORE_WORDS
    uses: tuple[tuple[str, str], ...] = tuple(USES)

    @property
    def clock(self) -> str:
        """The simulated time of day."""
        day, minutes = divmod(round(BEGINS_H * 60 + self.session.minutes), 1440)
        later = f", day {day + 1}" if day else ""
        return f"{clock(time(minutes // 60, minutes % 60))}{later}"

    @property
    def used(self) -> str:
        """Simulated time used."""
        return hours_text(self.session.minutes / 60, exact=True)

    @property
    def left(self) -> str:
        return hours_text(max(0.0, self.session.left_min) / 60, exact=True)

    @property
    def meters(self) -> str:
        counts = Counter(self.drill.meters)
        return ", ".join(_so_many(INSTRUMENTS[key], number) for key, number in counts.items())

    @property
    def loads(self) -> list[LoadReadings]:
        return [
            LoadReadings(name, [_words(reading) for reading in readings])
            for name, readings in self.session.readings.items()
        ]

    @property
    def tests(self) -> list[str]:
        return [_words(test) for test in self.session.tests]

    @property
    def has(self) -> dict[str, bool]:
        """Classes of meters at hand."""
        meters = set(self.drill.meters)
        return {key: key in meters for key in METERS}

    @property
    def tests_supply(self) -> bool:
        return self.drill.supply is not None and (self.has["shunt"] or self.has["display"])

    @property
    def watches_display(self) -> bool:
        """Whether the supply's idle draw shows only on its display."""
        return self.tests_supply and not self.has["shunt"]

    @property
    def makes_tasks(self) -> bool:
        """Whether one of its loads has tasks that can be counted."""
        return any(APPLIANCES[load.standin].by_task for load in self.drill.loads)

    @property
    def plan_rows(self) -> list[PlanRow]:
        """The learner's plan for each load; at first, all run all the time."""
        if self.drill.ask != HOURS:
            return []
        drawn = self.session.plan
        rows = []
        for number, load in enumerate(self.drill.loads):
            use = drawn.uses[load.name] if drawn else ()
            first, last = use[0] if use else ("", "")
            key = OUT if use is None else BETWEEN if use else ALWAYS
            rows.append(PlanRow(number, load.name, key, first, last))
        return rows

    @property
    def planned_floor(self) -> float:
        """Percent."""
        supply = self.drill.supply
        floor = self.session.plan.floor if self.session.plan else supply.floor if supply else 0.0
        return 100 * floor

    @property
    def drawn_words(self) -> str:
        """Hours of the learner's plan by the readings; empty without a plan."""
        hours = drawn_hours(self.session)
        return "" if hours is None else f"{hours_text(hours[0])} to {hours_text(hours[2])}"

    @property
    def answer_words(self) -> str:
        """The range that was answered."""
        return self._told("answer")

    @property
    def tool_words(self) -> str:
        """The program's range from the same readings."""
        return self._told("tool")

    def _told(self, whose: str) -> str:
        assert self.run.outcome is not None
        low, high = (significant(self.run.outcome[whose][end]) for end in ("low", "high"))
        return f"{low} to {high}\u00a0{self.drill.unit}"

    @property
    def supply_words(self) -> str:
        supply = self.drill.supply
        if supply is None:
            return ""
        return (
            f"label {as_read(supply.nominal_wh, 'Wh')}, inverter "
            f"{as_read(supply.continuous_w, 'W')}, surge {as_read(supply.surge_va, 'VA')}; "
            f"{supply.floor * 100:.0f} % stays in it"
        )


def _so_many(instrument: Instrument, number: int) -> str:
    if number > 1:
        return f"{number} {instrument.name}s"
    return f"{'the' if instrument.key == 'display' else 'a'} {instrument.name}"


def _words(reading: dict[str, Any]) -> str:
    kind = reading["type"]
    if kind == "label":
        return f"label {as_read(reading['watts'], 'W')}"
    if kind == "spot":
        amounts = [
            as_read(reading[key], unit)
            for key, unit in (("watts", "W"), ("volts", "V"), ("amps", "A"), ("va", "VA"))
        ]
        return f"{reading['state']}: {' · '.join(amounts)} · PF {reading['pf']:.2f}"
    if kind == "energy":
        return f"{as_read(reading['wh'], 'Wh')} in {hours_text(reading['hours'], exact=True)}"
    if kind == "start":
        return f"start: {as_read(reading['amps'], 'A')} at {as_read(reading['volts'], 'V')}"
    if kind == "task":
        count = int(reading["runs"])
        return f"{as_read(reading['wh'], 'Wh')} for {count} task{'s' if count > 1 else ''}"
    if kind == "idle" and "watts" not in reading:
        hours = hours_text(reading["hours"], exact=True)
        return f"idle: the display fell to {reading['to'] * 100:.0f} % in {hours}"
    if kind == "idle":
        return f"inverter idle: {as_read(reading['watts'], 'W')} on the battery side"
    counted = f"{as_read(reading['wh'], 'Wh')} {SIDES[reading['counted']]}"
    hours = hours_text(reading["hours"], exact=True)
    return f"drained: {counted} from full to {reading['to'] * 100:.0f} % in {hours}"
