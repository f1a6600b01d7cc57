"""What the practice pages show."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

from needle.drill.drill import BEGINS_H, Drill
from needle.drill.judge import SCORE_WORDS
from needle.drill.session import Session
from needle.drill.shipped import DRILLS
from needle.measure.instruments import INSTRUMENTS
from needle.quantity import as_read, hours_text
from web.practice.models import DrillRun


@dataclass(frozen=True)
class DrillCard:
    """A drill that ships: its number, name, lesson, tries and the best of them, one under way."""

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
        cards.append(DrillCard(number, document["name"], document["lesson"], len(mine),
                               min(scores, default=None), under_way))  # fmt: skip
    return cards


@dataclass(frozen=True)
class LoadReadings:
    """A load of a drill: its label and what was read of it, in words."""

    name: str
    words: list[str]


@dataclass(frozen=True)
class DrillPage:
    """A try at a drill."""

    run: DrillRun
    drill: Drill
    session: Session
    score_words: str = SCORE_WORDS

    @property
    def clock(self) -> str:
        """The simulated time of day."""
        day, minutes = divmod(round(BEGINS_H * 60 + self.session.minutes), 1440)
        later = f", day {day + 1}" if day else ""
        return f"{minutes // 60:02d}:{minutes % 60:02d}{later}"

    @property
    def used(self) -> str:
        """Simulated time that is gone."""
        return hours_text(self.session.minutes / 60, exact=True)

    @property
    def left(self) -> str:
        return hours_text(max(0.0, self.session.left_min) / 60, exact=True)

    @property
    def meters(self) -> str:
        counts = Counter(self.drill.meters)
        return ", ".join(
            f"{number} {INSTRUMENTS[key].name}s" if number > 1 else f"a {INSTRUMENTS[key].name}"
            for key, number in counts.items()
        )

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
        """Which meters are there."""
        meters = set(self.drill.meters)
        return {key: key in meters for key in ("plug", "clamp", "shunt")}

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
    if kind == "idle":
        return f"inverter idle: {as_read(reading['watts'], 'W')} on the battery side"
    return (
        f"drained: {as_read(reading['wh'], 'Wh')} from full to {reading['to'] * 100:.0f} % "
        f"in {hours_text(reading['hours'], exact=True)}"
    )
