"""Reading open documents of readings, and jotted moments."""

import unittest
from typing import ClassVar

from hypothesis import given
from hypothesis import strategies as st

from needle.document import DocumentError, Reader
from needle.fields import Choice, Fields, Flag, Items, Number, Rows, Text
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
    FIELDS: ClassVar[Fields] = {
        "on": Flag("on"),
        "off": Flag("off"),
        "n": Number("n", least=1, most=3, whole=True),
        "needed": Number("needed"),
        "usual": Number("usual", default=4.0),
        "word": Text("word", most=3),
        "kind": Choice("kind", choices=("pump", "led")),
        "list": Items("list", most=2),
        "pairs": Rows(
            "pairs", columns={"a": Number("volts", above=True), "b": Number("amps")}, most=5
        ),
    }

    def reader(self, **data):
        return Reader(data, "", self.FIELDS)

    def test_flags(self):
        reader = self.reader(on=True)
        self.assertEqual((reader.flag("on"), reader.flag("off")), (True, False))
        self.assertTrue(reader.flag("off", True))

    def test_declared_default_comes_after_the_callers(self):
        reader = self.reader()
        self.assertEqual((reader.number("usual"), reader.number("usual", 5.0)), (4.0, 5.0))
        self.assertIsNone(reader.number_or_none("usual"))

    def test_rows_are_read_by_their_columns(self):
        (row,) = self.reader(pairs=[[12, 5]]).rows("pairs")
        self.assertEqual((row.number("a"), row.number("b"), row.path), (12.0, 5.0, "pairs[0]"))

    def test_what_is_refused_names_the_key_and_what_would_do(self):
        for data, call, said in (
            ({"on": "yes"}, lambda r: r.flag("on"), "on: must be true or false"),
            ({"word": 5}, lambda r: r.text("word"), "word: must be text"),
            ({"word": "long"}, lambda r: r.text("word"), "word: is too long: at most 3"),
            ({"n": 4}, lambda r: r.number("n"), "n: 4 is too large: at most 3"),
            ({"n": 0}, lambda r: r.number("n"), "n: 0 is too small: at least 1"),
            ({"n": 1.5}, lambda r: r.whole("n"), "n: 1.5 must be a whole number"),
            ({"n": "2"}, lambda r: r.number("n"), "n: must be a number"),
            ({}, lambda r: r.number("needed"), "needed: is needed"),
            ({"kind": "pomp"}, lambda r: r.choice("kind"), "did you mean “pump”?"),
            ({"list": 5}, lambda r: r.items("list"), "list: must be a list"),
            ({"list": [1, 2, 3]}, lambda r: r.items("list"), "list: has 3 entries: at most 2"),
            ({"pairs": [[1]]}, lambda r: r.rows("pairs"), "pairs[0]: must be [volts, amps]"),
            (
                {"pairs": [[0, 1]]},
                lambda r: r.rows("pairs")[0].number("a"),
                "pairs[0].a: 0 is too small: above 0",
            ),
            ({"usul": 1}, lambda r: r, "usul: unknown key; did you mean “usual”?"),
        ):
            with self.subTest(said=said), self.assertRaises(DocumentError) as caught:
                call(self.reader(**data))
            self.assertIn(said, str(caught.exception))

    def test_a_field_is_read_as_it_is_declared(self):
        with self.assertRaises(TypeError):
            self.reader(n=1).text("n")


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
