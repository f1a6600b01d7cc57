"""Reading captures, however a logger wrote them."""

import unittest
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st

from needle.document import DocumentError
from needle.measure.capture import as_csv, read_capture, tidy
from needle.words import text_of

PLAIN = "time,watts,volts\n0,1.5,230\n1,92,230\n2,91.5,229.5\n"


class ReadTest(unittest.TestCase):
    def watts(self, text, **kwargs):
        return read_capture(text, **kwargs).columns["watts"].tolist()

    def test_the_same_table_however_it_is_written(self):
        expected = [1.5, 92.0, 91.5]
        for text in (
            PLAIN,
            PLAIN.replace(",", ";"),
            PLAIN.replace(",", "\t"),
            PLAIN.replace("\n", "\r\n"),
            "\ufeff" + PLAIN,
            PLAIN.upper(),
            "volts,TIME,Watts\n230,0,1.5\n230,1,92\n229.5,2,91.5\n",
            'time,watts\n"0","1.5"\n"1","92"\n"2","91.5"\n',
            "time;watts\n0;1,5\n1;92,0\n2;91,5\n",
            "time\twatts\n0,0\t1,5\n1,0\t92\n2,0\t91,5\n",
            "Timestamp,Active Power (kW)\n0,0.0015\n1,0.092\n2,0.0915\n",
            "time [s], power [W]\n0, 1.5\n1, 92\n2, 91.5\n",
            "time,watts\n\n0,1.5\n\n1,92\n2,91.5\n",
            "time,watts\n0,1.5,\n1,92,\n2,91.5,\n",
        ):
            with self.subTest(text=text[:40]):
                np.testing.assert_allclose(self.watts(text), expected)
        np.testing.assert_allclose(self.watts(("\ufeff" + PLAIN).encode()), expected)

    def test_missing_cells(self):
        watts = self.watts("time,watts\n0,1\n1,\n2,--\n3,nan\n4,NaN\n5,5\n")
        self.assertEqual(np.isnan(watts).tolist(), [False, True, True, True, True, False])
        capture = read_capture("time,watts\n0,1\n1,--\n2,3\n")
        self.assertEqual(capture.notices, ())

    def test_cells_that_cannot_be_read_are_counted(self):
        capture = read_capture("time,watts\n0,1\n1,abc\n2,1.2.3\n3,4\n")
        self.assertIn(
            "2 cells of watts are not numbers (such as “abc”)", text_of(capture.notices[0])
        )
        capture = read_capture("time,watts\n0,1\nsoon,2\n2,3\n")
        self.assertIn("1 rows have no readable time", text_of(capture.notices[0]))
        self.assertEqual(len(capture.time_s), 2)
        self.assertIn(
            "beyond any meter", text_of(read_capture("time,watts\n0,inf\n1,2\n2,2\n").notices[0])
        )

    def test_rows_with_too_many_cells_are_counted(self):
        capture = read_capture("time,watts\n0,1\n1,2,3,4\n2,3\n")
        self.assertEqual(len(capture.time_s), 2)
        self.assertTrue(
            any("1 rows have more cells" in text_of(notice) for notice in capture.notices)
        )

    def test_other_columns_are_named(self):
        capture = read_capture("time,watts,mood\n0,1,good\n1,2,bad\n")
        self.assertEqual(text_of(*capture.notices), "Left aside: mood.")

    def test_disorder_and_repeats(self):
        capture = read_capture("time,watts\n2,3\n0,1\n1,2\n1,2\n3,4\n")
        np.testing.assert_allclose(capture.time_s, [0, 1, 2, 3])
        np.testing.assert_allclose(capture.columns["watts"], [1, 2, 3, 4])
        self.assertTrue(any("out of order" in text_of(notice) for notice in capture.notices))
        self.assertTrue(
            any("1 rows were repeated" in text_of(notice) for notice in capture.notices)
        )

    def test_rows_of_one_moment_are_spread_so_that_no_spike_is_lost(self):
        capture = read_capture("time,watts\n0,1\n1,2\n1,400\n2,3\n3,3\n")
        np.testing.assert_allclose(capture.time_s, [0, 1, 1.5, 2, 3])
        self.assertEqual(capture.columns["watts"].max(), 400)

    def test_times_with_offsets(self):
        text = "time,watts\n2027-02-09T18:00:00+01:00,1\n2027-02-09T18:00:10+01:00,2\n"
        capture = read_capture(text)
        self.assertEqual(capture.start, datetime(2027, 2, 9, 17, tzinfo=UTC))
        np.testing.assert_allclose(capture.time_s, [0, 10])

    def test_local_times_and_a_date_column(self):
        zone = ZoneInfo("Europe/London")
        text = "date,time,watts\n2027-07-09,18:00:00,1\n2027-07-09,18:01:00,2\n"
        capture = read_capture(text, zone=zone)
        self.assertEqual(capture.start, datetime(2027, 7, 9, 18, tzinfo=zone))
        np.testing.assert_allclose(capture.time_s, [0, 60])
        self.assertTrue(
            any("taken as UTC" in text_of(notice) for notice in read_capture(text).notices)
        )
        text = "time,watts\n09/02/2027 18:00,1\n09/02/2027 18:01,2\n"
        self.assertEqual(read_capture(text).start.day, 9)

    def test_the_clock_going_back_is_no_disorder(self):
        rows = [f"2027-10-31 01:{m:02d}:00,{m}" for m in (57, 58, 59)]
        rows += [f"2027-10-31 01:{m:02d}:00,{60 + m}" for m in range(3)]
        capture = read_capture("time,watts\n" + "\n".join(rows) + "\n")
        np.testing.assert_allclose(np.diff(capture.time_s), 60)
        self.assertEqual(capture.columns["watts"].tolist(), [57, 58, 59, 60, 61, 62])
        self.assertTrue(any("went back" in text_of(notice) for notice in capture.notices))

    def test_a_known_zone_knows_its_clock_changes(self):
        zone = ZoneInfo("Europe/London")
        spring = ["00:58", "00:59", "02:00", "02:01"]
        text = "time,watts\n" + "".join(f"2027-03-28 {at}:00,1\n" for at in spring)
        np.testing.assert_allclose(np.diff(read_capture(text, zone=zone).time_s), 60)
        autumn = ["01:58", "01:59", "01:00", "01:01"]
        text = "time,watts\n" + "".join(f"2027-10-31 {at}:00,1\n" for at in autumn)
        capture = read_capture(text, zone=zone)
        np.testing.assert_allclose(np.diff(capture.time_s), 60)
        self.assertEqual(capture.start.utcoffset().total_seconds(), 3600)

    def test_epochs(self):
        capture = read_capture("time,watts\n1800000000,1\n1800000005,2\n")
        self.assertEqual(capture.start, datetime.fromtimestamp(1_800_000_000, UTC))
        capture = read_capture("time,watts\n1800000000000,1\n1800000005000,2\n")
        np.testing.assert_allclose(capture.time_s, [0, 5])

    def test_corrections(self):
        capture = read_capture(
            "when,x,y\n0,1,230\n1,2,230\n", meanings={"when": "time", "x": "amps", "y": "volts"}
        )
        watts, how = capture.watts()
        np.testing.assert_allclose(watts, [230, 460])
        self.assertIn("upper bound", text_of(how))

    def test_only_amps(self):
        capture = read_capture("time,amps\n0,1\n1,2\n")
        np.testing.assert_allclose(capture.watts(volts=230)[0], [230, 460])
        with self.assertRaises(DocumentError):
            capture.watts()

    def test_a_counter_gives_watts(self):
        capture = read_capture("time,wh\n0,100\n3600,150\n7200,20\n10800,90\n")
        watts, _ = capture.watts()
        np.testing.assert_allclose(watts, [np.nan, 50, np.nan, 70])

    def test_amps_volts_and_factor(self):
        capture = read_capture("time,amps,volts,pf\n0,1,230,0.5\n1,2,230,0.5\n")
        np.testing.assert_allclose(capture.watts()[0], [115, 230])

    def test_refusals(self):
        for text, said in [
            ("", "empty"),
            ("watts\n1\n2\n", "no time column"),
            ("time,mood\n0,good\n1,bad\n", "none of watts"),
            ("time,watts\n0,1\n", "two rows"),
            ("time,watts\n5,1\n5,2\n", "one moment"),
            ("time,watts\nsoon,1\nlater,2\n", "not a time"),
            ("time,watts\n0,1,5\n1,92,0\n2,91,5\n", "decimal comma needs semicolons"),
            (b"\xff\xfe\x00", "UTF-8"),
            ("time,watts\n0,\x001\n", "NUL"),
        ]:
            with self.subTest(said=said):
                with self.assertRaises(DocumentError) as caught:
                    read_capture(text)
                self.assertIn(said, str(caught.exception))

    def test_written_captures_read_back(self):
        capture = read_capture(PLAIN)
        again = read_capture(as_csv(capture))
        np.testing.assert_allclose(again.columns["volts"], capture.columns["volts"])


CELLS = st.one_of(
    st.sampled_from(
        [
            "",
            "--",
            "nan",
            "1",
            "2,5",
            "-3",
            "1e5",
            "inf",
            "x",
            '"',
            "2027-01-01",
            "12:00",
            "\u00b5",
            "1.2.3",
            "true",
            "0x1f",
        ]
    ),
    st.floats(allow_nan=False).map(str),
    st.text(max_size=6),
)


class LimitTest(unittest.TestCase):
    """What would take long is counted before it is parsed."""

    def refused(self, text):
        with self.assertRaises(DocumentError) as caught:
            read_capture(text)
        return str(caught.exception)

    def test_too_many_cells_columns_and_characters(self):
        for text, said in (
            (b"time" + b"," * 49 + b"\n" + (b"," * 49 + b"\n") * 260_000, "million cells"),
            (b"time,watts\n1," + b"," * 300_000 + b"\n2,3\n", "more cells than the header's 2"),
            (b"time,watts" + b"," * 300 + b"\n1,2\n", "302 columns: at most 200"),
            (b"time,watts\n1," + b"9" * 20_000 + b"\n2,3\n", "a line of 20002 characters"),
            (b"time,watts\n" + (b"1,2" + b"," * 9_000 + b"x\n") * 50, "more cells"),
        ):
            with self.subTest(said=said):
                self.assertIn(said, self.refused(text))

    def test_times_that_are_none_are_refused_by_a_few_examples(self):
        text = "time,watts\n" + "".join(f"the {i} th of nowhere,3\n" for i in range(20_000))
        self.assertIn("is not a time that can be read", self.refused(text))

    def test_times_as_the_first_rows_write_them(self):
        text = "time,watts\n9/2/2027 6:00,1\n9/2/2027 6:01,2\nnever,3\n09/02/2027 06:02,4\n"
        capture = read_capture(text)
        self.assertEqual(list(capture.time_s), [0, 60, 120])
        self.assertEqual((capture.start.month, capture.start.day), (2, 9))
        self.assertIn("1 rows have no readable time", " ".join(map(text_of, capture.notices)))

    def test_lines_that_end_with_a_carriage_return_alone(self):
        self.assertEqual(list(read_capture("time,watts\r0,1\r1,2\r").time_s), [0, 1])
        self.refused("time,wat\rts\n1,5\n2,6\n")

    def test_finite_cells_never_become_infinite(self):
        capture = read_capture("time,kw,watts\n-1e308,1,1\n0,1e308,1\n1,2,1e300\n2,3,1\n")
        self.assertEqual(list(capture.time_s), [0, 1, 2])
        self.assertIn("are beyond any meter", " ".join(map(text_of, capture.notices)))

    def test_columns_from_elsewhere_are_put_in_order(self):
        capture = tidy(
            np.array([3.0, 1.0, np.nan, 2.0]), {"watts": np.array([3.0, 1.0, 9.0, 2e12])}
        )
        self.assertEqual(list(capture.time_s), [0, 1, 2])
        np.testing.assert_array_equal(capture.columns["watts"], [1.0, np.nan, 3.0])
        for columns in ({}, {"watts": np.array([1.0, 2.0, 3.0, 4.0])}):
            with self.assertRaises(DocumentError):
                tidy(np.full(4, 5.0), columns)


class FuzzTest(unittest.TestCase):
    @settings(max_examples=80)
    @example([["2,5"], ["12:00"]], ";", "\n")
    @given(
        st.lists(st.lists(CELLS, min_size=1, max_size=4), max_size=12),
        st.sampled_from([",", ";", "\t"]),
        st.sampled_from(["\n", "\r\n"]),
    )
    def test_any_table_is_read_or_refused(self, rows, separator, newline):
        text = separator.join(("time", "watts", "volts")) + newline
        text += newline.join(separator.join(row) for row in rows)
        try:
            capture = read_capture(text)
        except DocumentError as error:
            self.assertTrue(error.message)
            return
        self.assertTrue((np.diff(capture.time_s) > 0).all())
        for column in capture.columns.values():
            self.assertEqual(len(column), len(capture.time_s))
            self.assertFalse(np.isinf(column).any())

    @settings(max_examples=60)
    @given(
        st.lists(
            st.one_of(
                st.floats(-1e6, 1e6).map(lambda v: f"{v:.3f}"),
                st.sampled_from(["", "--", "nan", "x1", "1.2.3"]),
            ),
            min_size=3,
            max_size=30,
        )
    )
    def test_no_number_goes_wrong_in_silence(self, cells):
        text = "time,watts\n" + "".join(f"{i},{cell}\n" for i, cell in enumerate(cells))
        capture = read_capture(text)
        unread = 0
        for cell, value in zip(cells, capture.columns["watts"], strict=True):
            if cell in ("", "--", "nan", "x1", "1.2.3"):
                self.assertTrue(np.isnan(value))
                unread += cell in ("x1", "1.2.3")
            else:
                self.assertAlmostEqual(value, float(cell), places=6)
        said = [notice for notice in map(text_of, capture.notices) if "not numbers" in notice]
        self.assertEqual(bool(said), unread > 0)
        if said:
            self.assertTrue(said[0].startswith(f"{unread} cells"))
