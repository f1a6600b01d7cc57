"""The watch: how long, what helps, what may be switched on, what comes next, and the card."""

import copy
import unittest
from typing import ClassVar

import numpy as np

from needle.document import DocumentError
from needle.plan.documents.parse import parse_plan
from needle.trial.forecast import forecast
from needle.trial.trial import parse_trial
from needle.watch.card import bars_for, card_of
from needle.watch.doings import doings
from needle.watch.summary import summarise
from needle.watch.watch import Watch
from needle.words import text_of

#: 2000 Wh that are known, and three loads at the battery: 60 W must, 40 W should, 100 W nice.
PLAN = {
    "start": "2027-02-09T18:00:00+00:00",
    "hours": 60,
    "needed_hours": 24,
    "supply": {
        "battery": {
            "chemistry": "lfp",
            "nominal_wh": 2000,
            "volts": 12.8,
            "capacity_factor": 1.0,
            "capacity_spread": 0.03,
            "floor": 0.0,
        },
        "inverter": {
            "continuous_w": 500,
            "surge_va": 900,
            "surge_s": 2,
            "idle_w": 0,
            "efficiency": 1.0,
            "off_unused": True,
        },
        "outputs": [
            {"name": "dc", "max_w": 400, "idle_w": 0, "efficiency": 1.0, "off_unused": True}
        ],
    },
    "loads": [
        {"name": "Box", "running_w": 60, "route": "dc", "spread": 0.05, "priority": "must"},
        {"name": "Fan", "running_w": 40, "route": "dc", "spread": 0.05, "priority": "should"},
        {"name": "Lamp", "running_w": 100, "route": "dc", "spread": 0.05, "priority": "nice"},
    ],
}
PUMP = {
    "name": "Pump",
    "running_w": 400,
    "start_va": 2600,
    "power_factor": 0.7,
    "priority": "nice",
    "use": {"tasks": ["20:00"]},
    "steps": [{"watts": 400, "minutes": 6}],
}
KETTLE = {**PUMP, "name": "Kettle", "start_va": 450, "power_factor": 1.0}
GENERATOR = {
    "kind": "window",
    "name": "Generator",
    "watts": 500,
    "between": [["03:00", "04:00"]],
    "litres_per_kwh": 0.5,
}


def watch(*check_ins, hour=0.0, needed=24.0, on=None, loads=(), **plan):
    whole = {**copy.deepcopy(PLAN), **plan}
    whole["loads"] = [*(whole.pop("plan_loads", None) or whole["loads"]), *loads]
    document = {"plan": whole, "check_ins": list(check_ins)}
    if on is not None:
        document["on"] = on
    return Watch(parse_trial(document), hour, needed)


class NowTest(unittest.TestCase):
    def test_hours_are_those_of_the_forecast_and_chances_of_both(self):
        seen = watch({"h": 4, "wh": 800}, hour=4)
        # 800 of 2000 Wh are gone at 200 W; 60 W alone last for a day.
        self.assertAlmostEqual(seen.forecast.stop_h[1], 10, delta=0.5)
        self.assertLess(seen.chance, 0.05)
        self.assertGreater(seen.chance_musts, 0.4)
        self.assertEqual(seen.musts, ["Box"])
        low = watch({"h": 4, "wh": 800}, hour=4, needed=9).chance
        self.assertGreater(low, 0.8)

    def test_its_own_sums_are_those_of_the_forecast(self):
        """By the quarter hour and by the minute: the same within a fiftieth."""
        for check_ins in ([], [{"h": 3, "wh": 640}], [{"h": 2, "on": ["Box", "Lamp"]}]):
            seen = watch(*check_ins, hour=3)
            low, mid, high = np.quantile(seen._base_h, [0.1, 0.5, 0.9])
            self.assertAlmostEqual(mid, seen.forecast.stop_h[1], delta=0.03 * mid)
            self.assertAlmostEqual(
                high - low,
                seen.forecast.stop_h[2] - seen.forecast.stop_h[0],
                delta=0.35 * (high - low),
            )

    def test_sun_is_in_it(self):
        noon = {**GENERATOR, "between": [["20:00", "22:00"]]}
        plain, fed = watch(), watch(sources=[noon])
        self.assertGreater(np.median(fed._base_h), np.median(plain._base_h) + 3)

    def test_it_is_no_watch(self):
        with self.assertRaisesRegex(DocumentError, "needed: a watch"):
            Watch(parse_trial({"supply": PLAN["supply"], "expected_w": {"value": 50}}), 1, 24)
        ended = {"plan": PLAN, "ended": {"h": 5, "why": "by hand"}}
        with self.assertRaisesRegex(DocumentError, "has ended"):
            Watch(parse_trial(ended), 1, 24)
        with self.assertRaisesRegex(DocumentError, "not within a trial"):
            watch(hour=-1)

    def test_a_long_outage_is_looked_at_to_its_end(self):
        """A box of 10 W on 2000 Wh lasts for 200 h, and not for 300."""
        small = {**PLAN["loads"][0], "running_w": 10}
        for needed, reached in ((150, True), (300, False)):
            seen = watch(needed=needed, plan_loads=[small])
            self.assertEqual(seen.chance > 0.5, reached)
            self.assertEqual(seen.chance_musts > 0.5, reached)


class CannotRunTest(unittest.TestCase):
    """A load that is on and that the supply drops is no reason to feel safe."""

    def test_what_trips_or_has_no_ac_is_named_with_its_reason(self):
        always = {"priority": "must", "use": "always", "steps": None}
        pump = {key: value for key, value in {**PUMP, **always}.items() if value is not None}
        self.assertEqual(watch(loads=[pump]).cannot_run, {"Pump": "overload"})
        self.assertEqual(watch(loads=[pump], on=["Box"]).cannot_run, {})
        supply = {**PLAN["supply"]}
        del supply["inverter"]
        now = watch(loads=[pump], supply=supply)
        self.assertEqual(now.cannot_run, {"Pump": "no-ac"})
        self.assertEqual(now.may("Pump").start.unfit, "no-ac")
        self.assertEqual(watch(supply=supply).may("Box").start.unfit, "")

    def test_it_stands_in_the_summary(self):
        lamp = {"name": "Flood", "running_w": 500, "route": "dc", "priority": "must"}
        document = {"plan": {**PLAN, "loads": [*PLAN["loads"], lamp]}}
        summary = summarise(document, 0.0, 12.0)
        self.assertIn("Flood", summary.cannot_run)
        kettle = {**KETTLE, "route": "ac", "use": {"tasks": ["20:00", "21:00"]}}
        supply = {key: value for key, value in PLAN["supply"].items() if key != "inverter"}
        now = watch(loads=[kettle], supply=supply)
        self.assertNotIn("Kettle", now.announced([]))
        self.assertIn("Kettle", watch(loads=[kettle]).announced([]))
        # What only trips may be tried at its next use.
        self.assertIn("Flood", Watch(parse_trial(document), 0.0, 12.0).announced([]))
        self.assertIn(
            "Flood fails in most simulated runs: its output",
            " ".join(map(text_of, summary.notices)),
        )


class HelpTest(unittest.TestCase):
    def test_each_gain_is_what_the_forecast_says_afterwards(self):
        seen = watch({"h": 4, "wh": 800}, hour=4)
        helped = {each.name: each for each in seen.helps()}
        self.assertEqual(set(helped), {"Lamp", "Fan"})
        for name, left in (("Lamp", ["Box", "Fan"]), ("Fan", ["Box", "Lamp"])):
            after = watch({"h": 4, "wh": 800}, {"h": 4.001, "on": left}, hour=4.001)
            gained = after.forecast.stop_h[1] - seen.forecast.stop_h[1]
            self.assertAlmostEqual(helped[name].gained_h[1], gained, delta=0.12 * gained + 0.1)

    def test_what_keeps_somebody_alive_and_what_must_run_is_never_left_off(self):
        life = {**PLAN["loads"][2], "name": "Breathing machine", "cares": "life"}
        store = {**PLAN["loads"][1], "name": "Vaccines", "cares": "store"}
        names = {each.name for each in watch(loads=[life, store]).helps()}
        self.assertEqual(names, {"Lamp", "Fan"})

    def test_a_charger_is_proposed_where_there_is_room_for_it_with_its_fuel(self):
        seen = watch(sources=[GENERATOR])
        (charge,) = [each for each in seen.helps() if each.kind == "charge"]
        self.assertGreater(charge.from_h, 1.0)
        self.assertIn("0.5 l of fuel; outdoors", text_of(charge.caution))
        self.assertIn("run Generator for 2 h from", text_of(charge.said).replace("\xa0", " "))
        self.assertGreater(charge.gained_h[1], 2.0)
        self.assertGreaterEqual(charge.chance_musts, seen.chance_musts)

    def test_what_is_off_gains_nothing(self):
        self.assertNotIn("Lamp", [each.name for each in watch(on=["Box", "Fan"]).helps()])


class SwitchesTest(unittest.TestCase):
    """What should go off until the next look, and what may come on again."""

    def test_what_the_musts_cannot_spare_goes_off_the_nice_first(self):
        seen = watch({"h": 5, "wh": 1000}, hour=5, needed=17)
        # 1000 Wh are left. Two hours of 200 W leave 600, of 100 W 800; the box then needs 600.
        self.assertEqual(seen.switches(7), (["Lamp"], []))

    def test_what_went_off_may_come_on_again_where_there_is_plenty(self):
        off = {"h": 1, "on": ["Box", "Fan"]}
        self.assertEqual(watch(off, hour=1, needed=6).switches(3), ([], ["Lamp"]))
        self.assertEqual(watch(off, hour=1, needed=26).switches(3)[1], [])

    def test_what_began_off_and_what_draws_nothing_is_not_spoken_of(self):
        self.assertEqual(watch(on=["Box"], needed=6).switches(2), ([], []))
        late = {**PLAN["loads"][2], "name": "Porch", "use": {"between": [["23:00", "23:30"]]}}
        self.assertNotIn("Porch", watch(loads=[late], needed=30).switches(2)[0])

    def test_what_keeps_alive_is_kept_or_is_hard_wired_never_goes_off(self):
        for cares in ("life", "store", "hard-wired"):
            load = {**PLAN["loads"][2], "name": "Pump house", "cares": cares}
            seen = watch(loads=[load], needed=40)
            self.assertNotIn("Pump house", seen.switches(2)[0], cares)
            self.assertNotIn("Pump house", [each.name for each in seen.helps()], cares)

    def test_many_taps_do_not_make_it_less_known(self):
        seen = [{"h": 2, "wh": 500}]
        once = watch(*seen, {"h": 2.1, "on": ["Box", "Fan"]}, hour=3)
        names = (["Box", "Fan"], ["Box", "Fan", "Lamp"], ["Box", "Lamp"])
        taps = [{"h": 2 + 0.02 * n, "on": names[n % 3]} for n in range(1, 37)]
        often = watch(*seen, *taps, {"h": 2.9, "on": ["Box", "Fan"]}, hour=3)
        wide = [each.forecast.stop_h[2] - each.forecast.stop_h[0] for each in (once, often)]
        self.assertLess(wide[1], 1.4 * wide[0])


class ChargeTest(unittest.TestCase):
    """What charges goes in only as far as the battery takes it."""

    def gained(self, **plan):
        (charge,) = [e for e in watch(sources=[GENERATOR], **plan).helps() if e.kind == "charge"]
        return charge.gained_h[1]

    def test_nothing_goes_into_lithium_in_frost(self):
        self.assertGreater(self.gained(room_c=20.0), 2.0)
        cold = watch(sources=[GENERATOR], room_c=-5.0)
        charge = [each for each in cold.helps() if each.kind == "charge"]
        # It still feeds what runs meanwhile.
        warm = self.gained(room_c=20.0)
        self.assertLess(max((each.gained_h[1] for each in charge), default=0.0), 0.7 * warm)

    def test_its_inputs_limit(self):
        battery = {**PLAN["supply"], "inputs": [{"name": "car", "max_w": 100}]}
        slow = {**GENERATOR, "input": "car"}
        (charge,) = [e for e in watch(sources=[slow], supply=battery).helps() if e.kind == "charge"]
        self.assertLess(charge.gained_h[1], 0.5 * self.gained())

    def test_another_battery_is_empty_at_last(self):
        """300 Wh beside 2000, at 200 W: an hour and a half more, and not for ever."""
        pack = {
            "kind": "battery",
            "name": "Pack",
            "nominal_wh": 300,
            "max_w": 100,
            "efficiency": 1.0,
        }
        gained = np.median(watch(sources=[pack])._base_h) - np.median(watch()._base_h)
        self.assertAlmostEqual(gained, 1.5, delta=0.4)


class MayTest(unittest.TestCase):
    def test_a_start_that_trips_and_one_that_does_not(self):
        seen = watch(loads=[PUMP, KETTLE], on=["Box", "Fan", "Lamp"])
        self.assertLess(seen.may("Pump").start.chance, 0.3)
        self.assertGreater(seen.may("Kettle").start.chance, 0.9)

    def test_what_runs_beside_it_decides(self):
        heater = {**PLAN["loads"][2], "name": "Heater", "running_w": 300, "route": "ac"}
        alone = watch(loads=[KETTLE, heater], on=["Box"]).may("Kettle")
        beside = watch(loads=[KETTLE, heater], on=["Box", "Heater"]).may("Kettle")
        self.assertGreater(alone.start.chance, 0.9)
        self.assertLess(beside.start.chance, 0.1)

    def test_what_one_use_costs(self):
        """40 Wh of 2000 at 200 W are twelve minutes; for an hour ten times as much."""
        seen = watch(loads=[KETTLE], on=["Box", "Fan", "Lamp"])
        self.assertAlmostEqual(seen.may("Kettle").cost_h[1], 0.2, delta=0.03)
        self.assertAlmostEqual(seen.may("Kettle", 60).cost_h[1], 2.0, delta=0.25)

    def test_what_the_musts_cannot_spare_is_advised_against(self):
        """1000 Wh are left, the box needs 780 of them; two minutes of 400 W are hardly anything."""
        rest = {"h": 5, "wh": 1000, "on": ["Box"]}
        seen = watch(rest, hour=5, needed=18, loads=[KETTLE])
        hour, minutes = seen.may("Kettle", 60), seen.may("Kettle", 2)
        self.assertTrue(hour.takes_from_musts)
        self.assertLess(hour.chance_musts_after, 0.1)
        self.assertGreater(hour.chance_musts, 0.9)
        self.assertFalse(minutes.takes_from_musts)
        plenty = watch(needed=10, loads=[KETTLE], on=["Box"])
        self.assertFalse(plenty.may("Kettle", 60).takes_from_musts)

    def test_a_must_is_never_advised_against(self):
        box = watch({"h": 5, "wh": 1000}, hour=5, needed=30, on=["Box", "Fan"]).may("Box", 60)
        self.assertFalse(box.takes_from_musts)

    def test_where_nothing_must_run_there_are_no_musts_to_speak_of(self):
        may = watch(on=["Lamp"]).may("Fan")
        self.assertIsNone(may.chance_musts_after)
        self.assertFalse(may.takes_from_musts)

    def test_it_is_free_while_a_source_carries_it(self):
        mains = {**GENERATOR, "watts": 900, "between": [["22:00", "23:30"]]}
        may = watch(loads=[KETTLE], on=["Box"], sources=[mains]).may("Kettle")
        self.assertAlmostEqual(may.free_at_h, 4.0, delta=0.3)
        self.assertIsNone(watch(loads=[KETTLE], on=["Box"]).may("Kettle").free_at_h)

    def test_a_use_that_is_hardly_known_costs_hardly_known_hours(self):
        costs = []
        for spread in (0.02, 0.5):
            kettle = {**KETTLE, "spread": spread, "task_spread": spread}
            low, _, high = watch(loads=[kettle], on=["Box"]).may("Kettle").cost_h
            costs.append(high / low)
        self.assertGreater(costs[1], 1.5 * costs[0])

    def test_no_such_load(self):
        with self.assertRaisesRegex(DocumentError, "no load of its plan"):
            watch().may("Sauna")


class DoingTest(unittest.TestCase):
    def lines(self, seen):
        found = doings(seen.plan, seen.hour, seen.needed_h, seen.on, seen.hour + 2)
        return [
            (round(doing.hour, 1), text_of(doing.said), doing.late(seen.hour)) for doing in found
        ]

    def test_by_the_clock(self):
        lamp = {**PLAN["loads"][2], "name": "Porch", "use": {"between": [["19:00", "22:30"]]}}
        lines = self.lines(watch(loads=[lamp, KETTLE], sources=[GENERATOR], hour=1.5))
        for line in (
            (1.0, "Porch on", True),
            (2.0, "Kettle is due", False),
            (4.5, "Porch off", False),
        ):
            self.assertIn(line, lines)
        self.assertIn((9.0, "run Generator for 1\xa0h", False), lines)
        self.assertIn((3.5, "look at the charge", False), lines)
        self.assertEqual(lines, sorted(lines, key=lambda line: line[0]))

    def test_what_is_off_and_what_keeps_alive_is_not_told_to_go_off(self):
        porch = {"use": {"between": [["19:00", "22:30"]]}}
        lamp = {**PLAN["loads"][2], "name": "Porch", **porch}
        life = {**lamp, "name": "Breathing machine", "cares": "life"}
        words = [text for _, text, _ in self.lines(watch(loads=[lamp, life], on=["Box"], hour=2))]
        self.assertNotIn("Porch off", words)
        words = [text for _, text, _ in self.lines(watch(loads=[lamp, life], hour=2))]
        self.assertIn("Porch off", words)
        self.assertNotIn("Breathing machine off", words)


class CardTest(unittest.TestCase):
    def card(self, **plan):
        return card_of(parse_plan({**PLAN, **plan}))

    def test_thresholds_are_energies(self):
        """24 h of 60 W are 1440 of 2000 Wh: looks are two hours apart."""
        card = self.card()
        hours = [row.hour for row in card.rows]
        self.assertEqual(hours, list(range(0, 24, 2)))
        # At 12 h: two hours of 200 W and ten of 60 W are 50 % and the chance's margin.
        row = card.rows[6]
        self.assertAlmostEqual(row.all_from, 0.50 + 0.08, delta=0.06)
        self.assertAlmostEqual(row.shoulds_from, 0.40 + 0.08, delta=0.06)

    def test_it_keeps_the_musts_and_spends_what_is_over(self):
        card = self.card()
        self.assertGreater(card.carries, 0.88)
        self.assertLess(card.carries_all_on, 0.05)
        self.assertGreater(card.served, 0.1)
        self.assertEqual((card.musts, card.shoulds, card.nice), (("Box",), ("Fan",), ("Lamp",)))

    def test_thresholds_fall_with_the_hours_and_shoulds_come_before_nice(self):
        rows = self.card().rows
        for row in rows:
            if row.all_from is not None:
                self.assertLessEqual(row.shoulds_from, row.all_from)
        found = [row.shoulds_from for row in rows if row.shoulds_from is not None]
        self.assertEqual(found, sorted(found, reverse=True))

    def test_where_there_is_plenty_everything_may_run(self):
        card = self.card(needed_hours=6)
        self.assertGreater(card.carries, 0.99)
        self.assertGreater(card.served, 0.99)

    def test_a_charger_lowers_what_is_needed_before_it_but_not_below_its_way(self):
        late = {**GENERATOR, "between": [["06:00", "12:00"]]}
        plain, fed = self.card(), self.card(sources=[late])
        self.assertGreater(fed.served, plain.served)
        self.assertLess(fed.rows[2].shoulds_from, plain.rows[2].shoulds_from or 1.0)


class NotRunCardTest(unittest.TestCase):
    """What the supply does not run is on no line of the card that says how long it may run."""

    PUMP: ClassVar = {"name": "Pump", "running_w": 300, "priority": "must"}

    def test_a_must_without_ac_is_none_and_takes_nothing(self):
        plan = copy.deepcopy(PLAN)
        del plan["supply"]["inverter"]
        plain = card_of(parse_plan(plan))
        card = card_of(parse_plan({**plan, "loads": [*PLAN["loads"], self.PUMP]}))
        self.assertEqual(dict(card.cannot_run), {"Pump": "no-ac"})
        self.assertEqual((card.musts, card.shoulds, card.nice), (("Box",), ("Fan",), ("Lamp",)))
        self.assertEqual(card.rows, plain.rows)

    def test_what_is_too_large_is_named_and_not_among_what_stays_on(self):
        large = {**self.PUMP, "running_w": 3000}
        card = card_of(parse_plan({**PLAN, "loads": [*PLAN["loads"], large]}))
        self.assertEqual(dict(card.cannot_run), {"Pump": "overload"})
        self.assertEqual(card.musts, ("Box",))


class SunnyCardTest(unittest.TestCase):
    def test_what_a_full_battery_cannot_store_helps_no_later_night(self):
        """Plenty by day, and 14 h of night: 840 Wh of 60 W lie in 1000 Wh, 1260 of 90 W do not."""
        noon = {**GENERATOR, "watts": 2000, "between": [["08:00", "18:00"]]}
        supply = copy.deepcopy(PLAN["supply"])
        supply["battery"]["nominal_wh"] = 1000
        for watts, lasts in ((60, True), (90, False)):
            loads = [{**PLAN["loads"][0], "running_w": watts}, PLAN["loads"][2]]
            plan = {**PLAN, "supply": supply, "sources": [noon], "loads": loads}
            # From the morning on: the day, and the night after it.
            start = "2027-02-10T08:00:00+00:00"
            plan |= {"start": start, "needed_hours": 23.5, "hours": 24}
            card = card_of(parse_plan(plan))
            with self.subTest(watts=watts):
                self.assertEqual(card.carries > 0.9, lasts)
                self.assertEqual(card.rows[1].all_from is not None, lasts)

    def test_bars_are_those_that_are_sure_of_a_charge(self):
        for share, bars in (
            (0.0, 1),
            (0.2, 2),
            (0.21, 3),
            (0.6, 4),
            (0.8, 5),
            (0.81, None),
            (1, None),
        ):
            self.assertEqual(bars_for(share, 5), bars, share)


class ForecastTest(unittest.TestCase):
    def test_a_watch_without_check_ins_says_about_what_the_plan_does(self):
        plan = forecast(parse_trial({"plan": PLAN})).stop_h
        self.assertAlmostEqual(watch().forecast.stop_h[1], plan[1], delta=0.03 * plan[1])


class PassingTest(unittest.TestCase):
    def test_taps_within_minutes_are_one_and_named(self):
        taps = [
            {"h": 5, "on": ["Box", "Fan"]},
            {"h": 5.02, "on": ["Box", "Lamp"]},
            {"h": 5.04, "on": ["Box"]},
        ]
        quick, one = watch(*taps, hour=6), watch(taps[-1], hour=6)
        self.assertAlmostEqual(quick.forecast.stop_h[1], one.forecast.stop_h[1], delta=0.2)
        passed = [entry.where for entry in quick.forecast.ledger if not entry.used]
        self.assertEqual(passed, ["check_ins[0]", "check_ins[1]"])
        slow = watch({"h": 5, "on": ["Box", "Fan"]}, {"h": 7, "on": ["Box"]}, hour=7)
        self.assertFalse([entry for entry in slow.forecast.ledger if not entry.used])


class StartTest(unittest.TestCase):
    def test_a_charge_read_in_bars_is_anywhere_within_one(self):
        """60 % of 2000 Wh at 200 W are six hours; a fifth of it is two hours more or less."""

        def hours(**start):
            document = {"plan": {**PLAN, "hours": 60}, "check_ins": [], **start}
            return Watch(parse_trial(document), 0.0, 24.0).forecast.stop_h

        exact = hours(start_charge=0.6)
        coarse = hours(start_charge=0.6, start_step=0.2)
        self.assertAlmostEqual(coarse[1], exact[1], delta=0.5)
        wide = (coarse[2] - coarse[0]) - (exact[2] - exact[0])
        # A uniform fifth of 2000 Wh between its 10th and 90th percentile: 0.16 · 2000 / 200 h.
        self.assertGreater(wide, 0.6)
        self.assertLess(wide, 1.7)
