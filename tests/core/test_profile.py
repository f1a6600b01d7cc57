"""From readings to a profile."""

import math
import random
import unittest
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.measure.readings import EnergyRun, Tally, Task, parse
from needle.plan.documents.measured import load_document
from needle.profile import energy, temperature
from needle.profile.document import as_document, parse_load
from needle.profile.kinds import KINDS
from needle.profile.profile import derive
from needle.profile.record import LoadRecord, NoEvidence
from needle.words import text_of

BOX = {
    "name": "Cold box",
    "kind": "compressor-fixed",
    "mains": {"volts": 230, "hertz": 50},
    "readings": [
        {"type": "label", "watts": 120, "volts": 230, "amps": 0.9, "kwh_per_year": 290},
        {
            "type": "spot",
            "state": "running",
            "watts": 92.4,
            "volts": 231.2,
            "amps": 0.64,
            "va": 148,
            "pf": 0.62,
            "instrument": "plug",
        },
        {"type": "spot", "state": "resting", "watts": 1.8},
        {"type": "start", "amps": 5.9, "volts": 231, "instrument": "clamp"},
        {"type": "energy", "wh": 710, "hours": 21.5, "step_wh": 10, "room_c": 24},
        {"type": "tally", "edges": [["on", 0], ["off", 440], ["on", 1290]]},
    ],
}


def record(readings, kind="compressor-fixed", **more):
    return LoadRecord("Load", kind, tuple(parse(reading) for reading in readings), **more)


#: How a cold box is taken to behave between readings.
WATCHED = energy.Watched(KINDS["compressor-fixed"], 0.07, 40.0, 0.35)


class WholeProfileTest(unittest.TestCase):
    def test_a_well_measured_box(self):
        profile = derive(parse_load(BOX))
        self.assertAlmostEqual(profile.mean_w.value, 33.02, places=2)
        self.assertAlmostEqual(profile.duty.value, 0.3446, places=4)
        self.assertEqual(profile.grade, "B")
        self.assertEqual(profile.duty.grade, "B")
        self.assertAlmostEqual(profile.start_va.value, 1362.9, places=1)
        self.assertAlmostEqual(profile.power_factor.value, 0.624, places=3)
        self.assertAlmostEqual(profile.wh_per_day.value, 33.02 * 24, delta=0.1)
        self.assertAlmostEqual(profile.cycle_min, 21.5)
        self.assertEqual(profile.measured_room_c, 24)
        self.assertTrue(profile.mean_w.low < 33.02 < profile.mean_w.high)
        self.assertEqual(profile.notices, ())

    def test_document_has_all_keys_of_the_contract(self):
        document = as_document(derive(parse_load(BOX)))
        for key in (
            "mean_w",
            "running_w",
            "resting_w",
            "duty",
            "power_factor",
            "start_va",
            "wh_per_day",
            "task_wh",
            "piece_wh",
            "states",
            "grade",
            "how",
            "advice",
            "notices",
        ):
            self.assertIn(key, document)
        self.assertEqual(set(document["mean_w"]), {"value", "low", "high"})
        self.assertIsNone(document["task_wh"])

    @settings(max_examples=30)
    @given(st.randoms())
    def test_the_order_of_readings_does_not_matter(self, rng):
        readings = [
            *BOX["readings"],
            {"type": "energy", "wh": 1590, "hours": 48.2},
            {"type": "spot", "watts": 95.0},
            {"type": "task", "wh": 612, "minutes": 54, "pieces": 14},
            {"type": "charge-drop", "supply_wh": 1020, "from": 1.0, "to": 0.7, "hours": 8},
        ]
        shuffled = list(readings)
        rng.shuffle(shuffled)
        first = as_document(derive(record(readings)))
        second = as_document(derive(record(shuffled)))
        self.assertEqual(first["how"], second["how"])
        self.assertEqual(sorted(first["notices"]), sorted(second["notices"]))
        for key in ("mean_w", "running_w", "duty", "start_va", "task_wh"):
            for side in ("value", "low", "high"):
                self.assertAlmostEqual(first[key][side], second[key][side], places=9)

    def test_each_better_reading_narrows_the_mean(self):
        steps = [
            [{"type": "label", "watts": 120}],
            [{"type": "label", "watts": 120, "kwh_per_year": 290}],
            [*BOX["readings"][1:3], BOX["readings"][5]],
            BOX["readings"],
            [*BOX["readings"], {"type": "energy", "wh": 2380, "hours": 72}],
        ]
        spreads = [derive(record(step)).mean_w.spread for step in steps]
        self.assertEqual(spreads, sorted(spreads, reverse=True))
        grades = [derive(record(step)).grade for step in steps]
        self.assertEqual(grades, ["D", "C", "B", "B", "A"])

    def test_no_evidence_is_said(self):
        for readings in ([], [{"type": "start", "amps": 5}]):
            with self.assertRaises(NoEvidence):
                derive(record(readings))

    def test_bad_load_documents(self):
        for data, said in [
            ({"kind": "compresor-fixed"}, "did you mean “compressor-fixed”"),
            ({"kind": "led", "raedings": []}, "did you mean “readings”"),
            ({"kind": "led", "mains": {"volts": -5}}, "mains.volts"),
            ({"kind": "led", "readings": [{"type": "spot", "watts": -1}]}, "readings[0].watts"),
            ([], "object"),
        ]:
            with self.subTest(said=said):
                with self.assertRaises(DocumentError) as caught:
                    parse_load(data)
                self.assertIn(said, str(caught.exception))


class LabelTest(unittest.TestCase):
    def test_a_heaters_label_is_near_the_truth_and_a_motors_is_not(self):
        heater = derive(record([{"type": "label", "watts": 1500}], "thermostat-heat"))
        self.assertAlmostEqual(heater.running_w.value, 1456, delta=5)
        self.assertLess(heater.running_w.spread, 0.06)
        box = derive(record([{"type": "label", "watts": 120}]))
        self.assertAlmostEqual(box.running_w.low, 30, delta=4)
        self.assertAlmostEqual(box.running_w.high, 100, delta=20)
        self.assertEqual(box.grade, "D")

    def test_horsepower_is_at_the_shaft(self):
        profile = derive(record([{"type": "label", "horsepower": 0.5}], "induction-motor"))
        self.assertAlmostEqual(profile.running_w.value, 373 / 0.65, places=6)
        self.assertLess(profile.running_w.low, 373 / 0.8)

    def test_amps_times_volts_bounds_the_running_watts(self):
        profile = derive(record([{"type": "label", "amps": 2.0, "volts": 230}], "electronics"))
        self.assertLess(profile.running_w.value, 460)

    def test_an_energy_label_is_grade_c(self):
        profile = derive(record([{"type": "label", "kwh_per_year": 190}]))
        self.assertEqual(profile.grade, "C")
        self.assertAlmostEqual(profile.mean_w.value, 190_000 / 8760, places=6)

    def test_label_watts_and_a_tally_are_grade_c(self):
        readings = [{"type": "label", "watts": 100}, BOX["readings"][5]]
        self.assertEqual(derive(record(readings, "thermostat-heat")).grade, "C")


class SpotTest(unittest.TestCase):
    def test_a_clamp_alone_shows_a_range_of_watts(self):
        spot = {"type": "spot", "amps": 2.0, "volts": 230, "instrument": "clamp"}
        profile = derive(record([spot], "induction-motor"))
        self.assertAlmostEqual(profile.running_w.value, 460 * 0.75, places=6)
        self.assertEqual(profile.running_w.grade, "D")
        self.assertTrue(any("assume" in text_of(notice) for notice in profile.notices))

    def test_an_inconsistent_set_is_used_without_its_culprit(self):
        spot = {"type": "spot", "volts": 231, "amps": 3.30, "watts": 610, "va": 762, "pf": 0.70}
        profile = derive(record([spot], "induction-motor"))
        self.assertAlmostEqual(profile.power_factor.value, 0.8005, places=4)
        self.assertTrue(any("misread" in text_of(notice) for notice in profile.notices))

    def test_an_impossible_set_is_flagged_and_not_used(self):
        spots = [{"type": "spot", "watts": 200, "va": 148}, {"type": "label", "watts": 120}]
        profile = derive(record(spots))
        self.assertEqual(profile.running_w.grade, "D")
        self.assertTrue(any("cannot exceed" in text_of(notice) for notice in profile.notices))

    def test_settings_are_kept_apart(self):
        spots = [
            {"type": "spot", "watts": 31, "setting": "low"},
            {"type": "spot", "watts": 63, "setting": "mid"},
            {"type": "spot", "watts": 65, "setting": "mid"},
        ]
        self.assertAlmostEqual(derive(record(spots, "thermostat-heat")).running_w.value, 64.0)
        low = derive(record(spots, "thermostat-heat", setting="low"))
        self.assertAlmostEqual(low.running_w.value, 31.0)
        self.assertEqual(len(low.states), 2)
        self.assertTrue(any("low" in text_of(notice) for notice in low.notices))

    def test_the_highest_state_speaks_where_none_is_called_running(self):
        spots = [
            {"type": "spot", "state": "heating", "watts": 1480},
            {"type": "spot", "state": "dry", "watts": 300},
        ]
        self.assertAlmostEqual(derive(record(spots, "resistive-heat")).running_w.value, 1480)

    def test_repeated_readings_narrow_and_scattered_ones_less(self):
        def spread(*watts):
            return derive(
                record([{"type": "spot", "watts": value_w} for value_w in watts], "led")
            ).running_w.spread

        self.assertGreater(spread(38), spread(38, 38.2))
        self.assertGreater(spread(38, 38.2), spread(38, 38.1, 38.2, 37.9))
        self.assertGreater(spread(30, 46), spread(38, 38.2))


class CounterTest(unittest.TestCase):
    def test_a_coarse_counter_says_how_long_to_go_on(self):
        self.assertAlmostEqual(energy.count_error(40, 10), 0.125)
        self.assertAlmostEqual(energy.hours_to_settle_count(10, 10), 10.0)
        profile = derive(record([{"type": "energy", "wh": 40, "hours": 4}], "electronics"))
        self.assertEqual(profile.grade, "B")
        self.assertTrue(any("±12 %" in text_of(hint.what) for hint in profile.advice))
        self.assertTrue(any("6\u00a0h" in text_of(hint.method) for hint in profile.advice))

    def test_a_day_makes_grade_a_and_six_cycles_do_not(self):
        run = {"type": "energy", "wh": 200, "hours": 6}
        self.assertEqual(derive(record([run])).grade, "B")
        tally = BOX["readings"][5]
        self.assertEqual(derive(record([run, tally, {"type": "spot", "watts": 92}])).grade, "B")
        self.assertEqual(derive(record([{"type": "energy", "wh": 800, "hours": 24}])).grade, "A")

    def test_a_counter_that_was_read_again_counts_once(self):
        run = {"type": "energy", "instrument": "plug"}
        evening = {**run, "wh": 210, "hours": 6, "at": "2026-11-02T22:00:00+00:00"}
        next_day = {**run, "wh": 800, "hours": 24, "at": "2026-11-03T16:05:00+00:00"}
        anew = {**evening, "at": "2026-11-03T22:10:00+00:00"}

        def mean(*readings):
            profile = derive(record(readings))
            return profile.mean_w.value, profile.mean_w.spread

        self.assertEqual(mean(evening, next_day), mean(next_day))
        self.assertNotEqual(mean(anew, next_day), mean(next_day))
        other = {**evening, "instrument": "logger"}
        self.assertNotEqual(mean(other, next_day), mean(next_day))

    def test_contradicting_runs_widen(self):
        def spread(first, second):
            return energy.from_counter(
                [EnergyRun(first, 24), EnergyRun(second, 24)], WATCHED
            ).spread

        self.assertGreater(spread(500, 1100), 3 * spread(790, 800))

    def test_a_counter_above_the_running_watts_is_questioned(self):
        readings = [{"type": "spot", "watts": 50}, {"type": "energy", "wh": 2400, "hours": 24}]
        profile = derive(record(readings))
        self.assertEqual(profile.duty.value, 1.0)
        self.assertTrue(any("counter reset" in text_of(notice) for notice in profile.notices))

    def test_two_ways_that_differ_are_said(self):
        readings = [
            *BOX["readings"][1:3],
            BOX["readings"][5],
            {"type": "energy", "wh": 1700, "hours": 25},
        ]
        profile = derive(record(readings))
        self.assertTrue(any("Two ways" in text_of(notice) for notice in profile.notices))

    def test_a_counter_that_never_moved_is_a_bound(self):
        spot = {"type": "spot", "watts": 444}
        profile = derive(record([spot, {"type": "energy", "wh": 0, "hours": 12}], "pump"))
        usual = derive(record([spot], "pump")).mean_w
        self.assertLess(profile.mean_w.high, usual.high / 4)
        self.assertAlmostEqual(profile.running_w.value, 444)
        self.assertTrue(any("last digit moves" in text_of(notice) for notice in profile.notices))
        self.assertFalse(any("inf" in text_of(hint.said) for hint in profile.advice))
        # In a span beside others in which it moved, it is time in which nothing was drawn.
        moved = derive(record([spot, {"type": "energy", "wh": 120, "hours": 12}], "pump"))
        both = derive(
            record(
                [
                    spot,
                    {"type": "energy", "wh": 120, "hours": 12},
                    {"type": "energy", "wh": 0, "hours": 12},
                ],
                "pump",
            )
        )
        self.assertLess(both.mean_w.value, 0.8 * moved.mean_w.value)

    def test_a_capture_in_which_nothing_was_drawn_is_a_bound_on_how_often(self):
        still = {"type": "capture", "pattern": "steady", "covered_h": 10, "wh": 0, "running_w": 0}
        profile = derive(record([{"type": "label", "watts": 600}, still], "pump"))
        self.assertGreater(profile.mean_w.value, 0)
        self.assertAlmostEqual(profile.running_w.value, 300, delta=1)
        self.assertLess(profile.mean_w.high, 10)


class TallyTest(unittest.TestCase):
    def test_only_whole_cycles_count(self):
        tally = Tally((("on", 0.0), ("off", 400.0), ("on", 1000.0), ("off", 9000.0)))
        cycles = energy.from_tallies([tally])
        self.assertEqual(cycles.count, 1)
        self.assertAlmostEqual(cycles.duty.value, 0.4)

    def test_beginning_with_off(self):
        tally = Tally((("off", 0.0), ("on", 600.0), ("off", 1000.0)))
        self.assertAlmostEqual(energy.from_tallies([tally]).duty.value, 0.4)

    def test_duty_of_a_twin_is_inside_its_range(self):
        rng = random.Random(5)
        inside = 0
        for _ in range(200):
            at, edges = 0.0, []
            for _ in range(8):
                on, off = rng.gauss(400, 40), rng.gauss(800, 80)
                edges += [("on", at), ("off", at + on)]
                at += on + off
            cycles = energy.from_tallies([Tally((*edges, ("on", at)))])
            inside += cycles.duty.low <= 1 / 3 <= cycles.duty.high
        self.assertTrue(140 <= inside <= 190, inside)

    def test_says_how_many_more_cycles(self):
        edges = []
        for number, on in enumerate((300, 420, 380, 310, 450)):
            edges += [("on", 1200.0 * number), ("off", 1200.0 * number + on)]
        few = energy.from_tallies([Tally((*edges, ("on", 6000.0)))])
        self.assertGreater(few.more_cycles, 5)


class OtherEvidenceTest(unittest.TestCase):
    def test_task_and_piece(self):
        profile = derive(record([{"type": "task", "wh": 612, "minutes": 54, "pieces": 14}], "led"))
        self.assertAlmostEqual(profile.task_wh.value, 612)
        self.assertAlmostEqual(profile.piece_wh.value, 43.7, places=1)
        self.assertAlmostEqual(profile.mean_w.value, 680)
        self.assertIsNone(profile.wh_per_day)
        self.assertEqual(profile.grade, "B")

    def test_two_tasks_make_grade_a(self):
        wh, piece, mean = energy.per_task([Task(612, 54, 14), Task(604, 52, 14)])
        self.assertEqual((wh.grade, piece.grade, mean.grade), ("A", "A", "A"))
        self.assertAlmostEqual(wh.value, 608)

    def test_a_drop_in_charge(self):
        drop = parse(
            {"type": "charge-drop", "supply_wh": 1020, "from": 1.0, "to": 0.91, "hours": 6}
        )
        known = replace(drop, idle_w=0.0, efficiency=1.0, proven=True)
        self.assertAlmostEqual(energy.from_charge_drop(known, WATCHED).value, 15.3)
        self.assertIsNone(energy.from_charge_drop(replace(known, idle_w=20.0), WATCHED))

    def test_a_small_difference_of_large_figures_is_known_badly(self):
        drop = parse(
            {
                "type": "charge-drop",
                "supply_wh": 1020,
                "from": 1.0,
                "to": 0.91,
                "hours": 6,
                "idle_w": 12,
            }
        )
        self.assertGreater(energy.from_charge_drop(replace(drop, proven=True), WATCHED).spread, 0.5)
        self.assertGreater(energy.from_charge_drop(replace(drop, idle_w=None), WATCHED).spread, 0.5)

    def test_hours_a_day(self):
        spot = [{"type": "spot", "watts": 38}]
        self.assertIsNone(derive(record(spot, "led")).wh_per_day)
        used = derive(record(spot, "led", hours_per_day=6.5))
        self.assertAlmostEqual(used.wh_per_day.value, 247)

    def test_a_plug_meter_does_not_see_a_short_start(self):
        readings = [
            {"type": "spot", "watts": 92, "va": 148},
            {"type": "start", "watts": 400, "instrument": "plug"},
        ]
        profile = derive(record(readings))
        without = derive(record(readings[:1]))
        self.assertGreaterEqual(profile.start_va.value, without.start_va.value)
        self.assertEqual(profile.start_va.grade, "D")
        self.assertTrue(any("blind" in text_of(notice) for notice in profile.notices))

    def test_what_a_slow_meter_saw_of_a_start_cuts_off_what_lies_below(self):
        spot = {"type": "spot", "watts": 92, "va": 148}
        usual = derive(record([spot])).start_va
        seen = {"type": "start", "va": usual.value * 1.2, "instrument": "plug"}
        bounded = derive(record([spot, seen])).start_va
        self.assertGreater(bounded.value, usual.value * 1.2)
        self.assertGreater(bounded.low, usual.low)
        self.assertLess(bounded.spread, usual.spread)

    def test_without_a_start_the_kind_speaks(self):
        profile = derive(record([{"type": "spot", "watts": 92.4, "va": 148}]))
        self.assertAlmostEqual(profile.start_va.value, 740, delta=1)
        self.assertEqual(profile.start_va.grade, "D")
        self.assertTrue(any(hint.narrows == "start" for hint in profile.advice))

    def test_every_kind_gives_a_profile_from_a_label(self):
        for key in KINDS:
            with self.subTest(kind=key):
                profile = derive(record([{"type": "label", "watts": 100}], key))
                self.assertTrue(0 <= profile.duty.value <= 1)
                self.assertGreater(profile.running_w.high, profile.running_w.low)
                self.assertGreaterEqual(profile.start_va.value, profile.running_w.value)


class TemperatureTest(unittest.TestCase):
    def test_a_cold_box_in_a_warmer_room(self):
        scaled = temperature.scale_mean(4, 24, 31)
        self.assertAlmostEqual(33 * scaled.factor, 48.3, places=1)
        self.assertGreater(scaled.spread, 0.1)

    def test_a_warm_box_in_a_warmer_room_draws_less(self):
        self.assertAlmostEqual(temperature.scale_mean(33, 23, 28, heats=True).factor, 0.5)

    def test_the_same_room_changes_nothing(self):
        self.assertEqual(temperature.scale_mean(4, 24, 24), temperature.Scaling(1.0, 0.0))

    def test_a_room_on_the_wrong_side_is_refused(self):
        with self.assertRaises(ValueError):
            temperature.scale_mean(4, 3, 20)


class DirectCurrentTest(unittest.TestCase):
    """On DC volts times amps are watts, and there is no power factor."""

    def test_a_lamp_of_twelve_volts(self):
        spot = {"type": "spot", "volts": 12.6, "amps": 11.0, "state": "running"}
        for more in ({"dc": True}, {}):
            profile = derive(
                parse_load({"name": "Light", "kind": "led", "readings": [spot], **more})
            )
            self.assertAlmostEqual(profile.running_w.value, 138.6, places=3)
            self.assertFalse(any("power factor" in text_of(notice) for notice in profile.notices))
        self.assertIsNotNone(as_document(profile)["power_factor"])

    def test_said_to_be_dc_it_has_no_power_factor(self):
        label = {"type": "label", "amps": 3.0, "volts": 48.0}
        data = {"name": "Pump", "kind": "induction-motor", "readings": [label], "dc": True}
        document = as_document(derive(parse_load(data)))
        self.assertIsNone(document["power_factor"])
        self.assertFalse(any("Power factor" in text_of(step.said) for step in document["how"]))
        # Labels of motors state more than they draw: 144 W is the upper bound.
        self.assertLessEqual(document["running_w"]["high"], 144.1)
        plan = load_document(derive(parse_load(data)), "Pump")
        self.assertNotIn("power_factor", plan)

    def test_its_own_volts(self):
        data = {
            "name": "Pump",
            "kind": "led",
            "dc": True,
            "volts": 24.0,
            "readings": [{"type": "spot", "amps": 2.0, "state": "running"}],
        }
        self.assertAlmostEqual(derive(parse_load(data)).running_w.value, 48.0)


class AssumedDutyTest(unittest.TestCase):
    DUTY = {"type": "duty", "low": 0.25, "high": 0.45}
    SPOT = {"type": "spot", "state": "running", "watts": 100.0, "instrument": "plug"}

    def test_a_scenario_with_its_range(self):
        profile = derive(record([self.DUTY, self.SPOT]))
        # A defrost that nobody saw may come: the middle lies a little above.
        self.assertAlmostEqual(profile.mean_w.value, 100 * math.sqrt(0.25 * 0.45), delta=2)
        self.assertEqual(profile.grade, "D")
        self.assertAlmostEqual(profile.mean_w.low, 25, delta=1.5)
        self.assertAlmostEqual(profile.mean_w.high, 45, delta=4)
        self.assertIn("as assumed", " ".join(map(text_of, profile.how)))

    def test_whoever_counts_knows_better(self):
        counted = {"type": "energy", "wh": 2400, "hours": 48}
        self.assertAlmostEqual(
            derive(record([self.DUTY, self.SPOT, counted])).mean_w.value, 50, delta=1
        )

    def test_refusals(self):
        for change, said in (
            ({"low": 0.0}, "above 0"),
            ({"high": 1.2}, "at most 1"),
            ({"low": 0.5, "high": 0.2}, "is below the low end"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(DocumentError, said):
                parse({**self.DUTY, **change})


class ShortRunTest(unittest.TestCase):
    RUN = {"type": "short-run", "watts": 780, "seconds": 150, "times_per_day": 6}

    def test_energy_of_a_use_and_of_a_day(self):
        profile = derive(record([self.RUN], "resistive-heat"))
        self.assertAlmostEqual(profile.task_wh.value, 32.5)
        self.assertAlmostEqual(profile.task_min, 2.5)
        self.assertAlmostEqual(profile.running_w.value, 780)
        self.assertAlmostEqual(profile.wh_per_day.value, 195)
        # How often it happens is somebody's word.
        self.assertEqual(profile.wh_per_day.grade, "C")
        self.assertGreater(profile.wh_per_day.high / profile.wh_per_day.value, 1.25)

    def test_how_often_need_not_be_known(self):
        run = {key: value for key, value in self.RUN.items() if key != "times_per_day"}
        self.assertIsNone(derive(record([run], "resistive-heat")).wh_per_day)
        with self.assertRaisesRegex(DocumentError, "more than a day"):
            parse({**self.RUN, "times_per_day": 1000})


class ByFeelTest(unittest.TestCase):
    def test_about_half(self):
        spot = {"type": "spot", "state": "running", "watts": 100}
        profile = derive(record([spot, {"type": "duty", "feel": "about half"}], "thermostat-heat"))
        self.assertEqual(profile.grade, "D")
        self.assertAlmostEqual(profile.mean_w.low, 35, delta=1)
        self.assertAlmostEqual(profile.mean_w.high, 65, delta=2)
        with self.assertRaisesRegex(DocumentError, "leave low and high out"):
            parse({"type": "duty", "feel": "about half", "low": 0.4})
        with self.assertRaisesRegex(DocumentError, "about half"):
            parse({"type": "duty", "feel": "about halv"})


class CountedAtAnOutputTest(unittest.TestCase):
    RUN = {"type": "energy", "wh": 100, "hours": 20, "step_wh": 0.1, "counted": "dc"}

    def test_an_adapter_takes_more_at_the_plug(self):
        profile = derive(record([self.RUN], "electronics"))
        self.assertAlmostEqual(profile.mean_w.value, 5 / 0.88)
        self.assertGreater(profile.mean_w.spread, 0.05)
        self.assertIn("USB meter", " ".join(map(text_of, profile.how)))

    def test_a_load_that_runs_on_dc_takes_what_was_counted(self):
        self.assertAlmostEqual(derive(record([self.RUN], "electronics", dc=True)).mean_w.value, 5)


class LabelBoundsTest(unittest.TestCase):
    def test_shaft_power_and_input_of_one_label_are_pooled(self):
        shaft = {"type": "label", "horsepower": 1}
        both = derive(record([{**shaft, "watts": 1400}], "pump")).running_w
        alone = derive(record([shaft], "pump")).running_w
        self.assertLess(both.spread, alone.spread)
        self.assertIn("hp at the shaft", " ".join(map(text_of, both.how)))

    def test_a_breaker_is_a_bound_for_minutes(self):
        label = {"type": "label", "horsepower": 1, "breaker_a": 5}
        running = derive(record([label], "pump")).running_w
        self.assertEqual(running.high, 5 * 230)
        self.assertIn("5 A breaker", " ".join(map(text_of, running.how)))
        alone = derive(record([{"type": "label", "breaker_a": 10}], "pump")).running_w
        self.assertLess(alone.low, 400)
        self.assertAlmostEqual(alone.high, 0.8 * 2300, delta=1)

    def test_a_reading_above_the_breaker_is_asked_about(self):
        label = {"type": "label", "watts": 400, "breaker_a": 2}
        spot = {"type": "spot", "state": "running", "watts": 700}
        notices = " ".join(map(text_of, derive(record([label, spot], "pump")).notices))
        self.assertIn("its breaker of 2 A carries 460", notices)


class SplitPhaseTest(unittest.TestCase):
    """A load on split mains is on one leg or on both: never half of its volts in silence."""

    def profile(self, **more):
        clamp = {"type": "spot", "state": "running", "amps": 31, "instrument": "clamp"}
        return derive(
            parse_load(
                {
                    "name": "Pump",
                    "kind": "pump",
                    "mains": {"volts": 120, "hertz": 60, "split": True},
                    "readings": [clamp],
                    **more,
                }
            )
        )

    def test_it_is_asked_and_both_legs_are_twice_the_volts(self):
        asked = self.profile()
        self.assertIn("one leg or on both", text_of(asked.notices[0]))
        both = self.profile(legs="both")
        self.assertAlmostEqual(both.running_w.value / both.power_factor.value, 7440, delta=1)
        self.assertFalse(any("one leg or" in text_of(notice) for notice in both.notices))
        self.assertAlmostEqual(both.running_w.value, 2 * self.profile(legs="one").running_w.value)

    def test_volts_that_were_read_settle_it(self):
        for more in (
            {"volts": 240},
            {
                "readings": [
                    {
                        "type": "spot",
                        "state": "running",
                        "amps": 31,
                        "volts": 240,
                        "instrument": "clamp",
                    }
                ]
            },
        ):
            told = self.profile(**more)
            self.assertFalse(any("one leg or" in text_of(notice) for notice in told.notices))
            self.assertAlmostEqual(told.running_w.value / told.power_factor.value, 7440, delta=1)


class OddStartTest(unittest.TestCase):
    def notices(self, amps, kind="compressor-fixed"):
        spot = {"type": "spot", "state": "running", "watts": 92, "pf": 0.6, "instrument": "plug"}
        start = {"type": "start", "amps": amps, "volts": 230, "instrument": "clamp"}
        return " ".join(map(text_of, derive(record([spot, start], kind)).notices))

    def test_too_small_and_too_large_are_asked_about(self):
        self.assertIn("did the meter hold the peak", self.notices(0.7))
        self.assertIn("check its amps and volts", self.notices(12))
        self.assertNotIn("The start read is", self.notices(3))
        self.assertNotIn("The start read is", self.notices(0.7, "resistive-heat"))
