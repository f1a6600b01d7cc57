"""Reading open documents of readings, and jotted moments."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from needle.document import DocumentError, Reader
from needle.measure.readings import EnergyRun, Spot, Tally, parse
from needle.measure.tally import parse_moments, written

GOOD = [
    {"type": "label", "watts": 120, "volts": 230, "amps": 0.9, "kwh_per_year": 190},
    {"type": "spot", "state": "running", "watts": 92.4, "volts": 231.2, "instrument": "plug"},
    {"type": "start", "amps": 5.9, "volts": 231, "instrument": "clamp"},
    {"type": "energy", "wh": 710, "hours": 21.5, "step_wh": 10, "room_c": 24},
    {"type": "tally", "edges": [["on", 0], ["off", 410], ["on", 1290]]},
    {"type": "task", "wh": 612, "minutes": 54, "pieces": 14},
    {"type": "charge-drop", "supply_wh": 1020, "from": 1.0, "to": 0.91, "hours": 6, "idle_w": 0},
]

BAD = [
    ({"type": "spto", "watts": 1}, "did you mean “spot”"),
    ({"watts": 1}, "type"),
    ("no object", "object"),
    ({"type": "spot", "wats": 1}, "did you mean “watts”"),
    ({"type": "spot"}, "needs watts"),
    ({"type": "spot", "watts": -1}, "too small"),
    ({"type": "spot", "watts": 1e9}, "too large"),
    ({"type": "spot", "watts": float("nan")}, "finite"),
    ({"type": "spot", "watts": "ten"}, "must be a number"),
    ({"type": "spot", "watts": True}, "must be a number"),
    ({"type": "spot", "watts": 5, "pf": 1.2}, "too large"),
    ({"type": "spot", "watts": 5, "instrument": "plgu"}, "did you mean “plug”"),
    ({"type": "spot", "watts": 5, "state": "x" * 10_000}, "too long"),
    ({"type": "label", "volts": 230}, "needs watts"),
    ({"type": "start", "volts": 230}, "needs amps"),
    ({"type": "energy", "wh": 710}, "hours: is needed"),
    ({"type": "energy", "wh": 710, "hours": 0}, "too small"),
    ({"type": "energy", "wh": 5e6, "hours": 1}, "check both"),
    ({"type": "tally", "edges": [["on", 0], ["off", 5]]}, "three moments"),
    ({"type": "tally", "edges": [["on", 0], ["on", 5], ["off", 9]]}, "take turns"),
    ({"type": "tally", "edges": [["on", 0], ["off"], ["on", 9]]}, '["on", seconds]'),
    ({"type": "tally", "edges": 5}, "must be a list"),
    ({"type": "charge-drop", "supply_wh": 1, "from": 0.5, "to": 0.9, "hours": 1}, "not below"),
    ({"type": "capture", "file": "box.csv"}, "read by the command"),
    ({"type": "capture", "pattern": "odd", "covered_h": 1, "wh": 1}, "one of steady"),
    ({"type": "capture", "pattern": "steady", "covered_h": 0, "wh": 1}, "too small"),
    ({"type": "capture", "pattern": "steady", "covered_h": 1, "wh": 1, "rarer": 3}, "true or"),
]


class ParseTest(unittest.TestCase):
    def test_reads_every_kind(self):
        kinds = [type(parse(reading)).__name__ for reading in GOOD]
        self.assertEqual(
            kinds, ["Label", "Spot", "Start", "EnergyRun", "Tally", "Task", "ChargeDrop"]
        )
        spot = parse(GOOD[1])
        self.assertIsInstance(spot, Spot)
        self.assertEqual(
            (spot.state, spot.watts, spot.context.instrument), ("running", 92.4, "plug")
        )

    def test_refuses_with_the_key_and_what_would_do(self):
        for data, said in BAD:
            with self.subTest(data=str(data)[:60]):
                with self.assertRaises(DocumentError) as caught:
                    parse(data, "readings[3]")
                self.assertIn(said, str(caught.exception))
                self.assertIn("readings[3]", str(caught.exception))

    def test_documented_defaults(self):
        run = parse({"type": "energy", "wh": 40, "hours": 1})
        self.assertEqual(run, EnergyRun(40.0, 1.0, 10.0))

    def test_moments_out_of_order_are_sorted(self):
        edges = [["on", 1290], ["on", 0], ["off", 410]]
        tally = parse({"type": "tally", "edges": edges})
        self.assertEqual(tally, Tally((("on", 0.0), ("off", 410.0), ("on", 1290.0))))

    @given(
        st.recursive(
            st.none() | st.booleans() | st.floats() | st.text(max_size=8),
            lambda inner: (
                st.lists(inner, max_size=3)
                | st.dictionaries(
                    st.sampled_from(["type", "watts", "edges", "wh", "hours", "from", "state"]),
                    inner,
                    max_size=4,
                )
            ),
        ),
        st.sampled_from(["spot", "label", "tally", "energy", "task", "charge-drop", "start"]),
    )
    def test_any_document_is_read_or_refused(self, data, kind):
        if isinstance(data, dict):
            data = {**data, "type": kind}
        try:
            parse(data)
        except DocumentError as error:
            self.assertTrue(error.message)


class ReaderTest(unittest.TestCase):
    def test_flags(self):
        reader = Reader({"on": True, "odd": "yes"}, "", ("on", "off", "odd"))
        self.assertEqual((reader.flag("on"), reader.flag("off")), (True, False))
        with self.assertRaises(DocumentError) as caught:
            reader.flag("odd")
        self.assertIn("true or false", str(caught.exception))

    def test_wrong_types(self):
        for call in (
            lambda r: r.text("n"),
            lambda r: r.choice("n", ["a"]),
            lambda r: r.items("n"),
            lambda r: r.need("missing"),
        ):
            with self.assertRaises(DocumentError):
                call(Reader({"n": 5}, "", ("n", "missing")))


class MomentsTest(unittest.TestCase):
    def test_minutes_and_seconds(self):
        self.assertEqual(
            parse_moments("on 0:00\noff 6:50, on 21:30"),
            [("on", 0.0), ("off", 410.0), ("on", 1290.0)],
        )

    def test_clock_times_may_pass_midnight(self):
        self.assertEqual(
            parse_moments("on 23:50:00; off 23:58:30; on 00:12:00"),
            [("on", 0.0), ("off", 510.0), ("on", 1320.0)],
        )

    def test_plain_spans(self):
        self.assertEqual(parse_moments("ON 10 s\noff 7 min")[1], ("off", 410.0))

    def test_refusals_name_the_moment(self):
        for text, said in [
            ("start 0:00", "moment 1"),
            ("on 5:00\noff 2:00", "moment 2"),
            ("on 5 kW", "moment 1"),
        ]:
            with self.subTest(text=text):
                with self.assertRaises(DocumentError) as caught:
                    parse_moments(text)
                self.assertIn(said, str(caught.exception))

    def test_written_moments_read_back(self):
        edges = [("on", 0.0), ("off", 4210.0), ("on", 90_000.0)]
        self.assertEqual(parse_moments(written(tuple(edges))), edges)
