"""A turbine gives what its curve and the wind of its site come to."""

import math
import unittest

import numpy as np

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.plan.sources.registry import parse_sources
from needle.plan.sources.wind import DAY_SPREAD, day_means_w, usual_curve

SQUARE = ((3.0, 0.0), (3.001, 100.0), (60.0, 100.0))


def wind(**keys):
    return parse_sources([{"kind": "wind", **keys}], None, None)[0]


class CurveTest(unittest.TestCase):
    def test_a_day_is_the_rayleigh_mean_of_the_curve(self):
        # Wind of mean m is above v with the chance exp(-pi/4 (v/m)^2).
        for mean in (2.0, 5.0, 8.0):
            with self.subTest(mean=mean):
                got = float(np.interp(mean, np.linspace(0, 25, 251), day_means_w(SQUARE)))
                wanted = 100 * math.exp(-math.pi / 4 * (3.0 / mean) ** 2)
                self.assertAlmostEqual(got, wanted, delta=0.01 * wanted)

    def test_cube_of_the_wind_gives_the_cubes_mean(self):
        # E v^3 of a Rayleigh wind is 6/pi of the cube of its mean (IEC 61400-2).
        cube = tuple((v / 4, (v / 4) ** 3) for v in range(1, 160))
        got = float(np.interp(4.0, np.linspace(0, 25, 251), day_means_w(cube)))
        self.assertAlmostEqual(got, 6 / math.pi * 64, delta=0.02 * 64)

    def test_usual_curve_starts_reaches_its_rating_and_stops(self):
        speeds, watts = zip(*usual_curve(400.0), strict=True)
        self.assertEqual((watts[0], max(watts), watts[-1]), (0.0, 400.0, 0.0))
        self.assertEqual(list(speeds), sorted(speeds))


class SourceTest(unittest.TestCase):
    def test_every_field_changes_its_power(self):
        self.assertGreater(
            wind(rated_w=400, mean_speed=6).power_w(None, 1)[0],
            2 * wind(rated_w=400, mean_speed=4).power_w(None, 1)[0],
        )
        curve = [[3, 0], [10, 250], [20, 250]]
        self.assertEqual(wind(curve=curve, mean_speed=5).rated_most_w, 250)

    def test_draws_keep_the_mean_and_spread_of_the_days(self):
        source = wind(curve=[[0, 0], [40, 400]], mean_speed=5, spread=0.2)
        rng = np.random.default_rng(3)
        factors = source.factors(4, rng.standard_normal(20_000), rng)
        # On a straight curve power is as the wind: factors have the spreads of site and days.
        self.assertEqual(factors.shape, (20_000, 4))
        self.assertAlmostEqual(float(factors.mean()), math.exp(math.log1p(0.04) / 2), delta=0.01)
        spread = math.sqrt(math.log1p(0.2**2) + math.log1p(DAY_SPREAD**2))
        self.assertAlmostEqual(float(np.log(factors).std()), spread, delta=0.01)

    def test_first_days_are_the_same_however_far_it_looks(self):
        source = wind(rated_w=300, mean_speed=5)
        normals = np.random.default_rng(1).standard_normal(50)
        short = source.factors(2, normals, np.random.default_rng(7))
        long = source.factors(5, normals, np.random.default_rng(7))
        np.testing.assert_array_equal(short, long[:, :2])

    def test_refusals(self):
        for keys, said in (
            ({"mean_speed": 5}, "rated_w: is needed"),
            ({"rated_w": 300}, "mean_speed: is needed"),
            ({"mean_speed": 5, "curve": [[5, 9], [4, 9]]}, "wind must rise"),
            ({"mean_speed": 5, "curve": [[5, 0]]}, "gives no power"),
            ({"mean_speed": 5, "rated_w": 3, "curve": [[5, 9]]}, "leave it out"),
            ({"mean_speed": 5, "rated_w": 3, "gusts": 2}, "unknown key"),
        ):
            with self.subTest(said=said), self.assertRaises(DocumentError) as caught:
                wind(**keys)
            self.assertIn(said, str(caught.exception))


class OutsideTest(unittest.TestCase):
    def test_a_plan_with_odd_notices_is_answered_or_refused(self):
        def of(notice):
            load = {"name": "box", "running_w": 60, "notices": [notice]}
            document = PlanTest().document()
            return simulate(parse_plan({**document, "loads": [load]}), draws=4)

        self.assertEqual(len(of({"code": "odd", "figures": {}}).notices), 1)
        for wrong in ({"code": "odd"}, {"code": "odd", "figures": {"a": {"b": 1}}}, 5, ""):
            with self.subTest(wrong=wrong), self.assertRaises(DocumentError):
                of(wrong)


class PlanTest(unittest.TestCase):
    def document(self, *sources):
        return {
            "start": "2027-02-09T18:00:00+00:00",
            "hours": 160,
            "supply": {
                "battery": {"chemistry": "lfp", "nominal_wh": 3000},
                "inverter": {"continuous_w": 1000},
            },
            "loads": [{"name": "box", "running_w": 60}],
            "sources": list(sources),
        }

    def test_it_lengthens_a_plan_and_the_balance_closes(self):
        calm = simulate(parse_plan(self.document()), draws=200)
        windy = simulate(
            parse_plan(self.document({"kind": "wind", "rated_w": 200, "mean_speed": 5})),
            draws=200,
        )
        self.assertGreater(np.median(windy.runtime_h), 1.2 * np.median(calm.runtime_h))
        energy = windy.likely.energy_wh
        self.assertGreater(energy["sources"], 0)
        came = energy["sources"] + energy["battery_out"] - energy["battery_in"]
        went = (
            sum(energy["loads"].values())
            + energy["inverter_idle"]
            + energy["outputs_idle"]
            + energy["conversion"]
        )
        self.assertAlmostEqual(came, went, delta=0.001 * went)

    def test_more_uncertain_wind_gives_a_wider_range(self):
        def width(spread):
            source = {"kind": "wind", "rated_w": 200, "mean_speed": 5, "spread": spread}
            hours = simulate(parse_plan(self.document(source)), draws=400).runtime_h
            low, high = np.quantile(hours, (0.1, 0.9))
            return math.log(high / low)

        self.assertGreater(width(0.5), width(0.0))
