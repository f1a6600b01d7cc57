"""What a capture is found to say, against what it was made of."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.measure.analysis import Corrections, analyse, as_document, as_reading
from needle.measure.capture import Capture
from needle.measure.readings import parse
from needle.profile.profile import derive
from needle.profile.record import LoadRecord
from needle.words import text_of


def capture_of(watts, interval=1.0, **columns):
    time = np.arange(len(watts)) * interval
    return Capture(time, {"watts": np.asarray(watts, dtype=float), **columns})


def cycling(
    seed=1,
    cycles=20,
    on=400,
    off=800,
    running=92.0,
    resting=1.8,
    spike=400.0,
    noise=0.4,
    defrost_every=0,
    interval=1.0,
):
    """Power of a fixed-speed box, and the on and off seconds of its complete cycles."""
    rng = np.random.default_rng(seed)
    parts, truth = [np.full(int(off / 2 / interval), resting)], []
    for number in range(cycles):
        a, b = (int(n * rng.normal(1, 0.06) / interval) for n in (on, off))
        run = running + 0.15 * running * np.exp(-np.arange(a) * interval / 90)
        run[0] = spike
        parts += [run]
        if defrost_every and number % defrost_every == defrost_every - 1:
            parts.append(np.full(int(1000 / interval), running * 2.4))
        parts.append(np.full(b, resting))
        truth.append((a * interval, b * interval))
    power = np.concatenate(parts)
    return power + rng.normal(0, noise, len(power)), truth


class PatternTest(unittest.TestCase):
    def test_a_cycling_box(self):
        power, truth = cycling()
        analysis = analyse(capture_of(power))
        self.assertEqual((analysis.pattern, analysis.cycles, analysis.starts), ("cycling", 20, 20))
        self.assertAlmostEqual(analysis.idle_w, 1.8, delta=0.2)
        self.assertAlmostEqual(analysis.running_w, 93, delta=3)
        on, all_s = sum(a for a, _ in truth[:-1]), sum(a + b for a, b in truth[:-1])
        self.assertAlmostEqual(analysis.duty.value, on / all_s, delta=0.004)
        self.assertTrue(analysis.duty.low < on / all_s < analysis.duty.high)
        self.assertAlmostEqual(analysis.start_peak_w, 400, delta=2)
        self.assertTrue(
            60 < np.median([start_event.settle_s for start_event in analysis.start_events]) < 140
        )

    def test_energy_is_the_integral(self):
        power, _ = cycling(cycles=8)
        analysis = analyse(capture_of(power))
        exact = np.sum((power[1:] + power[:-1]) / 2) / 3600
        self.assertAlmostEqual(analysis.energy_wh, exact, places=6)
        self.assertAlmostEqual(analysis.mean_w, exact * 3600 / (len(power) - 1), places=6)

    def test_a_defrost_is_a_state_of_its_own(self):
        power, truth = cycling(cycles=30, defrost_every=10)
        analysis = analyse(capture_of(power))
        self.assertEqual(analysis.pattern, "cycling")
        self.assertAlmostEqual(analysis.running_w, 93, delta=3)
        names = [state.name for state in analysis.states]
        self.assertEqual(names[:2], ["resting", "running"])
        self.assertIn("above running", names[2])
        self.assertAlmostEqual(analysis.states[2].watts, 221, delta=4)
        duty = sum(a for a, _ in truth) / sum(a + b for a, b in truth)
        self.assertAlmostEqual(analysis.duty.value, duty, delta=0.01)
        self.assertTrue(as_reading(analysis, 1.0)["rarer"])

    def test_steady_with_drift(self):
        rng = np.random.default_rng(2)
        analysis = analyse(capture_of(38 + np.linspace(0, 3, 4000) + rng.normal(0, 0.3, 4000)))
        self.assertEqual((analysis.pattern, analysis.starts, analysis.idle_w), ("steady", 0, None))
        self.assertAlmostEqual(analysis.running_w, 39.5, delta=0.2)
        self.assertEqual(analysis.duty.value, 1.0)

    def test_modulating(self):
        time = np.arange(30_000)
        rng = np.random.default_rng(3)
        power = 70 + 35 * np.sin(time / 1700) + 12 * np.sin(time / 310) + rng.normal(0, 1, 30_000)
        self.assertEqual(analyse(capture_of(power)).pattern, "modulating")

    def test_a_program(self):
        stages = [(0.5, 200), (1480, 720), *[(20, 35), (1480, 20)] * 20, (300, 900), (0.5, 300)]
        power = np.concatenate([np.full(n, w, dtype=float) for w, n in stages])
        analysis = analyse(capture_of(power + np.random.default_rng(4).normal(0, 0.4, len(power))))
        self.assertEqual(analysis.pattern, "program")
        self.assertEqual([round(state.watts, -1) for state in analysis.states], [0, 20, 300, 1480])
        self.assertIsNone(analysis.duty)

    def test_one_level_at_irregular_times_is_cycling_whatever_its_rest(self):
        for base in (0.0, 20.0):
            power = np.full(40_000, base)
            for start in (300, 420, 900, 12_000, 12_300, 31_000):
                power[start : start + 60] = 600.0
            analysis = analyse(capture_of(power))
            self.assertEqual((analysis.pattern, analysis.starts), ("cycling", 6))
            self.assertAlmostEqual(analysis.running_w, 600)
            self.assertEqual(as_reading(analysis, 1.0)["uses"], 6)

    def test_heat_whose_level_drifts_by_a_third_is_cycling(self):
        at = np.arange(20_000)
        level = 400 * (1 + 0.33 * np.sin(2 * np.pi * at / 9000))
        analysis = analyse(capture_of(np.where(at % 900 < 400, level, 2.0)))
        self.assertEqual(analysis.pattern, "cycling")
        self.assertAlmostEqual(analysis.duty.value, 400 / 900, delta=0.03)

    def test_one_block_in_silence_is_one_cycle(self):
        power = np.concatenate((np.full(60, 0.3), np.full(180, 2200.0), np.full(90, 0.3)))
        analysis = analyse(capture_of(power))
        self.assertEqual((analysis.pattern, analysis.cycles, analysis.starts), ("cycling", 1, 1))
        self.assertAlmostEqual(analysis.running_w, 2200, delta=1)

    def test_cut_off_cycles_do_not_bias_the_duty(self):
        power, truth = cycling(cycles=6, off=1600)
        cut = power[600:-1200]
        analysis = analyse(capture_of(cut))
        on, all_s = sum(a for a, _ in truth[:-1]), sum(a + b for a, b in truth[:-1])
        self.assertAlmostEqual(analysis.duty.value, on / all_s, delta=0.03)


class TroubleTest(unittest.TestCase):
    def test_never_across_a_gap(self):
        time = np.concatenate((np.arange(0, 600), np.arange(4200, 4800))).astype(float)
        analysis = analyse(Capture(time, {"watts": np.full(1200, 100.0)}))
        self.assertEqual((analysis.gaps, analysis.covered_s), (1, 1198.0))
        self.assertAlmostEqual(analysis.energy_wh, 1198 / 36, places=6)
        self.assertAlmostEqual(analysis.mean_w, 100)
        self.assertTrue(any("gaps" in text_of(notice) for notice in analysis.notices))

    def test_cycles_over_a_gap_do_not_count(self):
        power, truth = cycling(cycles=12)
        power[5000:6500] = np.nan
        analysis = analyse(capture_of(power))
        duty = sum(a for a, _ in truth) / sum(a + b for a, b in truth)
        self.assertAlmostEqual(analysis.duty.value, duty, delta=0.02)
        self.assertLess(analysis.whole_cycles, 11)

    def test_dropouts_of_a_second_change_nothing(self):
        power, _ = cycling(cycles=10)
        whole = analyse(capture_of(power))
        power[::97] = np.nan
        holes = analyse(capture_of(power))
        self.assertEqual(holes.cycles, whole.cycles)
        self.assertAlmostEqual(holes.duty.value, whole.duty.value, delta=0.003)
        self.assertAlmostEqual(holes.energy_wh / whole.energy_wh, 1, delta=0.01)

    def test_noise_and_coarse_steps(self):
        for noise, interval in ((4.0, 1.0), (0.4, 10.0), (0.4, 60.0)):
            with self.subTest(noise=noise, interval=interval):
                power, truth = cycling(cycles=16, noise=noise, interval=interval, on=900, off=1800)
                analysis = analyse(capture_of(power, interval))
                duty = sum(a for a, _ in truth) / sum(a + b for a, b in truth)
                self.assertEqual(analysis.pattern, "cycling")
                self.assertEqual(analysis.cycles, 16)
                self.assertAlmostEqual(analysis.duty.value, duty, delta=0.012)

    def test_power_factor_is_weighted_by_energy(self):
        power, _ = cycling(cycles=6)
        va = np.where(power > 20, power / 0.62, power / 0.3)
        analysis = analyse(capture_of(power, va=va))
        exact = power[power > 0].sum() / va[power > 0].sum()
        self.assertAlmostEqual(analysis.power_factor, exact, places=6)

    def test_too_little(self):
        with self.assertRaises(DocumentError):
            analyse(capture_of([1.0, np.nan, 2.0]))

    @given(st.lists(st.floats(0, 5000), min_size=3, max_size=400), st.integers(0, 99))
    def test_anything_is_analysed(self, values, seed):
        rng = np.random.default_rng(seed)
        power = np.repeat(values, rng.integers(1, 30, len(values)))
        analysis = analyse(capture_of(power))
        states = sum(state.wh for state in analysis.states)
        self.assertAlmostEqual(states, analysis.energy_wh, delta=0.02 * analysis.energy_wh + 0.5)
        if analysis.duty is not None:
            self.assertTrue(0 <= analysis.duty.value <= 1)
        self.assertTrue((analysis.segments.end_s >= analysis.segments.start_s).all())

    @settings(max_examples=25)
    @given(st.integers(0, 10_000), st.floats(0.15, 0.7), st.floats(30, 1500))
    def test_duty_of_any_box(self, seed, duty, running):
        power, truth = cycling(
            seed, 12, 1500 * duty, 1500 * (1 - duty), running, 1.5, spike=4 * running
        )
        analysis = analyse(capture_of(power))
        exact = sum(a for a, _ in truth[:-1]) / sum(a + b for a, b in truth[:-1])
        self.assertAlmostEqual(analysis.duty.value / exact, 1, delta=0.03)


class EvidenceTest(unittest.TestCase):
    def profile(self, power, interval=1.0, kind="compressor-fixed", more=(), **columns):
        analysis = analyse(capture_of(power, interval, **columns))
        reading = parse(as_reading(analysis, interval))
        return derive(LoadRecord("Box", kind, (reading, *map(parse, more))))

    def test_a_capture_of_hours_is_grade_b_evidence(self):
        power, truth = cycling(cycles=12)
        profile = self.profile(power, va=power / 0.62)
        self.assertEqual(
            (profile.grade, profile.running_w.grade, profile.duty.grade), ("B", "B", "B")
        )
        self.assertAlmostEqual(profile.running_w.value, 93, delta=3)
        self.assertAlmostEqual(profile.power_factor.value, 0.62, places=3)
        self.assertTrue(any("capture" in text_of(step) for step in profile.how))
        period = sum(a + b for a, b in truth) / len(truth)
        self.assertAlmostEqual(profile.cycle_min, period / 60, delta=0.4)

    def test_few_cycles_are_grade_b(self):
        power, _ = cycling(cycles=4)
        self.assertEqual(self.profile(power).grade, "B")

    def test_a_logged_peak_is_no_clamp_reading(self):
        power, _ = cycling(cycles=8)
        profile = self.profile(power)
        self.assertEqual(profile.start_va.grade, "D")
        clamp = {"type": "start", "amps": 5.9, "volts": 231, "instrument": "clamp"}
        self.assertAlmostEqual(self.profile(power, more=[clamp]).start_va.value, 1362.9, places=1)

    def test_a_defrost_counts_in_the_mean(self):
        power, _ = cycling(cycles=30, defrost_every=10)
        profile = self.profile(power)
        self.assertAlmostEqual(profile.mean_w.value, power.mean(), delta=0.5)

    def test_a_steady_load(self):
        profile = self.profile(np.full(7300, 14.2), kind="electronics")
        self.assertEqual(profile.grade, "A")
        self.assertAlmostEqual(profile.mean_w.value, 14.2)

    def test_document_has_the_contracts_keys(self):
        power, _ = cycling(cycles=5)
        document = as_document(analyse(capture_of(power)))
        self.assertEqual(
            set(document),
            {
                "samples",
                "duration_s",
                "covered_s",
                "gaps",
                "energy_wh",
                "mean_w",
                "pattern",
                "idle_w",
                "running_w",
                "duty",
                "cycles",
                "starts",
                "start_peak_w",
                "power_factor",
                "states",
                "segments",
                "start_events",
                "notices",
            },
        )


class CorrectionTest(unittest.TestCase):
    def test_bounds_and_names_replace_what_was_found(self):
        power, _ = cycling(cycles=20, defrost_every=10)
        capture = capture_of(power)
        joined = analyse(capture, corrections=Corrections(bounds_w=(10.0,)))
        self.assertEqual(len(joined.states), 2)
        self.assertFalse(joined.rarer)
        named = analyse(capture, corrections=Corrections(names=("asleep", "cooling", "defrost")))
        self.assertEqual([state.name for state in named.states], ["asleep", "cooling", "defrost"])
        self.assertTrue(named.rarer)

    def test_the_level_called_running_is_the_main_one(self):
        power, _ = cycling(cycles=20, defrost_every=10)
        analysis = analyse(
            capture_of(power), corrections=Corrections(names=("resting", "cooling", "running"))
        )
        self.assertAlmostEqual(analysis.running_w, 221, delta=4)

    def test_nonsense_names_change_nothing(self):
        power, _ = cycling(cycles=6)
        plain = analyse(capture_of(power))
        odd = analyse(capture_of(power), corrections=Corrections(names=("running", "", "x", "y")))
        self.assertEqual(odd.running_w, plain.running_w)


class BurstsAndBlocksTest(unittest.TestCase):
    """Patterns that look like something else at first."""

    def setUp(self):
        self.rng = np.random.default_rng(3)

    def rest(self, rows, watts=0.5):
        return watts + self.rng.normal(0, 0.1, rows)

    def pulses(self, rows, count, length, watts):
        power = self.rest(rows)
        for number in range(count):
            at = (number + 1) * rows // (count + 2) + int(self.rng.integers(0, rows // 40))
            power[at : at + length] = watts * (1 + self.rng.normal(0, 0.05, length))
        return power

    def test_bursts_between_long_rests_have_a_level_a_duty_and_starts(self):
        for rows, interval, count, length, watts in (
            (8640, 10.0, 11, 2, 600.0),
            (86_400, 1.0, 11, 14, 600.0),
            (2160, 10.0, 6, 18, 2150.0),
        ):
            with self.subTest(interval=interval, count=count):
                analysis = analyse(capture_of(self.pulses(rows, count, length, watts), interval))
                self.assertEqual(
                    (analysis.pattern, analysis.cycles, analysis.starts), ("cycling", count, count)
                )
                self.assertAlmostEqual(analysis.running_w, watts, delta=0.05 * watts)

    def test_a_level_that_falls_over_each_run_still_cycles(self):
        run = 120 * (1 - 0.3 * np.arange(900) / 900)
        power = np.concatenate([np.concatenate([self.rest(1500), run]) for _ in range(8)])
        analysis = analyse(capture_of(power, 1.0))
        self.assertEqual((analysis.pattern, analysis.starts), ("cycling", 8))
        self.assertAlmostEqual(analysis.running_w, 102, delta=3)

    def test_one_block_is_one_cycle(self):
        oven = np.concatenate(
            [self.rest(600), np.full(240, 2400.0), np.full(1560, 1200.0), self.rest(900)]
        )
        second = np.arange(7200)
        falling = np.where(second < 4500, 62.0, 62 * np.exp(-(second - 4500) / 900))
        charge = np.concatenate([self.rest(600), np.maximum(falling, 0.5), self.rest(1200)])
        for power, level in ((oven, 1200), (charge, 62)):
            analysis = analyse(capture_of(power, 1.0))
            self.assertEqual(
                (analysis.pattern, analysis.cycles, analysis.starts), ("cycling", 1, 1)
            )
            self.assertAlmostEqual(analysis.running_w, level, delta=0.03 * level)

    def test_a_short_dip_is_no_second_start(self):
        run = np.full(900, 95.0)
        dipped = run.copy()
        dipped[400:406] = 2.0
        power = np.concatenate(
            [np.concatenate([self.rest(1500), dipped if n in (2, 5) else run]) for n in range(8)]
        )
        self.assertEqual(analyse(capture_of(power, 1.0)).starts, 8)

    def test_what_wanders_without_rest_modulates(self):
        knots = self.rng.normal(0, 0.25, 19)
        power = 45 * np.exp(np.interp(np.arange(21_600), np.arange(0, 21_601, 1200), knots))
        self.assertEqual(analyse(capture_of(power, 1.0)).pattern, "modulating")
