"""Plain numbers as people write them: with a decimal comma, or their unit behind them."""

from django import forms

from tests.web.base import SiteTest, make_load
from web.common.fields import NumberField
from web.common.forms import FoldedMixin
from web.jobs.forms import JobForm
from web.loads.forms import LoadForm
from web.loads.models import Load
from web.loads.reading_forms import FORMS
from web.plans.forms import WhatIfForm
from web.supplies.forms import SupplyForm


class NumbersTest(SiteTest):
    def test_a_comma_keeps_its_place(self):
        prices = {"name": "Job", "mains": "230-50", "tariff": "0,32", "zone": ""}
        job = JobForm(prices | {"version": self.job.version}, instance=self.job)
        self.assertTrue(job.is_valid(), job.errors)
        self.assertEqual(job.cleaned_data["tariff"], 0.32)
        box = {"appliance": "fridge", "priority": "must", "runs_by": "", "legs": ""}
        for typed, litres in (("142,5", 142.5), ("18 cu ft", 509.703), ("60 l", 60.0)):
            load = LoadForm(box | {"litres": typed}, instance=Load(job=self.job))
            self.assertTrue(load.is_valid(), load.errors)
            self.assertAlmostEqual(load.cleaned_data["litres"], litres, places=3)
        supply = SupplyForm({"name": "Box", "peukert_n": "1,15", "series": "2,5"})
        supply.is_valid()
        self.assertEqual(supply.cleaned_data["peukert_n"], 1.15)
        self.assertIn("whole number", str(supply.errors["series"]))

    def test_a_run_of_every_other_day(self):
        url = self.url("loads:add-reading", make_load(self.job).pk, "short-run")
        run = {"watts": "1800", "seconds": "90", "times_per_day": "0,5", "instrument": "plug"}
        self.client.post(url, run)
        reading = self.job.loads.get().readings.get(type="short-run")
        self.assertEqual(reading.data["times_per_day"], 0.5)

    def test_charge_is_in_percent_with_its_sign_or_without(self):
        field = NumberField(unit="%", min_value=0, max_value=100)
        for typed in ("61,5", "61.5 %", "61,5%"):
            self.assertEqual(field.clean(typed), 61.5)
        for typed, said in (
            ("161 %", "less than or equal"),
            ("61 W", "wants a share"),
            ("few", "not a quantity"),
        ):
            with self.subTest(typed=typed), self.assertRaisesMessage(forms.ValidationError, said):
                field.clean(typed)
        self.assertEqual(field.prepare_value(61.0), "61")

    def test_no_form_leaves_a_number_to_the_browser(self):
        """Its own field turns 0,32 into 032 where its language has a decimal point."""
        self.assertIn("short-run", FORMS)
        waiting, left = [forms.Form, forms.ModelForm, FoldedMixin], []
        while waiting:
            form = waiting.pop()
            waiting += form.__subclasses__()
            fields = getattr(form, "base_fields", {}).values()
            browsers = any(isinstance(field.widget, forms.NumberInput) for field in fields)
            if form.__module__.startswith("web.") and form is not WhatIfForm and browsers:
                left.append(form.__name__)
        self.assertEqual(left, [])
