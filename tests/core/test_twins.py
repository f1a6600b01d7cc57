"""Twins with known truth: what the core derives is compared with what was simulated."""

import math
import unittest

import numpy as np

from needle.measure.readings import ChargeDrop, Context, EnergyRun, Spot, Start, Tally
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.profile.profile import derive
from needle.profile.record import LoadRecord
from tests.core.exact import exact
from tests.core.reference import peukert_hours
from tests.core.twins import household


class Appliance:
    """A cycling appliance with scattered cycles, second by second."""

    def __init__(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        self.rng = rng
        self.running_w = rng.uniform(60, 400)
        self.resting_w = rng.uniform(2.5, 8)
        self.factor = rng.uniform(0.55, 0.95)
        self.duty = rng.uniform(0.2, 0.6)
        self.period_s = rng.uniform(1200, 3600)
        self.start_va = self.running_w / self.factor * rng.uniform(3, 6)

    def cycles(self, hours: float) -> list[tuple[float, float]]:
        """(on, off) seconds of cycles that fill the hours."""
        cycles, total = [], 0.0
        while total < hours * 3600:
            on = self.period_s * self.duty * self.rng.normal(1, 0.08)
            off = self.period_s * (1 - self.duty) * self.rng.normal(1, 0.08)
            cycles.append((on, off))
            total += on + off
        return cycles

    @property
    def mean_w(self) -> float:
        return self.resting_w + self.duty * (self.running_w - self.resting_w)

    def meter(self, true: float, step: float, limit: float = 0.01) -> float:
        """A reading with the meter's error, rounded to its last digit."""
        off = true * (1 + self.rng.uniform(-limit, limit))
        return max(step, round(off / step) * step)

    def counter(self, hours: float) -> EnergyRun:
        wh, left = 0.0, hours * 3600
        for on, off in self.cycles(hours):
            run, rest = min(on, left), min(off, max(0.0, left - on))
            wh += (self.running_w * run + self.resting_w * rest) / 3600
            left -= run + rest
        return EnergyRun(self.meter(wh, 10.0), hours, 10.0)

    def spot(self, running: bool = True) -> Spot:
        watts = self.running_w if running else self.resting_w
        va = watts / self.factor
        return Spot(
            "running" if running else "resting",
            watts=self.meter(watts, 0.1),
            volts=self.meter(230, 0.1),
            amps=self.meter(va / 230, 0.01),
            va=self.meter(va, 1.0),
        )

    def tally(self, count: int) -> Tally:
        at, edges = 0.0, []
        for on, off in self.cycles(count * self.period_s / 3600)[:count]:
            edges += [("on", at), ("off", at + on)]
            at += on + off
        edges.append(("on", at))
        jitter = self.rng.uniform(-2, 2, len(edges))
        return Tally(tuple((name, t + j) for (name, t), j in zip(edges, jitter, strict=True)))

    def clamp(self) -> Start:
        amps = self.meter(self.start_va / 230, 0.01, 0.025)
        return Start(amps=amps, volts=230.0, context=Context(instrument="clamp"))


def profiles(build, count=80):
    """(appliance, profile) of so many seeds."""
    for seed in range(count):
        appliance = Appliance(seed)
        yield (
            appliance,
            derive(
                LoadRecord("Twin", "compressor-fixed", tuple(build(appliance)), never_rarer=True)
            ),
        )


class TwinTest(unittest.TestCase):
    def check(self, build, within, error):
        held, errors = 0, []
        for appliance, profile in profiles(build):
            held += profile.mean_w.low <= appliance.mean_w <= profile.mean_w.high
            errors.append(abs(profile.mean_w.value / appliance.mean_w - 1))
        self.assertGreaterEqual(held / 80, within)
        self.assertLess(float(np.median(errors)), error)

    def test_a_day_on_the_counter_knows_the_mean(self):
        self.check(lambda appliance: [appliance.counter(26.0), appliance.spot()], 0.75, 0.03)

    def test_running_watts_and_a_tally_know_the_mean(self):
        self.check(
            lambda appliance: [appliance.spot(), appliance.spot(False), appliance.tally(8)],
            0.75,
            0.03,
        )

    def test_a_short_run_claims_less(self):
        short = [
            profile.mean_w.spread
            for _, profile in profiles(lambda appliance: [appliance.counter(3.0)], 10)
        ]
        long = [
            profile.mean_w.spread
            for _, profile in profiles(lambda appliance: [appliance.counter(30.0)], 10)
        ]
        self.assertGreater(min(short), max(long))

    def test_duty_and_start_and_factor(self):
        def build(appliance):
            return [
                appliance.counter(26.0),
                appliance.spot(),
                appliance.spot(False),
                appliance.tally(8),
                appliance.clamp(),
            ]

        duty, start, factor = [], [], []
        for appliance, profile in profiles(build):
            duty.append(abs(profile.duty.value / appliance.duty - 1))
            start.append(abs(profile.start_va.value / appliance.start_va - 1))
            factor.append(abs(profile.power_factor.value / appliance.factor - 1))
        self.assertLess(float(np.median(duty)), 0.05)
        self.assertLess(float(np.median(start)), 0.05)
        self.assertLess(float(np.median(factor)), 0.02)

    def test_a_drop_in_charge_knows_the_mean(self):
        def build(appliance):
            wh = 5000.0
            end = 1 - (appliance.mean_w / 0.9 + 20) * 10 / wh
            return [ChargeDrop(wh, 1.0, max(0.0, round(end, 2)), 10.0, 20.0, 0.9, proven=True)]

        self.check(build, 0.75, 0.03)

    def test_the_meter_agrees_with_itself(self):
        agree = sum(Appliance(seed).spot().agreement().consistent for seed in range(200))
        self.assertGreaterEqual(agree, 196)

    def test_a_misread_factor_is_found_when_it_is_far_off(self):
        caught = 0
        for seed in range(100):
            spot = Appliance(seed).spot()
            wrong = Spot(
                "running",
                watts=spot.watts,
                volts=spot.volts,
                amps=spot.amps,
                va=spot.va,
                pf=round(min(1.0, spot.watts / spot.va * 1.2), 2),
            )
            if spot.watts / spot.va < 0.8:
                caught += wrong.agreement().suspect == "pf"
            else:
                caught += 1
        self.assertGreaterEqual(caught, 97)


def by_the_second(plan, phase_s):
    """Hours until a plan's battery is at its floor, walked second by second in plain Python."""
    battery, inverter = plan.supply.battery, plan.supply.inverter
    left = battery.nominal_wh * battery.state_of_health.value
    left *= battery.start_charge - battery.floor
    (load,) = plan.loads
    for second in range(int(plan.hours * 3600)):
        place = ((second + phase_s) / (load.draw.cycle_min * 60)) % 1
        watts = load.draw.running_w if place < load.draw.duty else load.draw.resting_w
        left -= (inverter.idle_w.value + watts / inverter.efficiency.value) / 3600
        if left <= 0:
            return second / 3600
    return plan.hours


class WalkTest(unittest.TestCase):
    def test_the_simulator_agrees_with_a_walk_by_the_second(self):
        plan = parse_plan(
            exact(
                {
                    "hours": 20,
                    "supply": {
                        "battery": {
                            "chemistry": "lfp",
                            "nominal_wh": 900,
                            "capacity_factor": 1.0,
                            "capacity_spread": 0.0,
                        },
                        "inverter": {"continuous_w": 1000, "idle_w": 12, "efficiency": 0.9},
                    },
                    "loads": [
                        {
                            "name": "Box",
                            "running_w": 120,
                            "resting_w": 2,
                            "duty": 0.37,
                            "cycle_min": 53,
                        }
                    ],
                }
            )
        )
        outcome = simulate(plan, 40)
        walked = [by_the_second(plan, phase) for phase in np.linspace(0, 53 * 60, 40)]
        for mine, theirs in zip(outcome.runtime, np.quantile(walked, [0.1, 0.5, 0.9]), strict=True):
            self.assertAlmostEqual(mine, float(theirs), delta=0.06)

    def test_capacity_alone_spreads_the_runtime_as_it_should(self):
        plan = parse_plan(
            exact(
                {
                    "hours": 60,
                    "supply": {
                        "battery": {
                            "chemistry": "lfp",
                            "nominal_wh": 2000,
                            "capacity_factor": 0.9,
                            "capacity_spread": 0.1,
                        },
                        "inverter": {"continuous_w": 1000, "idle_w": 10, "efficiency": 0.9},
                    },
                    "loads": [{"name": "All", "running_w": 45}],
                }
            )
        )
        low, mid, high = simulate(plan, 400).runtime
        self.assertAlmostEqual(mid, 2000 * 0.9 * 0.9 / 60, delta=0.05)
        sigma = math.sqrt(math.log1p(0.01))
        self.assertAlmostEqual(high / low, math.exp(2 * 1.28155 * sigma), delta=0.01)

    def test_lead_acid_follows_its_law_at_every_power(self):
        for watts in (300, 500, 900):
            plan = parse_plan(
                exact(
                    {
                        "hours": 30,
                        "supply": {
                            "battery": {
                                "chemistry": "lead",
                                "nominal_wh": 2400,
                                "floor": 0.0,
                                "capacity_factor": 1.0,
                                "capacity_spread": 0.0,
                                "peukert_n": 1.2,
                            },
                            "inverter": {"continuous_w": 2000, "idle_w": 0, "efficiency": 1.0},
                        },
                        "loads": [{"name": "All", "running_w": watts}],
                    }
                )
            )
            expected = peukert_hours(2400 / 24, watts / 24, 1.2)
            self.assertAlmostEqual(simulate(plan, 10).runtime[1], expected, delta=0.005 * expected)


class PeukertReferenceTest(unittest.TestCase):
    def test_published_example(self):
        hours = peukert_hours(100, 25, 1.15)
        self.assertAlmostEqual(hours, 3.14, places=2)
        self.assertAlmostEqual(hours * 25, 78.6, places=1)
        self.assertAlmostEqual(peukert_hours(100, 5, 1.15), 20.0)


class HouseholdTest(unittest.TestCase):
    """Bench evidence alone, against a run to the true stop; ``make bench`` does it 30 times."""

    def test_plans_hold_the_true_hours(self):
        held, off = 0, []
        for seed in (1, 4):
            twin = household(seed)
            low, mid, high = simulate(twin.plan, 200).runtime
            held += low <= twin.true_h <= high
            off.append(abs(mid / twin.true_h - 1))
        self.assertGreaterEqual(held, 1)
        self.assertLess(float(np.median(off)), 0.05)
        self.assertLess(max(off), 0.15)
