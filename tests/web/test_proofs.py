"""Tests of a supply become its evidence: kept, dated, replaced, undone; its outputs and inputs."""

import re

from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.supplies.models import RESULTS, Input, Output, StartTest, SupplyTest
from web.supplies.supply_test_forms import FORMS

PAIRS = {
    "ac_0": "0",
    "dc_0": "28 W",
    "ac_1": "150",
    "dc_1": "191",
    "ac_2": "1,05 kW",
    "dc_2": "1170",
    "ac_limit": "1 %",
    "dc_limit": "1 %",
}
IDLE = {"output": "ac", "start": "100 %", "end": "88 %", "hours": "20 h", "step": "1 %"}


class ProofTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.supply = make_supply(self.job, nominal_wh=5120.0)

    def post(self, kind, **data):
        return self.client.post(self.url("supplies:test", self.supply.pk, kind), data)

    def core(self):
        return self.job.supplies.get(pk=self.supply.pk).to_core()

    def test_results_match_the_core(self):
        from needle.decide.starting import TESTED

        self.assertEqual(set(RESULTS), set(TESTED))

    def test_an_efficiency_test_is_fitted_and_drawn(self):
        page = self.url("supplies:supply", self.supply.pk)
        self.assertRedirects(self.post("efficiency", **PAIRS), page)
        fitted = self.core().inverter
        self.assertAlmostEqual(fitted.idle_w.value, 28, delta=0.5)
        self.assertAlmostEqual(fitted.efficiency.value, 0.923, delta=0.01)
        shown = self.client.get(page)
        self.assertContains(shown, "fitted to 3 pairs")
        self.assertContains(shown, 'class="curve"')

    def test_the_newest_idle_test_counts_and_removing_it_brings_the_older_back(self):
        self.post("idle", **IDLE, tested_at="2026-03-01T10:00")
        self.post("idle", output="ac", watts="31 W", tested_at="2026-05-01T10:00")
        self.assertEqual(self.core().inverter.idle_w.value, 31)
        page = self.client.get(self.url("supplies:supply", self.supply.pk))
        self.assertContains(page, "replaced by a newer one")
        self.assertContains(page, "1 May 2026")
        newest = SupplyTest.objects.get(data__watts=31)
        self.client.post(self.url("supplies:remove-test", self.supply.pk, newest.pk))
        self.assertAlmostEqual(self.core().inverter.idle_w.value, 0.12 * 5120 * 0.93 / 20)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(self.core().inverter.idle_w.value, 31)

    def test_a_drain_log_moves_the_capacity(self):
        self.post(
            "capacity",
            counted="battery",
            start="100 %",
            end="",
            step="1 %",
            log="0, 100, 0\n10; 52; 2100\n18\t12\t3800",
        )
        self.assertAlmostEqual(self.core().battery.state_of_health.value, 3800 / (5120 * 0.88))
        page = self.client.get(self.url("supplies:supply", self.supply.pk))
        self.assertContains(page, "The last discharge")

    def test_two_routes_are_accounted_for(self):
        make_load(self.job, "Router", kind="electronics")
        self.assertRedirects(
            self.client.get(self.url("supplies:test", self.supply.pk, "route")),
            self.url("supplies:supply", self.supply.pk),
        )
        Output.objects.create(supply=self.supply, name="dc12", idle_w=1.0, efficiency=0.9)
        self.post(
            "route",
            load="Router",
            output="dc12",
            hours="24 h",
            step="1 %",
            ac_start="100 %",
            ac_end="78 %",
            ac_wh="336",
            dc_start="100 %",
            dc_end="92 %",
            dc_wh="320",
        )
        page = self.client.get(self.url("supplies:supply", self.supply.pk))
        self.assertContains(page, "two routes over")
        self.assertContains(page, "less by the output than by AC")

    def test_everything_together_is_what_a_plan_rests_on(self):
        make_load(self.job, "Box", 120.0)
        page = self.post("together", loads=["Box"], hours="24 h", watts="3 A @ 13.1 V")
        self.assertEqual(page.status_code, 302)
        shown = self.client.get(self.url("supplies:supply", self.supply.pk))
        self.assertContains(shown, "39.3\u00a0W at the battery over 24 h, with Box")
        plan = self.client.get(self.url("plans:current"))
        self.assertContains(plan, "counted at the battery over 24\u00a0h")
        both = self.post("together", loads=["Box"], hours="24 h", watts="40", wh="900")
        self.assertContains(both, "one of the two", status_code=422)

    def test_bad_tests_are_refused_beside_the_field_and_kept_as_typed(self):
        for kind, data, said in [
            ("idle", {**IDLE, "end": "100 %"}, "is not below"),
            ("idle", {**IDLE, "hours": ""}, "Is needed"),
            ("idle", {**IDLE, "end": "4 kW"}, "rate"),
            ("efficiency", {**PAIRS, "dc_1": ""}, "pair is missing"),
            ("efficiency", {"note": "none"}, "at least one pair"),
            ("efficiency", {**PAIRS, "dc_1": "100"}, "swapped"),
            (
                "capacity",
                {"counted": "battery", "end": "10 %", "wh": "46 kWh", "hours": "9"},
                "of its label",
            ),
            ("capacity", {"counted": "battery", "log": "0, 100, 0\nlate"}, "Row 2"),
            ("capacity", {"counted": "battery", "log": "0,100,0\n5,50,9\n4,40,9"}, "must rise"),
        ]:
            with self.subTest(said=said):
                page = self.post(kind, **data)
                self.assertContains(page, said, status_code=422)
                typed = next(value for key, value in data.items() if len(value) > 3)
                self.assertContains(page, typed.split("\n")[0], status_code=422)
        self.assertFalse(SupplyTest.objects.exists())

    def test_the_simulated_supply_fills_each_form_in(self):
        make_load(self.job, "Router", kind="electronics")
        Output.objects.create(supply=self.supply, name="dc12")
        for kind in (kind for kind, form in FORMS.items() if form.simulated):
            with self.subTest(kind=kind):
                url = self.url("supplies:test", self.supply.pk, kind)
                page = self.client.get(url, {"simulated": "1"}).content.decode()
                values = dict(re.findall(r'name="(\w+)"\s+value="([^"]*)"', page))
                text = re.search(r"<textarea[^>]*>(.*?)</textarea>", page, re.S)
                chosen = dict(
                    re.findall(r'<select name="(\w+)".*?value="([^"]+)" selected', page, re.S)
                )
                data = {**values, **chosen, "counted": "battery"}
                if text:
                    data["log"] = text[1].strip()
                data.setdefault("output", "dc12" if kind == "route" else "ac")
                data.setdefault("load", "Router")
                self.assertRedirects(
                    self.client.post(url, data), self.url("supplies:supply", self.supply.pk)
                )
        self.assertEqual(SupplyTest.objects.count(), sum(form.simulated for form in FORMS.values()))

    def test_a_form_sent_twice_makes_one_test(self):
        page = self.client.get(self.url("supplies:test", self.supply.pk, "idle")).content.decode()
        key = re.search(r'name="client_key" value="([^"]+)"', page)[1]
        for _ in range(2):
            self.post("idle", **IDLE, client_key=key)
        self.assertEqual(SupplyTest.objects.count(), 1)

    def test_tests_of_what_is_gone_no_longer_count(self):
        self.post("efficiency", **PAIRS)
        output = Output.objects.create(supply=self.supply, name="dc12")
        self.post("idle", output="dc12", watts="2 W")
        self.assertEqual(len(self.core().tests), 2)
        self.client.post(self.url("supplies:remove-part", self.supply.pk, "output", output.pk))
        self.assertEqual(len(self.core().tests), 1)


class PartsTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.supply = make_supply(self.job, nominal_wh=5120.0)

    def test_an_output_is_added_changed_and_removed(self):
        add = self.url("supplies:add-part", self.supply.pk, "output")
        self.client.post(
            add, {"name": "dc12", "volts": "12 V", "max_a": "10 A", "efficiency": "91 %"}
        )
        output = Output.objects.get()
        self.assertAlmostEqual(output.efficiency, 0.91)
        edit = self.url("supplies:edit-part", self.supply.pk, "output", output.pk)
        self.assertContains(self.client.get(edit), 'value="91 %"')
        data = {"name": "dc12", "max_w": "120 W", "version": output.version}
        self.client.post(edit, data)
        output.refresh_from_db()
        self.assertEqual((output.max_w, output.max_a), (120, None))
        self.assertContains(self.client.post(edit, data), "another window", status_code=422)

    def test_refusals(self):
        Output.objects.create(supply=self.supply, name="dc12")
        for side, data, said in [
            ("output", {"name": "ac"}, "is the inverter"),
            ("output", {"name": "dc12"}, "already has"),
            ("output", {"name": "usb", "max_a": "3 A"}, "Is needed beside the highest amps"),
            ("input", {"name": "sun", "max_w": "0 W"}, "too small"),
            ("input", {"name": "sun", "volts": "12 A"}, "volts"),
        ]:
            with self.subTest(said=said):
                url = self.url("supplies:add-part", self.supply.pk, side)
                self.assertContains(self.client.post(url, data), said, status_code=422)
        self.assertFalse(Input.objects.exists())

    def test_banks_add_up(self):
        form = {
            "name": "Bank",
            "chemistry": "lead",
            "nominal_wh": "110 Ah @ 12 V",
            "volts": "12",
            "series": "2",
            "parallel": "2",
            "waveform": "sine",
            "build": "bank",
        }
        self.client.post(self.url("supplies:add"), form)
        battery = self.job.supplies.get(name="Bank").to_core().battery
        self.assertAlmostEqual(battery.nominal_wh, 5280)
        self.assertEqual(battery.volts, 24)

    def test_a_bank_is_counted_once(self):
        form = {
            "name": "Bank",
            "chemistry": "lead",
            "nominal_wh": "4 x 90 Ah @ 12 V",
            "parallel": "4",
            "waveform": "sine",
            "build": "bank",
        }
        refused = self.client.post(self.url("supplies:add"), form)
        self.assertContains(refused, "would make them 16", status_code=422)
        self.assertContains(refused, "4 x 90 Ah @ 12 V", status_code=422)
        self.assertEqual(
            self.client.post(self.url("supplies:add"), {**form, "parallel": "1"}).status_code, 302
        )

    def test_its_effect_is_shown_before_it_is_saved(self):
        url = self.url("supplies:comes-to")
        for form, said in (
            (
                {"nominal_wh": "90 Ah @ 12 V", "volts": "12", "series": "2", "parallel": "2"},
                "4 batteries of 1.08\u00a0kWh each come to 4.32\u00a0kWh at 24\u00a0V.",
            ),
            ({"nominal_wh": "5,12 kWh"}, "Comes to 5.12\u00a0kWh."),
            ({"nominal_wh": "5 kW"}, ""),
            ({}, ""),
        ):
            with self.subTest(form=form):
                self.assertEqual(self.client.post(url, form).content.decode(), said)

    def test_another_s_supply_is_not_found(self):
        theirs = make_supply(make_job(self.other))
        foreign = Output.objects.create(supply=theirs, name="dc12")
        test = SupplyTest.objects.create(supply=theirs, type="idle", data={"watts": 5})
        for url in (
            self.url("supplies:supply", theirs.pk),
            self.url("supplies:test", theirs.pk, "idle"),
            self.url("supplies:test", self.supply.pk, "muesli"),
            self.url("supplies:add-part", self.supply.pk, "door"),
            self.url("supplies:edit-part", self.supply.pk, "output", foreign.pk),
        ):
            with self.subTest(url=url):
                self.assertEqual(self.client.get(url).status_code, 404)
        gone = self.url("supplies:remove-test", self.supply.pk, test.pk)
        self.assertEqual(self.client.post(gone).status_code, 404)
        self.assertFalse(StartTest.objects.exists())
