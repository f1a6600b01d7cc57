"""Days of sun that a trial counted."""

from __future__ import annotations

import unittest
from datetime import date

from needle.trial.sun_days import sun_days
from needle.trial.trial import parse_trial

SUN = {
    "kind": "sun",
    "name": "Roof",
    "rated_w": 600,
    "tilt": 10,
    "azimuth": 180,
    "latitude": 10,
    "longitude": 0,
}
PLAN = {
    "start": "2027-02-09T18:30:00+00:00",
    "hours": 96,
    "needed_hours": 24,
    "supply": {
        "battery": {"chemistry": "lfp", "nominal_wh": 9000, "volts": 51.2},
        "inverter": {"continuous_w": 1000},
    },
    "loads": [{"name": "Box", "running_w": 60}],
    "sources": [SUN],
}


def days(*check_ins, **changes):
    """Days of sun by check-ins of (h, Wh in) or whole ones; the sun is up from about 6 to 18 h."""
    checks = [
        check if isinstance(check, dict) else dict(zip(("h", "wh_in"), check, strict=True))
        for check in check_ins
    ]
    trial = {"plan": {**PLAN, **changes}, "check_ins": checks}
    return [(seen.day, seen.wh) for seen in sun_days(parse_trial(trial))]


class SunDaysTest(unittest.TestCase):
    def test_a_day_that_was_counted_from_night_to_night(self):
        self.assertEqual(days((24.5, 1500)), [(date(2027, 2, 10), 1500)])
        self.assertEqual(
            days((10, 0), (26, 1500), (49, 3400)),
            [(date(2027, 2, 10), 1500), (date(2027, 2, 11), 1900)],
        )

    def test_a_count_by_day_is_of_no_whole_day(self):
        self.assertEqual(days((18, 900)), [])
        self.assertEqual(days((42, 2400)), [])
        self.assertEqual(days((10, 20), (18, 900), (25, 1500)), [(date(2027, 2, 10), 1480)])

    def test_two_days_that_were_counted_at_once_are_not_parted(self):
        self.assertEqual(days((48.5, 3400)), [])

    def test_nothing_is_said_of_a_day_with_a_full_battery(self):
        self.assertEqual(days({"h": 18, "percent": 99}, (25, 1500)), [])

    def test_what_another_source_gave_is_not_the_suns(self):
        generator = {
            "kind": "window",
            "name": "Generator",
            "watts": 500,
            "between": [["20:00", "21:00"]],
        }
        self.assertEqual(days((24.5, 1500), sources=[SUN, generator]), [])
        self.assertEqual(days((24.5, 1500), sources=[generator]), [])
