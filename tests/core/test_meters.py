"""A person's own meters, and what two loads that were read on one of them share."""

import math
import unittest

import numpy as np

from needle.decide.compare import LoadSide, figures
from needle.document import DocumentError
from needle.measure.instruments import INSTRUMENTS
from needle.measure.meters import calibrate, parse_meters
from needle.plan.documents.parse import parse_plan
from needle.plan.draws.inputs import LOAD, draw
from needle.profile.document import parse_load
from needle.profile.profile import derive
from needle.words import text_of

PLUG = INSTRUMENTS["plug"]
BLUE = {
    "name": "Blue plug",
    "kind": "plug",
    "limit": 0.03,
    "pairs": [[102.1, 100], [305.8, 300]],
    "against": "Bench",
}
METERS = [{"name": "Bench", "kind": "plug", "limit": 0.002}, BLUE]


def profile(readings, meters=METERS, kind="electronics"):
    return derive(parse_load({"name": "L", "kind": kind, "readings": readings, "meters": meters}))


class CalibrationTest(unittest.TestCase):
    def test_gain_and_its_spread(self):
        calibrated = calibrate([(102.0, 100.0), (306.0, 300.0)], PLUG, PLUG)
        self.assertAlmostEqual(calibrated.gain, 1.02)
        # The other meter's own 1 % is what is left, and how well two readings repeat.
        self.assertGreater(calibrated.spread, 0.01 / math.sqrt(3))
        self.assertLess(calibrated.spread, 0.01)

    def test_more_comparisons_narrow_down_to_the_other_meter(self):
        exact = parse_meters([{"name": "Bench", "kind": "plug", "limit": 0.0}])["Bench"]
        spreads = [calibrate([(51, 50)] * count, PLUG, exact).spread for count in (1, 3, 12)]
        self.assertEqual(spreads, sorted(spreads, reverse=True))
        self.assertLess(spreads[-1], 0.002)

    def test_the_gain_lies_in_its_range_eight_times_in_ten(self):
        rng, held, exact = (
            np.random.default_rng(5),
            0,
            parse_meters([{"name": "Bench", "kind": "plug", "limit": 0.0}])["Bench"],
        )
        for _ in range(400):
            gain = 1 + 0.02 * rng.standard_normal()
            true_w = rng.uniform(40, 400, 3)
            mine = gain * true_w * (1 + 0.005 * rng.standard_normal(3))
            calibrated = calibrate(list(zip(mine, true_w, strict=True)), PLUG, exact)
            held += abs(math.log(gain / calibrated.gain)) < 1.2816 * calibrated.spread
        self.assertTrue(0.74 <= held / 400 <= 0.92, held / 400)

    def test_what_cannot_be_one_load_is_refused(self):
        with self.assertRaisesRegex(DocumentError, "cannot be the same load"):
            calibrate([(500, 100)], PLUG, PLUG)
        with self.assertRaisesRegex(DocumentError, "at least one"):
            calibrate([], PLUG, PLUG)


class OwnMeterTest(unittest.TestCase):
    def test_readings_are_corrected_by_its_gain(self):
        spot = {"type": "spot", "watts": 51, "meter": "Blue plug"}
        self.assertAlmostEqual(profile([spot]).running_w.value, 50, delta=0.1)
        run = {"type": "energy", "wh": 1020, "hours": 24, "meter": "Blue plug"}
        counted = profile([run])
        self.assertAlmostEqual(counted.mean_w.value, 1000 / 24, delta=0.1)
        self.assertIn("on “Blue plug”", " ".join(map(text_of, counted.how)))
        self.assertEqual(counted.meter, "Blue plug")

    def test_what_it_draws_itself_is_taken_off(self):
        meters = [{"name": "Box", "kind": "display", "base_w": 2.0}]
        run = {"type": "energy", "wh": 240, "hours": 20, "step_wh": 1, "meter": "Box"}
        self.assertAlmostEqual(profile([run], meters).mean_w.value, 10)

    def test_its_accuracy_counts_in_place_of_its_class(self):
        spot = {"type": "spot", "watts": 100, "volts": 230, "amps": 1, "va": 230, "pf": 0.46}
        fine = profile([{**spot, "meter": "Bench"}])
        rough = profile([{**spot, "meter": "W"}], [{"name": "W", "kind": "plug", "limit": 0.2}])
        self.assertLess(fine.running_w.spread, rough.running_w.spread)
        self.assertTrue(any("but" in text_of(notice) for notice in fine.notices))
        self.assertFalse(any("but" in text_of(notice) for notice in rough.notices))

    def test_a_slow_clamp_sees_a_lower_bound_of_a_start(self):
        start = {"type": "start", "amps": 4, "volts": 230, "meter": "C"}
        spot = {"type": "spot", "watts": 90, "meter": "C2"}
        fast, slow = (
            profile(
                [start, spot],
                [
                    {"name": "C", "kind": "clamp", "fast_inrush": hold},
                    {"name": "C2", "kind": "plug"},
                ],
                "compressor-fixed",
            )
            for hold in (True, False)
        )
        self.assertAlmostEqual(fast.start_va.value, 920)
        self.assertIn("at least 920", " ".join(map(text_of, slow.how)))

    def test_a_name_in_use_comes_before_one_that_was(self):
        old = {"name": "Shed plug", "kind": "plug", "limit": 0.03, "formerly": ["P", "Q"]}
        new = {"name": "P", "kind": "plug", "limit": 0.005}
        for items in ([old, new], [new, old]):
            meters = parse_meters(items)
            self.assertEqual((meters["P"].limit, meters["Q"].limit), (0.005, 0.03))

    def test_refusals(self):
        spot = {"type": "spot", "watts": 51, "meter": "Bleu plug"}
        with self.assertRaisesRegex(DocumentError, "none of the meters"):
            profile([spot])
        with self.assertRaisesRegex(DocumentError, "at most 13 A"):
            profile(
                [{"type": "spot", "amps": 16, "meter": "P"}],
                [{"name": "P", "kind": "plug", "most_a": 13}],
            )
        with self.assertRaisesRegex(DocumentError, "does not show watts"):
            profile([{"type": "spot", "watts": 16, "meter": "C"}], [{"name": "C", "kind": "clamp"}])
        for meter, said in (
            ({"kind": "plug"}, "is needed"),
            ({"name": "X", "kind": "plgu"}, "did you mean “plug”"),
            ({"name": "X", "kind": "plug", "pairs": [[1]]}, "what the other shows"),
            ({"name": "X", "kind": "plug", "pairs": [[1, 1]], "against": "Y"}, "no meter before"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(DocumentError, said):
                parse_meters([meter])


class SharedGainTest(unittest.TestCase):
    def total_spread(self, meters):
        def load(name, meter):
            run = {"type": "energy", "wh": 2400, "hours": 48, "step_wh": 1, "meter": meter}
            evidence = {"name": name, "kind": "electronics", "readings": [run], "meters": METERS}
            return {"profile": evidence, "name": name, "route": "ac"}

        plan = parse_plan(
            {
                "hours": 24,
                "supply": {
                    "battery": {"chemistry": "lfp", "nominal_wh": 5000},
                    "inverter": {"continuous_w": 1000},
                },
                "loads": [load(f"L{number}", meter) for number, meter in enumerate(meters)],
            }
        )
        inputs = draw(plan, 2000, 1)
        return sum(inputs.factor(LOAD, item.name) for item in plan.loads).std() / len(meters)

    def test_loads_on_one_meter_are_off_together(self):
        rough = {"name": "Other", "kind": "plug", "limit": 0.03}
        METERS.append(rough)
        self.addCleanup(METERS.remove, rough)
        shared = self.total_spread(["Other"] * 4)
        apart = self.total_spread(["Other", "Bench", "Blue plug", "Bench"])
        self.assertGreater(shared, 1.3 * apart)


class SharedInComparisonsTest(unittest.TestCase):
    def test_a_small_difference_on_one_meter_is_real(self):
        def side(name, wh, meter):
            run = {"type": "energy", "wh": wh, "hours": 48, "step_wh": 0.1, "meter": meter}
            return LoadSide(name, profile([run], ROUGH))

        ROUGH = [
            {"name": "A", "kind": "plug", "limit": 0.1},
            {"name": "B", "kind": "plug", "limit": 0.1},
        ]
        for meter, real in (("A", True), ("B", False)):
            sides = [side("one", 2400, "A"), side("other", 2600, meter)]
            mean = next(figure for figure in figures(sides) if figure.name == "mean")
            with self.subTest(meter=meter):
                self.assertEqual(mean.against(1).real, real)
