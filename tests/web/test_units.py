"""Pages in a person's own units: °F, a clock of twelve hours, money with its usual digits."""

import unittest
from datetime import datetime

from django.urls import reverse

from needle.quantity import money_text
from needle.words import Units
from tests.web.base import SiteTest, make_load, make_supply
from web.common.units import clock, clocks, day_clock, shown_in, temperature

AMERICAN = Units(fahrenheit=True, clock_12=True)


class WordsTest(unittest.TestCase):
    def test_figures_are_written_in_ones_units(self):
        with shown_in(AMERICAN):
            self.assertEqual(temperature(24.0), "75.2\u00a0°F")
            self.assertEqual(temperature(-40.0), "−40\u00a0°F")
            self.assertEqual(temperature(5.0, difference=True), "9\u00a0°F")
            self.assertEqual(day_clock(datetime(2027, 2, 9, 14, 5)), "Tue 2:05\u00a0pm")
            self.assertEqual(clock("00:30"), "12:30\u00a0am")
            self.assertEqual(clocks("12:00–23:59"), "12:00\u00a0pm–11:59\u00a0pm")
        self.assertEqual(temperature(24.0), "24\u00a0°C")
        self.assertEqual(clocks("12:00–23:59"), "12:00–23:59")

    def test_money_has_the_digits_of_its_currency(self):
        for value, currency, shown in (
            (412.6, "EUR", "412.60"),
            (412.6, "¤", "412.60"),
            (412.6, "JPY", "413"),
            (1.2345, "KWD", "1.234"),
            (0.0123, "EUR", "0.012"),
            (0.0, "EUR", "0.00"),
            (12345.6, "usd", "12\u202f345.60"),
        ):
            with self.subTest(value=value, currency=currency):
                self.assertEqual(money_text(value, currency), shown)


class OwnUnitsTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.client.post(reverse("accounts:units"), {"fahrenheit": "True", "clock_12": "True"})
        self.load = make_load(self.job, set_c=4.0)

    def test_what_is_typed_in_fahrenheit_is_kept_and_reads_back(self):
        url = self.url("loads:edit", self.load.pk)
        self.assertContains(self.client.get(url), 'value="39.2 °F"')
        for typed, stored in (("41", 5.0), ("41 °F", 5.0), ("5 °C", 5.0)):
            with self.subTest(typed=typed):
                self.load.refresh_from_db()
                self.client.post(
                    url,
                    {
                        "name": "Box",
                        "kind": "compressor-fixed",
                        "priority": "must",
                        "version": self.load.version,
                        "set_c": typed,
                    },
                )
                self.load.refresh_from_db()
                self.assertAlmostEqual(self.load.set_c, stored)
        self.assertContains(self.client.get(url), 'value="41 °F"')

    def test_a_swing_is_a_temperature_difference(self):
        supply = make_supply(self.job)
        self.client.post(
            self.url("plans:add"),
            {
                "name": "Night",
                "supply": supply.pk,
                "start": "2027-02-09T18:00",
                "needed_hours": "24 h",
                "room_c": "77",
                "room_swing_c": "9",
                "odds": "90",
                "start_charge": "100",
                "use-all": "on",
            },
        )
        plan = self.job.plans.get()
        self.assertAlmostEqual(plan.room_c, 25)
        self.assertAlmostEqual(plan.room_swing_c, 5)
        page = self.client.get(self.url("plans:plan", plan.pk))
        self.assertContains(page, "6:00\u00a0pm")
        self.assertContains(page, "77\u00a0°F indoors")
        self.assertNotContains(page, "18:00<")

    def test_what_somebody_named_is_left_as_it_is(self):
        make_load(self.job, name="Shelf 4 °C at 18:30")
        self.assertContains(self.client.get(self.url("loads:survey")), "Shelf 4 °C at 18:30")

    def test_another_person_sees_the_usual_ones(self):
        self.client.force_login(self.other)
        self.assertContains(self.client.get(reverse("accounts:units")), "°C")
        self.assertNotContains(self.client.get(reverse("jobs:list")), "°F")

    def test_a_new_session_remembers(self):
        self.client.logout()
        self.client.force_login(self.user)
        self.assertContains(self.client.get(self.url("loads:edit", self.load.pk)), "39.2 °F")

    def test_a_refusal_speaks_the_same(self):
        answer = self.client.post(
            self.url("loads:add"), {"name": "Y", "kind": "led", "set_c": "900"}
        )
        self.assertContains(answer, "752\u00a0°F", status_code=422)
