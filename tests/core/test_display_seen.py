"""What a display showed in an earlier run bends the next forecast."""

import unittest

import numpy as np

from needle.document import DocumentError
from needle.supply.display import charge_shown
from needle.trial.finished_run import display_seen
from needle.trial.forecast import forecast
from needle.trial.observations import true_charges
from needle.trial.trial import parse_trial

BATTERY = {
    "battery": {
        "chemistry": "lfp",
        "nominal_wh": 1000,
        "volts": 12.8,
        "capacity_factor": 1.0,
        "capacity_spread": 0.03,
    }
}
#: A display that falls slowly at first, and whose last two fifths run steeply.
STEEP = {"knee": 0.10, "bow": 0.12}
HOURS = 20.0


def shown_at(hour):
    return float(charge_shown(1 - hour / HOURS, **STEEP))


def run(hours=(2, 5, 8, 11, 14, 16, 18, 19), counted=True, why="cutoff", **more):
    checks = [
        {
            "h": hour,
            "percent": round(100 * shown_at(hour)),
            **({"wh": 50 * hour} if counted else {}),
        }
        for hour in hours
    ]
    ended = {"h": HOURS, "why": why}
    return parse_trial({"supply": BATTERY, "check_ins": checks, "ended": ended, **more})


class DisplaySeenTest(unittest.TestCase):
    def test_by_what_was_counted_or_by_the_hours(self):
        for counted in (True, False):
            pairs = display_seen(run(counted=counted))
            self.assertEqual(len(pairs), 8)
            np.testing.assert_allclose([true for _, true in pairs][:2], [0.9, 0.75], atol=0.01)

    def test_not_where_the_truth_is_unknown(self):
        self.assertEqual(display_seen(run(why="floor", stop_at=0.1)), [])
        self.assertEqual(display_seen(run(hours=(2, 5))), [])
        charged = run()
        fed = [{"h": 3, "percent": 90, "watts_in": 40}, {"h": 5, "percent": 80}]
        ended = {"h": HOURS, "why": "cutoff"}
        self.assertEqual(
            display_seen(
                parse_trial(
                    {
                        "supply": BATTERY,
                        "check_ins": [*fed, {"h": 9, "percent": 60}],
                        "ended": ended,
                    }
                )
            ),
            [],
        )
        self.assertTrue(display_seen(charged))

    def test_what_is_truly_left(self):
        pairs = display_seen(run())
        for shown, (low, mid, high) in zip(
            (0.8, 0.4), true_charges(pairs, (0.8, 0.4)), strict=True
        ):
            truth = np.interp(
                shown,
                [shown_at(hour) for hour in (19, 14, 8, 5, 2)],
                [1 - hour / HOURS for hour in (19, 14, 8, 5, 2)],
            )
            self.assertAlmostEqual(mid, truth, delta=0.06)
            self.assertLess(high - low, 0.12)

    def test_the_next_forecast_goes_by_it(self):
        """The same run again, looked at three times, until it shows 58 % (half is left)."""
        looks = [{"h": hour, "percent": round(100 * shown_at(hour))} for hour in (3, 6, 10)]
        told = {
            "supply": BATTERY,
            "check_ins": looks,
            "expected_w": {"value": 45, "spread": 0.4},
        }
        plain = forecast(parse_trial(told)).stop_h
        knows = {**told, "display": [list(pair) for pair in display_seen(run())]}
        known = forecast(parse_trial(knows)).stop_h
        self.assertLess(abs(known[1] - HOURS), abs(plain[1] - HOURS))
        self.assertTrue(known[0] < HOURS < known[2], known)

    def test_refusals(self):
        for display in ([[0.5]], [["x", 0.2]], [[0.5, 1.5]], [0.5]):
            with self.subTest(display=display), self.assertRaisesRegex(DocumentError, "display"):
                parse_trial({"supply": BATTERY, "display": display})
