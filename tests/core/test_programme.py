"""A machine's programme in a capture gives the steps of its task."""

from __future__ import annotations

import unittest

import numpy as np

from needle.measure.analysis import Analysis, analyse, as_reading
from needle.measure.capture import read_capture
from needle.plan.documents.measured import steps_of
from needle.profile.document import parse_load
from needle.profile.profile import derive


def captured(*stretches: tuple[int, np.ndarray | float], seed: int = 1) -> Analysis:
    """The analysis of stretches of so many seconds, once a second, with a meter's noise."""
    watts = np.concatenate([np.broadcast_to(level, seconds) for seconds, level in stretches])
    noisy = np.maximum(0, watts + np.random.default_rng(seed).normal(0, 1, len(watts)))
    rows = "\n".join(f"{second},{level:.1f}" for second, level in enumerate(noisy))
    return analyse(read_capture(f"time,watts\n{rows}\n".encode()))


def tumble(minutes: int) -> np.ndarray:
    """180 W for 8 s of each 12 s, 15 W between."""
    return np.where(np.arange(60 * minutes) % 12 < 8, 180.0, 15.0)


WASH = ((120, 0.0), (900, 2000.0), (2400, tumble(40)), (360, 450.0), (180, 0.0))


class ProgrammeTest(unittest.TestCase):
    def test_a_wash_heats_tumbles_and_spins(self):
        steps = captured(*WASH).steps
        self.assertEqual(len(steps), 3)
        for step, (watts, minutes, duty) in zip(
            steps, [(2000, 15, 1.0), (180, 40, 125 / 180), (450, 6, 1.0)], strict=True
        ):
            self.assertAlmostEqual(step.watts / watts, 1, delta=0.03)
            self.assertAlmostEqual(step.minutes, minutes, delta=0.5)
            self.assertAlmostEqual(step.duty, duty, delta=0.03)

    def test_the_steps_have_the_energy_of_the_task(self):
        wh = 500 + 125 * 40 / 60 + 45
        self.assertAlmostEqual(sum(step.wh for step in captured(*WASH).steps) / wh, 1, delta=0.01)

    def test_a_short_part_with_much_power_stays(self):
        """A rinse pump's 3 minutes among an hour of 60 W."""
        steps = captured((60, 0.0), (1800, 60.0), (180, 900.0), (1800, 60.0), (60, 0.0)).steps
        self.assertEqual([round(step.watts, -1) for step in steps], [60, 900, 60])

    def test_one_level_and_what_cycles_have_no_steps(self):
        self.assertEqual(captured((60, 0.0), (1200, 1500.0), (60, 0.0)).steps, ())
        box = [(900, 90.0), (1500, 2.0)] * 5
        self.assertEqual(captured(*box).steps, ())

    def test_a_plan_uses_them_as_the_steps_of_its_task(self):
        reading = as_reading(captured(*WASH), 1.0)
        task = {"type": "task", "wh": 700, "minutes": 63}
        washer = {"name": "Washer", "kind": "universal-motor", "readings": [reading]}
        alone = steps_of(derive(parse_load(washer)))
        self.assertEqual(len(alone), 3)
        self.assertAlmostEqual(alone[0]["watts"], 2000, delta=10)
        measured = steps_of(derive(parse_load({**washer, "readings": [reading, task]})))
        wh = sum(step["watts"] * step["duty"] * step["minutes"] for step in measured) / 60
        self.assertEqual(len(measured), 3)
        self.assertAlmostEqual(wh, 700, delta=1)
