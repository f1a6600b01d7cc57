"""A whole house by its interval file: read as utilities write it, and set beside its loads."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np

from needle.document import DocumentError
from needle.estimate import Estimate
from needle.measure.interval_file import read_intervals
from needle.profile.whole_house import HouseLoad, as_document, compare, whole_house

FEED = '<feed xmlns="http://www.w3.org/2005/Atom">{}</feed>'
ENTRY = "<entry>{links}<content>{content}</content></entry>"
TYPE = (
    '<ReadingType xmlns="http://naesb.org/espi"><accumulationBehaviour>{accumulation}'
    "</accumulationBehaviour><flowDirection>{direction}</flowDirection>"
    "<intervalLength>{length}</intervalLength><powerOfTenMultiplier>{multiplier}"
    "</powerOfTenMultiplier><uom>{uom}</uom></ReadingType>"
)
READING = (
    "<IntervalReading><timePeriod><duration>{duration}</duration><start>{start}</start>"
    "</timePeriod><value>{value}</value></IntervalReading>"
)


def link(relation, href):
    return f'<link rel="{relation}" href="{href}"/>'


def block(rows):
    readings = "".join(
        READING.format(start=int(start), duration=int(duration), value=value)
        for start, duration, value in rows
    )
    return f'<IntervalBlock xmlns="http://naesb.org/espi">{readings}</IntervalBlock>'


def kind(uom=72, multiplier=0, direction=1, accumulation=4, length=1800):
    return TYPE.format(
        uom=uom,
        multiplier=multiplier,
        direction=direction,
        accumulation=accumulation,
        length=length,
    )


def feed(*parts):
    """A feed of reading types with their rows, linked as in the standard."""
    entries = []
    for number, (of_kind, rows) in enumerate(parts, 1):
        reading, its_type = f"/MeterReading/{number}", f"/ReadingType/{number}"
        related = link("related", its_type) + link("related", f"{reading}/IntervalBlock")
        meter = '<MeterReading xmlns="http://naesb.org/espi"/>'
        entries += [
            ENTRY.format(links=link("self", its_type), content=of_kind),
            ENTRY.format(links=link("self", reading) + related, content=meter),
            ENTRY.format(
                links=link("self", f"{reading}/IntervalBlock/1")
                + link("up", f"{reading}/IntervalBlock"),
                content=block(rows),
            ),
        ]
    return FEED.format("".join(entries)).encode()


def half_hours(days, watts_of, first=datetime(2026, 3, 2, tzinfo=UTC)):
    """Rows of half hours whose mean power is a function of the half hour of the day."""
    start = first.timestamp()
    return [
        (start + 1800 * number, 1800, round(watts_of(number % 48) / 2))
        for number in range(48 * days)
    ]


class ReadingTest(unittest.TestCase):
    def test_energy_by_the_half_hour(self):
        rows = half_hours(2, lambda half: 400 if half < 24 else 100)
        read = read_intervals(feed((kind(), rows)))
        self.assertEqual((len(read.wh), read.wh.sum(), read.notices), (96, 2 * 6000, ()))

    def test_multipliers_and_watts(self):
        rows = [(1_772_409_600, 900, 2)]
        self.assertEqual(read_intervals(feed((kind(multiplier=3), rows))).wh.tolist(), [2000.0])
        self.assertEqual(read_intervals(feed((kind(multiplier=-1), rows))).wh.tolist(), [0.2])
        self.assertEqual(
            read_intervals(feed((kind(uom=38, multiplier=2), rows))).wh.tolist(), [50.0]
        )

    def test_what_was_fed_in_or_is_gas_is_left_out_and_said(self):
        rows = half_hours(1, lambda _: 200)
        read = read_intervals(
            feed((kind(), rows), (kind(direction=19), rows), (kind(uom=169), rows[:3]))
        )
        self.assertEqual(read.wh.sum(), 4800)
        told = {notice.code: dict(notice.figures)["intervals"] for notice in read.notices}
        self.assertEqual(told, {"intervals-fed-in": 48, "intervals-not-energy": 3})

    def test_what_overlaps_or_comes_unordered_counts_once(self):
        rows = half_hours(1, lambda half: 100 + half)
        read = read_intervals(feed((kind(), [*rows[::-1], *rows[:5]])))
        self.assertEqual(read.wh.sum(), sum(value for _, _, value in rows))
        self.assertTrue((np.diff(read.start_s) == 1800).all())
        self.assertEqual(read.notices[0].code, "intervals-twice")

    def test_without_a_type_or_links_values_are_wh(self):
        entry = ENTRY.format(links="", content=block([(1_772_409_600, 3600, 300)]))
        self.assertEqual(read_intervals(FEED.format(entry).encode()).wh.tolist(), [300.0])

    def test_what_is_no_interval_file_is_a_sentence(self):
        bomb = b'<!DOCTYPE x [<!ENTITY a "aaaa">]><feed>&a;</feed>'
        good = (1_772_409_600, 1800, 5)
        for content, said in (
            (b"time,watts\n", "is not XML"),
            (b"", "is not XML"),
            (b"<a></b>", "is not XML"),
            (bomb, "document type"),
            (FEED.format("").encode(), "no IntervalBlock"),
            (feed((kind(direction=19), [good])), "no interval with energy"),
            (feed((kind(), [(good[0], 1800, "many")])), "is not a number"),
            (feed((kind(), [(good[0], 1800, -5)])), "is no house"),
            (feed((kind(), [(good[0], 1800, 10**9)])), "is no house"),
            (feed((kind(), [(5, 1800, 5)])), "no seconds since 1970"),
            (feed((kind(), [(good[0], 10**9, 5)])), "is no interval"),
            (feed((kind(), [good, (good[0] + 10**9, 1800, 5)])), "six years"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(DocumentError, said):
                read_intervals(content)


class WholeHouseTest(unittest.TestCase):
    def house(self, rows, zone=UTC):
        return whole_house(read_intervals(feed((kind(), rows))), zone)

    def test_days_and_the_base_load(self):
        # 120 W all the time; 1000 W more from 18:00 to 20:00: 2880 + 2000 Wh.
        house = self.house(half_hours(5, lambda half: 1120 if 36 <= half < 40 else 120))
        self.assertEqual(house.days, 5)
        np.testing.assert_allclose(house.wh_per_day, 4880)
        np.testing.assert_allclose(house.base_w, 120)
        np.testing.assert_allclose(house.half_hours_w[35:41], [120, 1120, 1120, 1120, 1120, 120])

    def test_a_cycling_fridge_counts_at_its_mean(self):
        # 90 W in every third half hour: 30 W on average, though single half hours have none.
        house = self.house(half_hours(4, lambda half: 50 + (90 if half % 3 == 0 else 0)))
        np.testing.assert_allclose(house.base_w, 80)

    def test_the_clock_of_the_house(self):
        first = datetime(2026, 3, 27, tzinfo=UTC)
        rows = half_hours(6, lambda half: 1000 if half == 12 else 100, first)
        zone = ZoneInfo("Europe/London")
        house = self.house(rows, zone)
        # Half past six by the clock until the 29th, then half past seven in summer time.
        self.assertGreater(house.half_hours_w[12], 100)
        self.assertGreater(house.half_hours_w[14], 100)
        self.assertEqual(self.house(rows).half_hours_w[14], 100)

    def test_days_with_holes_do_not_count(self):
        rows = half_hours(3, lambda _: 200)
        self.assertEqual(self.house(rows[:60] + rows[70:]).days, 2)
        with self.assertRaisesRegex(DocumentError, "no whole day"):
            self.house(rows[:40])

    def test_quarters_hours_and_days(self):
        start = datetime(2026, 3, 2, tzinfo=UTC).timestamp()
        for duration, has_base in ((900, True), (3600, True), (86_400, False)):
            count = int(4 * 86_400 / duration)
            wh = round(240 * duration / 3600)
            rows = [(start + duration * number, duration, wh) for number in range(count)]
            house = self.house(rows)
            np.testing.assert_allclose(house.wh_per_day, 5760)
            self.assertEqual(house.base_w is not None, has_base)

    def test_a_bill_by_the_month_says_nothing_of_days(self):
        with self.assertRaisesRegex(DocumentError, "longer than a day"):
            self.house([(1_772_409_600, 30 * 86_400, 300_000)])

    def test_the_document(self):
        told = as_document(self.house(half_hours(2, lambda _: 100)))
        self.assertEqual(told["wh_per_day"], {"value": 2400.0, "low": 2400.0, "high": 2400.0})
        self.assertEqual((told["days"], len(told["half_hours_w"])), (2, 48))


class ComparisonTest(unittest.TestCase):
    def setUp(self):
        rows = half_hours(6, lambda half: 1120 if 36 <= half < 40 else 120)
        self.house = whole_house(read_intervals(feed((kind(), rows))), UTC)

    def against(self, *loads):
        return compare(self.house, [HouseLoad(*load) for load in loads])

    def test_a_rest_that_is_not_listed(self):
        told = self.against(
            ("Fridge", Estimate(900, 0.1), Estimate(37, 0.1)), ("Lamp", None), ("TV", Estimate(400))
        )
        self.assertEqual((told.verdict, told.without), ("rest", ("Lamp",)))
        self.assertAlmostEqual(told.rest_wh[1], 4880 - 1300)
        self.assertEqual((told.always_verdict, told.widest), ("fits", ""))

    def test_loads_that_come_to_more_than_the_house(self):
        told = self.against(("Oven", Estimate(5200, 0.1)), ("Heater", Estimate(4000, 0.3)))
        self.assertEqual((told.verdict, told.widest), ("more", "Heater"))
        self.assertEqual(told.rest_wh[:2], (0.0, 0.0))

    def test_what_runs_all_the_time_is_at_most_the_base(self):
        told = self.against(
            ("Fridge", Estimate(2160, 0.05), Estimate(90, 0.05)),
            ("Router", Estimate(1920, 0.2), Estimate(80, 0.2)),
        )
        self.assertEqual((told.always_verdict, told.widest), ("more", "Router"))
        self.assertEqual(told.verdict, "rest")

    def test_about_alike(self):
        self.assertEqual(self.against(("All", Estimate(4700, 0.2))).verdict, "all")
