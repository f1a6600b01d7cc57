"""What people write in a field or say of a use: understood, or answered with what to write."""

import unittest

from needle.document import DocumentError
from needle.household import plain_quantity
from needle.quantity import QuantityError, parse
from needle.usage.usual_use import (
    hours_per_day_of,
    parse_usual_use,
    text_of_usual_use,
    use_of_rate,
    uses_per_day_of,
    usual_use_from_text,
)

QUANTITIES = {
    "W": {
        "about 150": 150,
        "~150 W": 150,
        "ca. 92 W": 92,
        "150w": 150,
        "150 Watt": 150,
        "92 watts now": 92,
        "1000 W inverter": 1000,
        "1.5 kW continuous": 1500,
        "max 150 W": 150,
        "up to 2000 W": 2000,
        "2 kw": 2000,
        "1.000 W": 1,
        "1½ kW": 1500,
        "0.75 kW peak": 750,
    },
    "Wh": {
        "1kwh battery": 1000,
        "0.8kw/h": 800,
        "0,71 kWh": 710,
        "100Ah 12V": 1200,
        "12V 100Ah": 1200,
        "100Ah, 12.8V": 1280,
        "20000mAh 3.7V": 74,
        "20000MAH 3.7V": 74,
        "20000 mah, 3.7 v": 74,
        "2 x 100 Ah @ 12 V": 2400,
        "1 KWH": 1000,
    },
    "h": {
        "a day": 24,
        "one day": 24,
        "half a day": 12,
        "2 days": 48,
        "an hour": 1,
        "half an hour": 0.5,
        "three hours": 3,
        "1h30": 1.5,
        "1½ h": 1.5,
        "90 min": 1.5,
    },
    "s": {"3 minutes": 180, "three minutes": 180, "90 s": 90},
    "%": {"full": 100, "half": 50, "80 percent": 80},
    "V": {"230 volts": 230, "12v": 12},
    "°C": {"5 deg": 5, "-18": -18},
}
ANSWERED = {
    ("1,000 W", "W"): "can mean 1000 or 1.000",
    ("100-150 W", "W"): "Write one number, such as the middle: 125 W.",
    ("?", "W"): "Leave it empty where you do not know it.",
    ("don't know", "Wh"): "Leave it empty where you do not know it.",
    ("0.8 kWh per day", "Wh"): "wants an amount",
    ("0.4 A", "W"): "amps",
}
USES = {
    "twice a day, 3 minutes": ({"times": 2, "days": 1, "minutes": 3.0}, 0.1),
    "19:00 4 min": ({"tasks": ["19:00"], "minutes": 4.0}, 4 / 60),
    "at 7 and 19, 3 min": ({"tasks": ["07:00", "19:00"], "minutes": 3.0}, 0.1),
    "every morning 5 minutes": ({"tasks": ["07:00"], "minutes": 5.0}, 5 / 60),
    "now and then, 10 min": ({"times": 1, "days": 1, "minutes": 10.0}, 1 / 6),
    "at 14:00 for 10 min": ({"tasks": ["14:00"], "minutes": 10.0}, 1 / 6),
    "in the evening": ({"between": [["18:00", "23:00"]]}, 5),
    "evening and morning": ({"between": [["18:00", "23:00"], ["06:00", "09:00"]]}, 8),
    "for 2 hours in the evening": ({"between": [["18:00", "20:00"]]}, 2),
    "overnight": ({"between": [["22:00", "07:00"]]}, 9),
    "6pm to 11pm": ({"between": [["18:00", "23:00"]]}, 5),
    "all the time": ({"always": True}, 24),
    "a day": ({"always": True}, 24),
    "24/7": ({"always": True}, 24),
    "5 hours a day": ({"hours": 5.0}, 5),
    "half an hour a day": ({"hours": 0.5}, 0.5),
    "twice a week, 40 minutes": ({"times": 2, "days": 7, "minutes": 40.0}, 80 / 60 / 7),
    "about 3 x per week for 45 min": ({"times": 3, "days": 7, "minutes": 45.0}, 135 / 60 / 7),
    "every other day, 1 h": ({"times": 1, "days": 2, "minutes": 60.0}, 0.5),
    "weekly, 1h30": ({"times": 1, "days": 7, "minutes": 90.0}, 1.5 / 7),
    "20 min, twice a month": ({"times": 2, "days": 30, "minutes": 20.0}, 40 / 60 / 30),
    "every two weeks, 2 h": ({"times": 1, "days": 14, "minutes": 120.0}, 2 / 14),
    "once every 10 days, 1 h": ({"times": 1, "days": 10, "minutes": 60.0}, 0.1),
    "every day, 5 min": ({"times": 1, "days": 1, "minutes": 5.0}, 5 / 60),
    "": ({}, None),
}
ASKED = {
    "twice a day": "how long each time?",
    "now and then": "how long each time?",
    "3 min": "how often?",
    "mostly": "how often?",
    "weekly": "how long each time?",
    "every few weeks, 1 h": "how often?",
    "every 0 days, 3 min": "1 to 366 days",
    "200 times a week, 1 min": "1 to 100 times",
    "7 times a week, 24 h 1 min": "no part of a day",
    "20 times a day 2 h": "more than a day",
    "30 h a day": "no part of a day",
}


class QuantityTest(unittest.TestCase):
    def test_what_people_write_is_understood(self):
        for unit, said in QUANTITIES.items():
            for text, value in said.items():
                with self.subTest(text=text):
                    understood = parse(plain_quantity(text, unit), unit).value
                    self.assertAlmostEqual(understood, value)

    def test_degrees_are_of_whoever_writes_them(self):
        for text in ("75°", "75 deg", "75 degrees", "about 75"):
            self.assertEqual(plain_quantity(text, "°C"), "75")
        self.assertEqual(plain_quantity("75 °F", "°C"), "75 °F")

    def test_or_answered_with_what_to_write(self):
        for (text, unit), said in ANSWERED.items():
            with self.subTest(text=text), self.assertRaisesRegex(QuantityError, said):
                parse(plain_quantity(text, unit), unit)


class UsualUseTest(unittest.TestCase):
    def test_how_often_and_how_long(self):
        for text, (use, hours) in USES.items():
            with self.subTest(text=text):
                self.assertEqual(usual_use_from_text(text), use)
                self.assertEqual(
                    hours_per_day_of(use) and round(hours_per_day_of(use), 9),
                    hours and round(hours, 9),
                )
                # As it is stored and as it is written again it is the same.
                self.assertEqual(parse_usual_use(use), use)
                self.assertEqual(usual_use_from_text(text_of_usual_use(use)), use)

    def test_no_time_is_named_that_nobody_said(self):
        for text, words in (
            ("twice a day, 3 minutes", "twice a day, 3 min"),
            ("every other day, 1 h", "once every 2 days, 60 min"),
            ("in the evening", "18:00–23:00"),
            ("5 hours a day", "5 h a day"),
            ("", ""),
        ):
            said = text_of_usual_use(usual_use_from_text(text)).replace("\u00a0", " ")
            self.assertEqual(said, words)

    def test_a_rate_is_so_many_times_in_so_many_days(self):
        """No rate is rounded away."""
        self.assertEqual(use_of_rate(2 / 7, 40)["times"], 2)
        self.assertEqual(use_of_rate(3.0, 4), {"times": 3, "days": 1, "minutes": 4})
        for uses in (1 / 365, 0.1, 0.35, 2.4, 33.37):
            self.assertAlmostEqual(uses_per_day_of(use_of_rate(uses, 1)) / uses, 1, delta=0.01)
        with self.assertRaisesRegex(DocumentError, "1 to 100 times"):
            use_of_rate(150, 1)

    def test_what_is_missing_is_asked(self):
        for text, said in ASKED.items():
            with self.subTest(text=text):
                with self.assertRaises(DocumentError) as refused:
                    usual_use_from_text(text)
                self.assertIn(said, str(refused.exception))
