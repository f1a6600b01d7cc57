"""A run's log as people keep it."""

import unittest
from datetime import UTC, datetime

from needle.document import DocumentError
from needle.trial.log import check_ins_of_log

START = datetime(2027, 2, 9, 18, 0, 30, tzinfo=UTC)  # a Tuesday


class LogTest(unittest.TestCase):
    def test_elapsed_in_the_usual_columns(self):
        log = "0:00\t100\t0\t80\tcharged\n1:30\t92 %\t0,12 kWh\t80 W\n1 d 2:10\t40\t-\t75\n"
        self.assertEqual(
            check_ins_of_log(log),
            [
                {"h": 0.0, "percent": 100.0, "wh": 0.0, "watts": 80.0, "note": "charged"},
                {"h": 1.5, "percent": 92.0, "wh": 120.0, "watts": 80.0},
                {"h": 26.16667, "percent": 40.0, "watts": 75.0},
            ],
        )

    def test_as_people_write_it_each_figure_with_its_unit(self):
        log = (
            "0:30 97 %\n3h 25.1 V -2 °C\n\n6h 88 % 22 Ah\n12 h 10 min 74 %, 51 Ah, cloudy\n"
            "18h30 60% 1,2 kWh\n1 d 2:10 3 of 5 bars fan off\n30h nobody looked"
        )
        self.assertEqual(
            check_ins_of_log(log),
            [
                {"h": 0.5, "percent": 97.0},
                {"h": 3.0, "volts": 25.1, "room_c": -2.0},
                {"h": 6.0, "percent": 88.0, "ah": 22.0},
                {"h": 12.16667, "percent": 74.0, "ah": 51.0, "note": "cloudy"},
                {"h": 18.5, "percent": 60.0, "wh": 1200.0},
                {"h": 26.16667, "bars": 3, "of": 5, "note": "fan off"},
                {"h": 30.0, "note": "nobody looked"},
            ],
        )
        by_clock = check_ins_of_log("Tue 20:00 90 % 12.8 V\n02:00 3/4 bars", START)
        self.assertEqual([round(look["h"], 1) for look in by_clock], [2.0, 8.0])
        # A table whose first cell has a unit stays one.
        (look,) = check_ins_of_log("0:00, 100 %, 0, 84")
        self.assertEqual(look, {"h": 0.0, "percent": 100.0, "wh": 0.0, "watts": 84.0})

    def test_named_columns_by_the_clock_past_midnight(self):
        log = "Time;V;Wh (counted);Notes\n18:00;13.3;0;\n23:30;13.1;300;lamp\nThu 06:00;12.4;900;"
        seen = check_ins_of_log(log, START)
        self.assertEqual([round(check_in["h"], 1) for check_in in seen], [0.0, 5.5, 36.0])
        self.assertEqual(seen[1], {"h": 5.49167, "volts": 13.1, "wh": 300.0, "note": "lamp"})

    def test_dates(self):
        seen = check_ins_of_log("when,soc\n2027-02-10 06:00,40", START)
        self.assertAlmostEqual(seen[0]["h"], 12, places=1)

    def test_bars_and_a_look_that_only_says_that_it_runs(self):
        log = "time; charge; Wh in\n1:00; 4 of 4;\n5:00; 3/4 bars; 120\n9:30;;"
        self.assertEqual(
            check_ins_of_log(log),
            [
                {"h": 1.0, "bars": 4, "of": 4},
                {"h": 5.0, "bars": 3, "of": 4, "wh_in": 120.0},
                {"h": 9.5},
            ],
        )
        for cell in ("5 of 4", "1/0"):
            with self.assertRaisesRegex(DocumentError, "row 1: “.*” is no number of bars"):
                check_ins_of_log(f"1:00; {cell}")

    def test_refusals_name_the_row(self):
        for log, start, said in (
            ("", None, "is empty"),
            ("time,colour\n1,2", None, "column “colour” is not known"),
            ("wh,w\n1,2", None, "no column “time”"),
            ("time,charge\n", None, "no row beneath"),
            ("1:00,90\nsoon,80", None, "row 2: “soon” is no time since the start"),
            ("1:00 90 %\nlater 80 %", None, "row 2: “later 80 %” is no time since the start"),
            ("1:00 90 % 80 %", None, "row 1: gives percent twice"),
            ("1:00;130", None, "row 1: “130” is no charge: a percentage"),
            ("1:00;90;5 W", None, "row 1"),
            ("25:10;90", START, "no time of day"),
            ("yesterday;90", START, "is no time: write 14:20"),
            ("900 h;90", None, "not within the run"),
        ):
            with self.subTest(said=said), self.assertRaises(DocumentError) as caught:
                check_ins_of_log(log, start)
            self.assertIn(said, str(caught.exception))
