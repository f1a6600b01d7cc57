"""Quantities as people write them."""

import math
import subprocess
import sys
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from needle.quantity import (
    QuantityError,
    as_read,
    hours_text,
    number,
    parse,
    significant,
    with_unit,
)

WRITTEN = [
    ("710 Wh", "Wh", 710.0),
    ("0.71 kWh", "Wh", 710.0),
    ("0,71 kWh", "Wh", 710.0),
    ("0,712 kWh", "Wh", 712.0),
    ("3.214 kWh", "Wh", 3214.0),
    ("3.6 MJ", "Wh", 1000.0),
    ("1h30", "h", 1.5),
    ("90 min", "h", 1.5),
    ("1:30 h", "h", 1.5),
    ("1:30:36", "h", 1.51),
    ("2 d 4 h", "h", 52.0),
    ("21 h 30", "min", 1290.0),
    ("20 mins", "s", 1200.0),
    ("5 m", "min", 5.0),
    ("24 Ah @ 3.6 V", "Wh", 86.4),
    ("24000 mAh at 3.6 V", "Wh", 86.4),
    ("2 x 110 Ah @ 24 V", "Wh", 5280.0),
    ("4 × 180 W", "W", 720.0),
    ("6.3 A @ 230 V", "W", 1449.0),
    ("230 V x 6,3 A", "VA", 1449.0),
    ("14.2 A at 13.1 V", "W", 186.02),
    ("20,000 mAh @ 3.7 V", "Wh", 74.0),
    ("20000mAh @ 3.7V", "Wh", 74.0),
    ("1 d 2:10", "h", 26 + 1 / 6),
    ("1/2 hp", "W", 373.0),
    ("1 1/2 hp", "hp", 1.5),
    ("14 °F", "°C", -10.0),
    ("14 F", "°C", -10.0),
    ("32 °F", "°C", 0.0),
    ("273.15 K", "°C", 0.0),
    ("12 µF", "F", 12e-6),
    ("12 uF", "uF", 12.0),
    ("-5 °C", "°C", -5.0),
    ("−5", "°C", -5.0),
    ("10 %", "share", 0.1),
    ("10", "%", 10.0),
    ("190 kWh/yr", "kWh/yr", 190.0),
    ("18 km/h", "m/s", 5.0),
    ("10 mph", "m/s", 4.4704),
    ("36 kn", "m/s", 18.52),
    ("5,5 m/s", "m/s", 5.5),
    ("2 kVA", "VA", 2000.0),
    ("5 KWH", "Wh", 5000.0),
    ("18 cu ft", "L", 509.703238656),
    ("2 lbs", "kg", 0.90718474),
    ("5 120 Wh", "Wh", 5120.0),
    ("1,234.5 W", "W", 1234.5),
    ("1.234,5 W", "W", 1234.5),
    ("1,234,567 W", "W", 1234567.0),
    ("33", "W", 33.0),
    (".5 A", "A", 0.5),
    ("1e3 W", "W", 1000.0),
]

REFUSED = [
    ("4 kW", "Wh", "4 kW is a rate (watts); this field wants an amount such as 4 kWh."),
    ("148 VA", "W", "volt-amperes"),
    ("24 Ah", "Wh", "24 Ah @ 3.6 V"),
    ("5,120 Wh", "Wh", "5120 or 5.120"),
    ("", "W", "Empty"),
    ("   ", "W", "Empty"),
    ("nan", "W", "not a quantity"),
    ("inf W", "W", "not a quantity"),
    ("1e400 W", "W", "not a finite number"),
    ("5 parsec", "W", "not a unit"),
    ("1/0 hp", "W", "divides by zero"),
    ("x" * 10_000, "W", "Too long"),
    ("5 W", "furlong", "not a unit"),
    ("__import__('os')", "W", "not a quantity"),
    ("5 W; drop", "W", "not a unit"),
    ("1.2.3 W", "W", "not a number"),
]


class ParseTest(unittest.TestCase):
    def test_reads_what_people_write(self):
        for text, unit, expected in WRITTEN:
            with self.subTest(text=text, unit=unit):
                self.assertAlmostEqual(parse(text, unit).value, expected, places=9)

    def test_refuses_with_a_sentence(self):
        for text, unit, said in REFUSED:
            with self.subTest(text=text[:30], unit=unit):
                with self.assertRaises(QuantityError) as caught:
                    parse(text, unit)
                self.assertIn(said, str(caught.exception))

    @given(st.floats(min_value=1e-6, max_value=1e9), st.sampled_from(["Wh", "W", "A", "V", "VA"]))
    def test_any_finite_value_round_trips(self, value, unit):
        self.assertTrue(math.isclose(parse(f"{value!r} {unit}", unit).value, value, rel_tol=1e-9))

    @given(st.floats(min_value=1e-3, max_value=1e6))
    def test_kilo_and_back(self, value):
        kilo = parse(f"{value!r} Wh", "kWh").value
        self.assertTrue(math.isclose(parse(f"{kilo!r} kWh", "Wh").value, value, rel_tol=1e-6))

    @given(st.text(max_size=70))
    def test_any_text_is_read_or_refused(self, text):
        try:
            read = parse(text, "Wh")
        except QuantityError as error:
            self.assertTrue(str(error))
        else:
            self.assertTrue(math.isfinite(read.value))

    def test_a_number_has_a_decimal_comma_or_point_and_no_unit(self):
        for text, expected in (
            ("12,5", 12.5),
            ("0,32", 0.32),
            ("0,325", 0.325),
            (" 1.15", 1.15),
            ("1/2", 0.5),
            ("1 234,5", 1234.5),
            ("−3", -3.0),
        ):
            with self.subTest(text=text):
                self.assertEqual(number(text), expected)
        for text, said in (
            ("", "not a number"),
            ("few", "not a number"),
            ("1,234", "can mean 1234 or 1.234"),
            ("5 W", "has a unit"),
            ("1e999", "not a finite number"),
            ("1/0", "divides by zero"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(QuantityError, said):
                number(text)


#: Sixteen first requests of a process that was just started.
AT_ONCE = """
import threading
from concurrent.futures import ThreadPoolExecutor
from needle import quantity
gate = threading.Barrier(16)
def read(number):
    gate.wait()
    return [quantity.parse(text, unit).value for text, unit in
            (("1000 W", "W"), (f"{number} kWh", "Wh"), ("90 min", "h"), ("14 °F", "°C"))]
with ThreadPoolExecutor(16) as pool:
    for number, found in enumerate(pool.map(read, range(16))):
        assert found == [1000.0, 1000.0 * number, 1.5, -10.0], found
"""


class ManyThreadsTest(unittest.TestCase):
    def test_the_first_requests_of_a_process_share_one_registry(self):
        root = Path(__file__).resolve().parent.parent.parent
        for _ in range(2):
            done = subprocess.run(
                [sys.executable, "-c", AT_ONCE], cwd=root, check=False, capture_output=True
            )
            self.assertEqual((done.returncode, done.stderr), (0, b""))


class QuickStartTest(unittest.TestCase):
    def test_units_are_loaded_where_one_is_converted(self):
        code = (
            "import sys; from needle.quantity import parse; "
            "same = parse('0,71 Wh', 'Wh'), 'pint' in sys.modules; "
            "other = parse('0,71 kWh', 'Wh'), 'pint' in sys.modules; "
            "print(same[0].value, same[1], other[0].value, other[1])"
        )
        root = Path(__file__).resolve().parent.parent.parent
        told = subprocess.run(
            [sys.executable, "-c", code], cwd=root, check=True, capture_output=True, text=True
        )
        self.assertEqual(told.stdout.split(), ["0.71", "False", "710.0", "True"])

    def test_a_unit_that_nobody_knows_is_refused_in_itself_too(self):
        with self.assertRaisesRegex(QuantityError, "not a unit"):
            parse("5 parsec", "parsec")


class WriteTest(unittest.TestCase):
    def test_three_significant_figures(self):
        self.assertEqual(significant(33.0233), "33.0")
        self.assertEqual(significant(0.34463), "0.345")
        self.assertEqual(significant(1363.2), "1\u202f360")
        self.assertEqual(significant(0), "0")

    def test_kilo_above_a_thousand(self):
        self.assertEqual(with_unit(1363, "VA"), "1.36\u00a0kVA")
        self.assertEqual(with_unit(92.4, "W"), "92.4\u00a0W")

    def test_readings_keep_their_digits(self):
        self.assertEqual(as_read(231.2, "V"), "231.2\u00a0V")
        self.assertEqual(as_read(3000.0, "W"), "3\u00a0kW")

    def test_hours_are_rounded_to_what_they_deserve(self):
        self.assertEqual(hours_text(19.66), "19\u00a0h\u00a040\u00a0min")
        self.assertEqual(hours_text(0.4), "24\u00a0min")
        self.assertEqual(hours_text(1.99), "2\u00a0h")
        self.assertEqual(hours_text(60.4), "60\u00a0h")


class ProductTest(unittest.TestCase):
    def test_on_mains_the_watts_lie_under_it(self):
        self.assertIn("by the power factor", parse("6.3 A @ 230 V", "W").note)
        self.assertEqual(parse("11 A @ 12.6 V", "W").note, "")
        self.assertEqual(parse("1449 W", "W").note, "")
