"""Stand-ins: repeatable, with true starts, and meters that err as their class does."""

import unittest

import numpy as np

from needle.measure.analysis import analyse, as_reading
from needle.measure.readings import parse
from needle.measure.steady import steady_now
from needle.profile.profile import derive
from needle.profile.record import LoadRecord
from needle.standin import meters
from needle.standin.appliances import APPLIANCES, timeline


class TimelineTest(unittest.TestCase):
    def test_the_same_seed_gives_the_same_course(self):
        time = np.linspace(0, 80_000, 500)
        for key in APPLIANCES:
            with self.subTest(kind=key):
                timeline.cache_clear()
                first = timeline(key, 4).sample(time)
                timeline.cache_clear()
                np.testing.assert_array_equal(first.watts, timeline(key, 4).sample(time).watts)
                self.assertNotEqual(timeline(key, 4).mean_w(), timeline(key, 5).mean_w())

    def test_relations_hold_at_every_moment(self):
        time = np.sort(np.random.default_rng(1).uniform(0, 86_400, 20_000))
        for key in APPLIANCES:
            with self.subTest(kind=key):
                sample = timeline(key, 2).sample(time)
                np.testing.assert_allclose(sample.volts * sample.amps, sample.va, rtol=1e-9)
                self.assertTrue((sample.watts <= sample.va + 1e-9).all())
                self.assertTrue((sample.watts > -1e-6).all())
                self.assertTrue(((sample.volts > 180) & (sample.volts < 240)).all())

    def test_the_mean_is_the_integral(self):
        for key in ("cold-box", "charger", "programme", "variable"):
            with self.subTest(kind=key):
                line = timeline(key, 1)
                time = np.arange(0, 6 * 3600, 0.5) + 0.25
                self.assertAlmostEqual(
                    line.sample(time).watts.mean() / line.mean_w(0, 6 * 3600), 1, delta=0.004
                )

    def test_starts_are_there_at_ten_milliseconds(self):
        line = timeline("cold-box", 3)
        start = line.starts_s()[2]
        time = start + np.arange(-0.05, 0.5, 0.01)
        va = line.sample(time).va
        inrush = max(segment.inrush_va for segment in line.segments)
        self.assertGreater(va.max(), 0.95 * inrush)
        self.assertLess(va[time < start - 0.005].max(), 0.1 * inrush)
        self.assertLess(va[-1], 0.4 * inrush)


class MeterTest(unittest.TestCase):
    def setUp(self):
        self.line = timeline("cold-box", 3)
        self.start = self.line.starts_s()[3]

    def test_a_plug_meter_is_within_its_accuracy(self):
        time = self.start + np.arange(120.0, 300.0)
        for seed in range(6):
            read = meters.plug_meter(seed).read(self.line, time)
            true = self.line.sample(time).watts
            self.assertLess(abs(read["watts"].mean() / true.mean() - 1), 0.012)
            np.testing.assert_allclose(read["watts"] * 10, np.round(read["watts"] * 10), atol=1e-6)

    def test_it_is_blind_to_short_starts_and_a_clamp_is_not(self):
        inrush = max(segment.inrush_va for segment in self.line.segments)
        time = self.start + np.arange(-5.0, 10.0)
        plug = meters.plug_meter(1).read(self.line, time)["va"].max()
        self.assertLess(plug, 0.6 * inrush)
        clamp = meters.clamp_inrush(self.line, self.start) * 230
        self.assertAlmostEqual(clamp / inrush, 1, delta=0.08)

    def test_around_the_whole_cable_it_reads_nothing(self):
        self.assertLess(meters.clamp_inrush(self.line, self.start, whole_cable=True), 0.05)

    def test_the_counter_counts(self):
        meter = meters.plug_meter(2)
        wh = meter.counter_wh(self.line, 0, 20 * 3600)
        self.assertAlmostEqual(wh, self.line.mean_w(0, 20 * 3600) * 20, delta=20)
        self.assertEqual(wh % 10, 0)


class SteadyTest(unittest.TestCase):
    def test_steady_moving_and_settling(self):
        time = np.arange(60.0)
        calm = steady_now(time, np.full(60, 92.4))
        self.assertEqual((calm.seconds, calm.watts), (59.0, 92.4))
        self.assertEqual(steady_now(time, 50 + time).seconds, 0.0)
        settled = steady_now(time, np.where(time < 25, 140.0, 92.0))
        self.assertEqual(settled.seconds, 34.0)
        self.assertEqual(steady_now(time[:10], np.full(10, 92.0)).seconds, 0.0)


class TwinTest(unittest.TestCase):
    """A slice; ``make bench`` does 55."""

    def test_captures_of_twins_give_their_truth(self):
        held, errors, duties = 0, [], []
        kinds = ("cold-box", "heater", "stepped", "electronics", "variable")
        for key in kinds:
            for seed in (1, 4):
                line = timeline(key, seed)
                meter = (meters.plug_meter if seed % 2 else meters.panel_logger)(seed)
                capture = meter.capture(line, 0, 48 * 3600)
                reading = as_reading(analyse(capture), meter.interval_s)
                reading["instrument"] = meter.instrument.key
                profile = derive(LoadRecord("x", APPLIANCES[key].kind, (parse(reading),)))
                true = line.mean_w()
                held += profile.mean_w.low <= true <= profile.mean_w.high
                errors.append(abs(profile.mean_w.value / true - 1))
                if key in ("heater", "stepped"):
                    on = next(
                        segment.watts for segment in line.segments if segment.state == "running"
                    )
                    rest = next(
                        segment.watts for segment in line.segments if segment.state == "resting"
                    )
                    duties.append(abs(profile.duty.value / ((true - rest) / (on - rest)) - 1))
        self.assertGreaterEqual(held, 7)
        self.assertLess(float(np.median(errors)), 0.03)
        self.assertLess(float(np.median(duties)), 0.05)
