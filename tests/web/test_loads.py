"""Survey and loads: forms, readings, and what they change."""

import uuid
from unittest import mock

from django.db import DatabaseError, connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from needle.plan.documents.parse import parse_plan
from tests.web.base import HTMX, SPOT, SiteTest, make_job, make_load, make_supply
from web.jobs.models import Change
from web.loads.actions import add_reading
from web.loads.models import Load, Reading
from web.plans.draft import document, draft_of
from web.plans.models import Plan
from web.sheets.documents import add_load_document, load_document


class LoadFormTest(SiteTest):
    def post(self, **changes):
        data = {
            "name": "Kettle",
            "kind": "thermostat-heat",
            "priority": "nice",
            "label_watts": "2.2 kW",
            **changes,
        }
        return self.client.post(self.url("loads:add"), data)

    def test_a_label_alone_gives_a_profile(self):
        answer = self.post()
        load = self.job.loads.get()
        page = self.url("loads:load", load.pk)
        self.assertRedirects(answer, page)
        self.assertContains(self.client.get(page), "Add the battery")
        self.assertEqual(load.readings.get().data, {"watts": 2200.0})
        make_supply(self.job)
        second = self.post(name="Second kettle")
        self.assertRedirects(second, self.url("loads:load", self.job.loads.last().pk))
        self.assertEqual(load.profile().grade, "D")

    def test_what_was_typed_is_kept_beside_the_sentence(self):
        answer = self.post(label_watts="4 kWh")
        self.assertContains(answer, "this field wants a rate", status_code=422)
        self.assertContains(answer, 'value="4 kWh"', status_code=422)
        self.assertContains(answer, 'value="Kettle"', status_code=422)
        self.assertFalse(Load.objects.exists())

    def test_fields_of_its_kind_and_what_was_typed(self):
        url = self.url("loads:add")
        lamp = self.client.get(url, {"kind": "led", "name": "Lamp", "label_watts": "7 W"})
        self.assertContains(lamp, 'value="7 W"')
        self.assertContains(lamp, "hours_per_day")
        for name in ("never_rarer", "set_c", "litres"):
            self.assertNotContains(lamp, name)
        box = self.client.get(url, {"kind": "compressor-fixed"})
        self.assertContains(box, "never_rarer")
        self.assertNotContains(box, "hours_per_day")
        # What is stored is never hidden.
        odd = make_load(self.job, kind="compressor-fixed", hours_per_day=5.0)
        self.assertContains(self.client.get(self.url("loads:edit", odd.pk)), "hours_per_day")

    def test_bad_input(self):
        for changes, said in [
            ({"label_watts": "-5 W"}, "too small"),
            ({"label_watts": "1 GW"}, "more than this can be"),
            ({"label_watts": "nan"}, "not a quantity"),
            ({"name": "x" * 10_000}, "at most 80 characters"),
            ({"name": ""}, "Give it a name"),
            ({"name": "\x00"}, "Null characters"),
            ({"kind": "perpetual"}, "valid choice"),
            ({"hours_per_day": "25 h"}, "more than this can be"),
            ({"hours_per_day": "4 kW"}, "length of time"),
        ]:
            with self.subTest(changes=str(changes)[:50]):
                self.assertContains(self.post(**changes), said, status_code=422)
        self.assertFalse(Load.objects.exists())

    def test_the_same_form_sent_twice_makes_one_load(self):
        key = str(uuid.uuid4())
        first, second = self.post(client_key=key), self.post(client_key=key)
        self.assertEqual((first.status_code, second.status_code), (302, 302))
        self.assertEqual(first.url, second.url)
        self.assertEqual(self.job.loads.count(), 1)
        self.assertEqual(Reading.objects.count(), 1)

    def test_two_loads_of_one_name_are_refused(self):
        self.post()
        self.assertContains(self.post(), "already has a load", status_code=422)

    def test_a_failure_midway_stores_nothing(self):
        failing = mock.patch("web.loads.actions.add_reading", side_effect=DatabaseError)
        with failing, self.assertRaises(DatabaseError):
            self.post()
        self.assertFalse(Load.objects.exists())
        self.assertFalse(Change.objects.exists())

    def test_a_stale_form_is_refused_and_keeps_what_was_typed(self):
        load = make_load(self.job)
        url = self.url("loads:edit", load.pk)
        data = {"name": "First", "kind": load.kind, "priority": "must", "version": load.version}
        self.assertEqual(self.client.post(url, data).status_code, 302)
        stale = self.client.post(url, {**data, "name": "Second"})
        self.assertContains(stale, "changed in another window", status_code=422)
        self.assertContains(stale, 'value="Second"', status_code=422)
        load.refresh_from_db()
        self.assertEqual(load.name, "First")
        self.assertContains(stale, f'name="version" value="{load.version}"', status_code=422)


class ReadingTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.load = make_load(self.job)
        make_supply(self.job)

    def post(self, kind="spot", htmx=True, **data):
        url = self.url("loads:add-reading", self.load.pk, kind)
        return self.client.post(url, data, **(HTMX if htmx else {}))

    def test_an_assumed_duty(self):
        self.post("duty", low="25", high="45 %")
        self.assertEqual(self.load.readings.last().data, {"low": 0.25, "high": 0.45})
        page = self.client.get(self.url("loads:load", self.load.pk))
        self.assertContains(page, "on for 25 to 45 % of the time, assumed")
        url = self.url("loads:edit-reading", self.load.pk, self.load.readings.last().pk)
        self.assertContains(self.client.get(url), 'value="25 %"')

    def test_volts_times_amps_in_the_watts_field(self):
        self.post(state="running", watts="6.3 A @ 230 V", instrument="clamp")
        self.assertEqual(
            self.load.readings.get(type="spot").data,
            {"state": "running", "volts": 230.0, "amps": 6.3, "instrument": "clamp"},
        )
        twice = self.post(state="running", watts="6.3 A @ 230 V", volts="231 V")
        self.assertContains(twice, "and so do their own fields", status_code=422)
        self.post(state="resting", watts="0.4 A @ 12.6 V", instrument="shunt")
        self.assertEqual(self.load.readings.last().data["watts"], 5.04)

    def test_one_round_trip_updates_profile_and_answer_bar(self):
        answer = self.post(**SPOT)
        self.assertEqual(answer.status_code, 200)
        self.assertContains(answer, 'id="load-body"')
        self.assertContains(answer, 'id="answer-bar" aria-label="Answer" hx-swap-oob')
        self.assertContains(answer, "92.4")
        self.assertContains(answer, "The readings agree.")
        self.assertContains(answer, "Undo")
        stored = self.load.readings.get(type="spot")
        self.assertEqual(stored.data["amps"], 0.64)

    def test_a_better_reading_narrows_the_answer(self):
        def width():
            answer = self.client.get(self.url("plans:download", 0, "answer.json")).json()
            return answer["runtime_h"]["high"] / answer["runtime_h"]["low"]

        before = width()
        self.post(**SPOT)
        self.post("energy", wh="0.71 kWh", hours="21 h 30", step_wh="10 Wh")
        self.assertLess(width(), before / 1.5)

    def test_without_scripts_it_redirects(self):
        answer = self.post(htmx=False, **SPOT)
        self.assertRedirects(answer, self.url("loads:load", self.load.pk))

    def test_every_kind_is_kept_and_shown(self):
        posts = {
            "spot": SPOT,
            "start": {"amps": "5.9 A", "volts": "231 V", "instrument": "clamp"},
            "energy": {"wh": "710 Wh", "hours": "21h30", "instrument": "plug"},
            "tally": {"edges": "on 0:00\noff 6:50\non 21:30"},
            "task": {"before": "3.214 kWh", "wh": "3.826 kWh", "minutes": "54", "pieces": "14"},
            "charge-drop": {
                "supply_wh": "1.02 kWh",
                "charge_from": "100 %",
                "charge_to": "91",
                "hours": "6 h",
                "efficiency": "92",
            },
            "short-run": {"watts": "780 W", "seconds": "2:30 min", "times_per_day": "6"},
            "duty": {"feel": "about half"},
            "label": {"watts": "1/2 hp", "kwh_per_year": "190"},
        }
        for kind, data in posts.items():
            with self.subTest(kind=kind):
                self.assertEqual(self.post(kind, **data).status_code, 200)
        kept = {reading.type: reading.data for reading in self.load.readings.order_by("pk")}
        self.assertEqual(kept["task"]["wh"], 612.0)
        self.assertEqual(kept["label"]["horsepower"], 0.5)
        self.assertEqual(kept["short-run"]["seconds"], 150)
        self.assertEqual(kept["charge-drop"]["from"], 1.0)
        self.assertAlmostEqual(kept["charge-drop"]["to"], 0.91)
        self.assertEqual(kept["tally"]["edges"][1], ["off", 410.0])
        page = self.client.get(self.url("loads:load", self.load.pk))
        for words in (
            "duty 0.32",
            "612",
            "14 pieces",
            "100 → 91 %",
            "mean 33.0",
            "for 2\u00a0min\u00a030\u00a0s, 6 times a day",
            "0.5\u00a0hp",
        ):
            self.assertContains(page, words)

    def test_refusals_stand_beside_the_field_and_keep_the_text(self):
        for kind, data, said in [
            ("spot", {"state": "running"}, "needs watts"),
            ("spot", {"state": "running", "watts": "10 W", "pf": "1.4"}, "more than this can be"),
            ("spot", {"state": "x" * 500, "watts": "1"}, "at most 40"),
            ("energy", {"wh": "710 W", "hours": "2"}, "this field wants an amount"),
            ("energy", {"wh": "710", "hours": "4 kWh"}, "wants a length of time"),
            ("energy", {"wh": "5000 kWh", "hours": "1"}, "or 5000 Wh?"),
            ("tally", {"edges": "on 0:00\non 5:00\noff 6:00"}, "take turns"),
            ("tally", {"edges": "sometimes"}, "oment 1"),
            ("task", {"wh": "3 kWh", "before": "4 kWh"}, "not above the counter before"),
            (
                "charge-drop",
                {"supply_wh": "1", "charge_from": "50", "charge_to": "80", "hours": "1"},
                "not below the charge",
            ),
        ]:
            with self.subTest(kind=kind, said=said):
                answer = self.post(kind, **data)
                self.assertContains(answer, said, status_code=422)
                self.assertEqual(answer.headers["HX-Retarget"], "#reading-form")
                for value in data.values():
                    if len(value) < 20:
                        self.assertIn(value.split("\n")[0], answer.content.decode())
        self.assertEqual(self.load.readings.count(), 1)

    def test_settings_stand_side_by_side_with_their_cost(self):
        self.job.tariff = 0.5
        self.job.save()
        for setting, watts in (("low", "31 W"), ("high", "62 W")):
            self.post("spot", state="running", watts=watts, setting=setting)
        page = self.client.get(self.url("loads:load", self.load.pk))
        for words in ("Settings compared", "+100 %", "cost a day", "¤"):
            self.assertContains(page, words)

    def test_a_capture_is_not_typed_in(self):
        self.assertEqual(self.post("capture", wh="5").status_code, 404)
        page = self.client.get(self.url("loads:load", self.load.pk), {"type": "capture"})
        self.assertNotContains(page, "type=capture")

    def test_an_unknown_kind_is_a_404(self):
        self.assertEqual(self.post("guess", watts="5").status_code, 404)

    def test_sent_twice_kept_once(self):
        key = str(uuid.uuid4())
        self.post(client_key=key, **SPOT)
        self.post(client_key=key, **SPOT)
        self.assertEqual(self.load.readings.filter(type="spot").count(), 1)

    def test_editing_shows_and_replaces_what_was_read(self):
        self.post("charge-drop", supply_wh="1020", charge_from="100", charge_to="91", hours="6")
        reading = self.load.readings.get(type="charge-drop")
        url = self.url("loads:edit-reading", self.load.pk, reading.pk)
        page = self.client.get(url)
        self.assertContains(page, 'value="91 %"')
        self.assertContains(page, 'value="1020 Wh"')
        data = {
            "supply_wh": "1020 Wh",
            "charge_from": "100",
            "charge_to": "88 %",
            "hours": "6",
            "version": reading.version,
        }
        self.assertEqual(self.client.post(url, data).status_code, 302)
        reading.refresh_from_db()
        self.assertAlmostEqual(reading.data["to"], 0.88)
        stale = self.client.post(url, data)
        self.assertContains(stale, "changed in another window", status_code=422)

    def test_a_tally_can_be_edited(self):
        self.post("tally", edges="on 0:00\noff 6:50\non 21:30")
        reading = self.load.readings.get(type="tally")
        page = self.client.get(self.url("loads:edit-reading", self.load.pk, reading.pk))
        self.assertContains(page, "off 0:06:50")

    def test_removing_can_be_undone(self):
        reading = self.load.readings.get()
        self.client.post(self.url("loads:remove-reading", self.load.pk, reading.pk), **HTMX)
        self.assertIsNone(Load.objects.get(pk=self.load.pk).profile())
        change = self.job.changes.first()
        answer = self.client.post(self.url("jobs:undo", change.pk), follow=True)
        self.assertContains(answer, "Undone")
        self.assertIsNotNone(Load.objects.get(pk=self.load.pk).profile())

    def test_only_the_latest_change_is_undone(self):
        self.post(**SPOT)
        first = self.job.changes.first()
        self.post("label", watts="80")
        self.assertContains(
            self.client.post(self.url("jobs:undo", first.pk), follow=True), "Another change came"
        )
        latest = self.job.changes.first()
        self.client.post(self.url("jobs:undo", latest.pk))
        self.client.post(self.url("jobs:undo", first.pk))
        self.assertEqual(self.load.readings.live().count(), 1)

    def test_undo_never_leads_off_the_site(self):
        self.post(**SPOT)
        change = self.job.changes.first()
        answer = self.client.post(
            self.url("jobs:undo", change.pk), {"next": "https://elsewhere.example/"}
        )
        self.assertRedirects(answer, self.url("loads:survey"))


class SurveyTest(SiteTest):
    def test_empty_says_what_to_do_first(self):
        self.assertContains(self.client.get(self.url("loads:survey")), "Begin with the appliance")

    def test_rows_carry_value_range_and_grade(self):
        make_load(self.job, "Vaccine refrigerator")
        page = self.client.get(self.url("loads:survey"))
        self.assertContains(page, "Vaccine refrigerator")
        self.assertContains(page, "grade-d")
        self.assertContains(page, "States of Vaccine refrigerator")

    def test_found_and_sorted(self):
        for name, watts in (("Alpha", 50.0), ("Beta", 500.0), ("Gamma <b>", 5.0)):
            make_load(self.job, name, watts)
        part = self.client.get(
            self.url("loads:survey"), {"q": "bet"}, **HTMX, HTTP_HX_TARGET="loads-table"
        )
        self.assertContains(part, "Beta")
        self.assertNotContains(part, "Alpha")
        self.assertNotContains(part, "<html")
        page = self.client.get(self.url("loads:survey"), {"sort": "mean"}).content.decode()
        places = [page.index(name) for name in (">Beta<", ">Alpha<", ">Gamma &lt;b&gt;<")]
        self.assertEqual(places, sorted(places))
        self.assertContains(
            self.client.get(self.url("loads:survey"), {"q": "<zz>"}), "“&lt;zz&gt;”"
        )

    def test_queries_do_not_grow_with_the_loads(self):
        make_supply(self.job)

        def count(loads):
            for number in range(self.job.loads.count(), loads):
                make_load(self.job, f"Load {number}")
            with CaptureQueriesContext(connection) as made:
                self.client.get(self.url("loads:survey"))
            return len(made)

        # With many loads the answer comes later, and the newest load's effect with it.
        self.assertEqual((count(3), count(60)), (20, 19))

    def test_a_load_without_evidence_is_said(self):
        make_load(self.job, "Mystery", watts=None)
        page = self.client.get(self.url("loads:survey"))
        self.assertContains(page, "nothing known yet")
        self.assertContains(page, "1 unproven")


class EchoTest(SiteTest):
    def test_says_how_it_understood(self):
        def echo(text, unit):
            query = {"of": "wh", "wh": text, "unit": unit}
            return self.client.get(reverse("common:echo"), query).content.decode()

        self.assertIn("= 710\u00a0Wh", echo("0,71 kWh", "Wh"))
        self.assertIn("1\u00a0h\u00a030\u00a0min", echo("1h30", "h"))
        self.assertIn("is a rate", echo("4 kW", "Wh"))
        self.assertEqual(echo("", "Wh").strip(), "")
        self.assertIn("&lt;script&gt;", echo("<script>", "Wh"))


class OverTheYearsTest(SiteTest):
    def test_a_change_is_shown_and_old_readings_are_to_be_repeated(self):
        load = make_load(self.job, watts=None)
        url = self.url("loads:add-reading", load.pk, "energy")
        for at, counted in (("2023-03-10T12:00", "720 Wh"), ("2024-11-10T12:00", "1150 Wh")):
            self.client.post(url, {"wh": counted, "hours": "24", "read_at": at})
        page = self.client.get(self.url("loads:load", load.pk))
        self.assertContains(page, "since some time between March 2023 and November 2024")
        self.assertContains(page, 'class="course"')
        make_supply(self.job)
        plan = self.client.get(self.url("plans:current"))
        self.assertContains(plan, "Box: last read in November 2024")
        self.assertContains(self.client.get(self.url("sheets:sheet")), "measure it again")


class SplitPhaseTest(SiteTest):
    def test_a_load_on_both_legs(self):
        self.assertNotContains(self.client.get(self.url("loads:add")), "both legs")
        self.job.mains = "120-240-60"
        self.job.save()
        self.assertContains(self.client.get(self.url("loads:add")), "both legs, 240 V")
        load = make_load(self.job, "Pump", None, kind="pump")
        clamp = {"state": "running", "amps": "31 A", "instrument": "clamp"}
        self.client.post(self.url("loads:add-reading", load.pk, "spot"), clamp)
        page = self.client.get(self.url("loads:load", load.pk))
        self.assertContains(page, "Is it on one leg or on both?")
        load.refresh_from_db()
        self.client.post(
            self.url("loads:edit", load.pk),
            {
                "name": "Pump",
                "kind": "pump",
                "priority": "must",
                "legs": "both",
                "version": load.version,
            },
        )
        page = self.client.get(self.url("loads:load", load.pk))
        self.assertNotContains(page, "Is it on one leg or on both?")
        self.assertContains(page, "7.44\u00a0kVA")
        # Only an electrician reads what is on both legs.
        self.assertContains(page, "licensed electrician fit a panel logger")


class WiredTest(SiteTest):
    """Hard-wired says how it is connected; what depends on it is said beside it."""

    def edit(self, load, **more):
        data = {"name": load.name, "kind": load.kind, "priority": "must", **more}
        self.client.post(self.url("loads:edit", load.pk), {**data, "version": load.version})
        load.refresh_from_db()
        return self.client.get(self.url("loads:load", load.pk))

    def test_a_life_may_hang_on_what_is_hard_wired(self):
        load = make_load(self.job, "Concentrator", 350.0, kind="electronics")
        page = self.edit(load, cares="life", wired="on")
        self.assertContains(page, "This equipment supports life")
        self.assertContains(page, "Live panels and hard-wired loads")
        make_supply(self.job)
        in_plan = parse_plan(document(draft_of(Plan.default_of(self.job)))).loads[0]
        self.assertTrue(in_plan.protected and in_plan.wired)
        self.assertEqual(load_document(load)["wired"], True)
        copy = add_load_document(make_job(self.user), load_document(load))
        self.assertEqual((copy.wired, copy.cares), (True, "life"))
        # So do an explicit "none of these", and what older documents say.
        told = {**load_document(load), "name": "Other"}
        for said, kept in (("", ("none", True)), ("store", ("cold", True))):
            other = add_load_document(make_job(self.user), {**told, "cares": said})
            self.assertEqual((other.cares, other.wired), kept)
        del told["wired"]
        old = add_load_document(make_job(self.user), {**told, "cares": "hard-wired"})
        self.assertEqual((old.cares, old.wired), ("", True))

    def test_what_was_stored_as_hard_wired_is_still(self):
        load = make_load(self.job, "Cold room", 350.0, cares="wired")
        self.assertTrue(load.is_wired)
        self.assertEqual(load.safety_class, "store")
        form = self.client.get(self.url("loads:edit", load.pk)).context["form"]
        self.assertTrue(form["wired"].value())
        self.assertNotIn("wired", dict(form.fields["cares"].choices))
        self.edit(load, cares="", wired="on")
        self.assertEqual((load.cares, load.wired), ("", True))


class ShelfTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.there = make_job(self.user, "Van")
        self.load = make_load(self.there, "Box", set_c=4.0)
        add_reading(self.load, "start", {"amps": 5.9, "instrument": "clamp"})

    def take(self, *loads):
        return self.client.post(self.url("loads:shelf"), {"loads": [load.pk for load in loads]})

    def test_a_load_comes_with_its_readings_and_goes_with_one_undo(self):
        page = self.client.get(self.url("loads:shelf"))
        self.assertContains(page, "Van")
        self.job.mains = "120-60"
        self.job.save()
        self.take(self.load)
        copy = self.job.loads.get()
        self.assertEqual((copy.name, copy.set_c, copy.readings.count()), ("Box", 4.0, 2))
        # The volts of the mains that it was read on come along.
        self.assertEqual(copy.readings.get(type="start").data["volts"], 230.0)
        self.take(self.load)
        self.assertTrue(self.job.loads.filter(name="Box, Van").exists())
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(self.job.loads.live().count(), 1)

    def test_nobody_takes_anothers(self):
        theirs = make_load(make_job(self.other), "Secret")
        self.assertNotContains(self.client.get(self.url("loads:shelf")), "Secret")
        self.take(theirs)
        self.assertFalse(self.job.loads.exists())
        self.assertEqual(
            self.client.post(self.url("loads:shelf"), {"loads": ["x", "²"]}).status_code, 302
        )


class PutOffTest(SiteTest):
    def test_what_is_open_is_put_off_with_a_reason_and_taken_up_again(self):
        load = make_load(self.job, "Lamp")
        url = self.url("loads:put-off", load.pk)
        survey = self.client.get(self.url("loads:survey"))
        self.assertContains(survey, "Still open")
        self.client.post(url, {"put_off": "away until May"})
        survey = self.client.get(self.url("loads:survey"))
        self.assertContains(survey, "away until May")
        self.assertNotContains(survey, "Still open")
        make_supply(self.job)
        self.assertContains(self.client.get(self.url("sheets:sheet")), "put off: away until May")
        self.client.post(url, {"put_off": ""})
        self.assertContains(self.client.get(self.url("loads:survey")), "Still open")

    def test_a_reason_has_an_end(self):
        load = make_load(self.job, "Lamp")
        self.client.post(self.url("loads:put-off", load.pk), {"put_off": "x" * 121})
        load.refresh_from_db()
        self.assertEqual(load.put_off, "")
