"""Answers that scripts give without the site: the core is asked the same and says the same."""

import itertools
import json
import random

from needle.measure.agreement import agree
from needle.measure.instruments import INSTRUMENTS
from needle.measure.readings import Tally
from needle.measure.tally import parse_moments
from needle.profile.energy import tallied
from needle.trial.log import charge_of
from needle.watch.card import bars_for
from tests.browser.base import PHONE, BrowserTest

#: Sets as meters show them: good, misread, impossible, incomplete.
FIGURES = {
    "volts": (230.0, 118.4, 0.0),
    "amps": (1.21, 5.9, 0.02),
    "watts": (120.0, 1200.0, 0.0),
    "va": (278.3, 130.0),
    "pf": (0.43, 0.99, 1.0),
}
TALLIES = (
    "on 0:00\noff 6:50\non 21:30\noff 28:10\non 43:00",
    "off 14:00:00, on 14:05:30, off 14:21:00, on 23:59:00, off 0:03:00",
    "on 0\noff 410 s\non 1290\noff 1700",
    "on 0:00",
)


def sets_of_figures(count=260):
    """Combinations of figures, in a fixed shuffled order."""
    combinations = [
        dict(zip(keys, values, strict=True))
        for size in range(1, 6)
        for keys in itertools.combinations(FIGURES, size)
        for values in itertools.product(*(FIGURES[key] for key in keys))
    ]
    random.Random(7).shuffle(combinations)
    return combinations[:count]


class SmallAnswersTest(BrowserTest):
    def asked(self, page, module, script, values):
        """Result of a script that has a module of the site as ``m`` and values as ``given``."""
        address = f"{self.live_server_url}/static/js/{module}.js"
        code = f"async (given) => {{ const m = await import('{address}'); {script} }}"
        return page.evaluate(code, values)

    def test_the_same_check_of_figures_as_the_cores(self):
        page = self.open()
        page.goto(self.url("accounts:sign-in"))
        cases = [(key, read) for key in ("plug", "clamp") for read in sets_of_figures()]
        meters = {
            key: {
                "limit": meter.limit,
                "counts": meter.counts,
                "steps": meter.steps,
                "spread": meter.gain_spread,
            }
            for key, meter in INSTRUMENTS.items()
        }
        found = self.asked(
            page,
            "agreement",
            "return given[0].map(([meter, read]) => m.agree(read, given[1][meter]))",
            [cases, meters],
        )
        for (key, read), mine in zip(cases, found, strict=True):
            with self.subTest(key, read=read):
                core = agree(read, INSTRUMENTS[key])
                self.assertEqual(mine["consistent"], core.consistent)
                self.assertEqual(mine["suspect"], core.suspect)
                self.assertEqual(mine["message"], core.message)
                for name, value in (("watts", core.watts), ("va", core.va), ("amps", core.amps)):
                    if value is None:
                        self.assertIsNone(mine[name])
                    else:
                        self.assertAlmostEqual(mine[name], value, delta=1e-9 + 1e-9 * value)

    def test_the_same_share_of_time_of_a_tally(self):
        page = self.open()
        page.goto(self.url("accounts:sign-in"))
        found = self.asked(
            page, "tally", "return given.map((text) => m.tallied(m.momentsOf(text)))", TALLIES
        )
        for text, mine in zip(TALLIES, found, strict=True):
            self.assertEqual(tuple(mine), tallied(Tally(tuple(parse_moments(text)))))
        odd = ("on", "on 5:00\non 6:00", "on 5:00\noff 4:00", "1 2 3", "on 0:75")
        self.assertEqual(
            self.asked(page, "tally", "return given.map(m.momentsOf)", odd), [None] * len(odd)
        )

    def test_the_same_thresholds_as_the_card(self):
        page = self.open()
        page.goto(self.url("accounts:sign-in"))
        texts = ["61 %", "61", "0 %", "100%", "7,5 %"]
        found = self.asked(page, "small_answers", "return given.map(m.chargeOf)", texts)
        for text, share in zip(texts, found, strict=True):
            self.assertAlmostEqual(share, charge_of(text)["percent"] / 100)
        bars = [f"{lit} of 5" for lit in range(6)]
        shares = self.asked(page, "small_answers", "return given.map(m.chargeOf)", bars)
        for threshold in (0.05, 0.2, 0.39, 0.41, 0.8, 0.95):
            lit = bars_for(threshold, 5)
            enough = [number for number, share in enumerate(shares) if share >= threshold]
            self.assertEqual(lit, enough[0] if enough else None, threshold)
        self.assertEqual(
            self.asked(page, "small_answers", "return given.map(m.chargeOf)", ["half", "6 of 5"]),
            [None, None],
        )
        asked = [[0.5, "0.4", "0.2"], [0.3, "0.4", "0.2"], [0.1, "0.4", "0.2"], [0.9, "", ""]]
        self.assertEqual(
            self.asked(page, "small_answers", "return given.map((row) => m.mayRun(...row))", asked),
            ["all", "shoulds", "musts", "musts"],
        )
        # From 18:00 on, every two hours, into the second day.
        minutes = [1080, 1200, 1320, 0, 120, 240, 360, 480, 600, 720, 840, 960, 1080]
        times = [1081, 1199, 1200, 5, 1079]
        self.assertEqual(
            self.asked(
                page,
                "small_answers",
                "return given[1].map((minute) => m.rowAt(given[0], minute))",
                [minutes, times],
            ),
            [0, 0, 1, 3, 11],
        )

    def test_figures_are_checked_on_the_bench_without_a_connection(self):
        page = self.signed_in(PHONE)
        self.go(page, "bench:index")
        self.is_offline = True
        page.context.set_offline(True)
        for name, value in (("Watts", "120"), ("Volts", "230"), ("Amps", "1.21")):
            page.get_by_label(name, exact=True).fill(value)
        page.get_by_label("Power factor").fill("0.93")
        page.locator("#meter-check", has_text="These do not agree").wait_for()
        json.loads(page.locator("#meter-form").get_attribute("data-meters"))
