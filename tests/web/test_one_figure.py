"""One thing, one figure: pages of random jobs against one another and the headless answer."""

import random

from needle.plan import answering
from needle.plan.advice.sizing import required_wh
from needle.plan.documents.parse import parse_plan
from needle.plan.energy.simulate import simulate
from needle.profile.runs_by import USE_PRIORS
from needle.quantity import hours_text
from needle.words import worded
from needle.words.answer import answer_document
from tests.web.base import SiteTest, make_load, make_supply
from web.loads.actions import add_reading
from web.sheets.documents import load_document

#: Figures of the site's answer and the headless one that must be equal to the last digit.
SAME = (
    "runtime_h",
    "capped",
    "covers",
    "chance",
    "verdict",
    "until_h",
    "energy_wh",
    "unserved_wh",
    "peak_w",
    "trips",
    "starts",
    "hourly",
)


KINDS_TAKEN = (
    *("compressor-fixed", "electronics", "induction-motor", "led"),
    *("water-tank", "float-pump", "resistive-heat"),
)
#: What a plan says of a load beside its evidence.
OF_THE_PLAN = ("use", "steps", "priority", "count", "route", "id", "volts")


class OneFigureTest(SiteTest):
    def make_job(self, seed):
        rng = random.Random(seed)
        for number in range(rng.randint(2, 4)):
            kind = rng.choice(KINDS_TAKEN)
            who = rng.choice(["", *(who for key, who in USE_PRIORS if key == kind)])
            name, watts = f"Load {number}", rng.uniform(10, 300)
            load = make_load(self.job, name, watts, kind=kind, runs_by=who)
            if rng.random() < 0.6:
                add_reading(load, "spot", {"watts": rng.uniform(5, 250), "state": "running"})
            if rng.random() < 0.4:
                add_reading(load, "energy", {"wh": rng.uniform(50, 900), "hours": 12.0})
        make_supply(
            self.job,
            nominal_wh=rng.uniform(400, 4000),
            continuous_w=rng.choice([300.0, 800.0, 3000.0]),
            surge_va=None,
        )

    def get(self, name, *args, **query):
        return self.client.get(self.url(name, *args), query)

    def test_pages_and_the_headless_answer_agree(self):
        for seed in range(6):
            with self.subTest(seed=seed):
                self.job.loads.all().delete()
                self.job.supplies.all().delete()
                self.make_job(seed)
                site = self.get("plans:download", 0, "answer.json").json()
                source = self.get("plans:download", 0, "plan.json").json()
                outcome = simulate(parse_plan(source), answering.MOST_DRAWS)
                headless = worded(answer_document(source, outcome, [], []))
                for key in SAME:
                    self.assertEqual(site[key], headless[key], key)
                self.check_by_hand(source, outcome)
                self.check_pages(site)
                self.check_size(outcome)

    def check_by_hand(self, source, outcome):
        """Put together from the loads' own documents, as somebody would for the command."""
        mine = {load["name"]: load for load in source["loads"]}
        loads = [
            {
                "profile": load_document(load),
                **{key: mine[load.name][key] for key in OF_THE_PLAN if key in mine[load.name]},
            }
            for load in self.job.loads.live().with_readings()
            if load.name in mine
        ]
        by_hand = simulate(parse_plan({**source, "loads": loads}), answering.MOST_DRAWS)
        self.assertEqual(by_hand.runtime, outcome.runtime)

    def check_pages(self, answer):
        likely = answer["verdict"]["lasts_h"]["value"]
        pages = {
            name: self.get(*address).content.decode()
            for name, address in {
                "bar": ("answer:bar",),
                "plan": ("plans:current",),
                "sheet": ("sheets:sheet",),
            }.items()
        }
        marks = {"covers": "●", "likely": "◐", "does not": "✕"}
        for page in ("bar", "plan"):
            self.assertIn(marks[answer["verdict"]["state"]], pages[page])
        if answer["verdict"]["state"] == "does not" and answer["verdict"]["why_not"] == "":
            for name, page in pages.items():
                self.assertIn(hours_text(likely), page, name)

    def check_size(self, outcome):
        """A size that is named holds at its odds; one just below does not."""
        size = required_wh(outcome, outcome.plan.wanted_chance)
        if size is None:
            return
        for share, holds in ((1.0, True), (0.9, False)):
            battery = outcome.plan.supply.battery
            sized = type(battery)(**{**vars(battery), "nominal_wh": share * size})
            supply = type(outcome.plan.supply)(**{**vars(outcome.plan.supply), "battery": sized})
            plan = type(outcome.plan)(**{**vars(outcome.plan), "supply": supply})
            chance = simulate(plan, answering.MOST_DRAWS).chance
            self.assertEqual(chance >= outcome.plan.wanted_chance, holds, (share, chance))
