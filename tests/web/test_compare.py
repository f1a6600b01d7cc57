"""Side by side, and what things cost, on the site."""

from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.loads.actions import add_reading


class CompareTest(SiteTest):
    def setUp(self):
        super().setUp()
        make_supply(self.job)
        self.old = make_load(self.job, "Old box", None, kind="compressor-fixed", set_c=4.0)
        self.new = make_load(self.job, "New box", None, kind="compressor-fixed", set_c=4.0)
        for load, wh, room in ((self.old, 1400.0, 24.0), (self.new, 500.0, 30.0)):
            add_reading(load, "energy", {"wh": wh, "hours": 25.0, "room_c": room})

    def page(self, *items, on=""):
        query = "&".join(f"item={item}" for item in items)
        return self.client.get(f"{self.url('matching:compare')}?{query}&on={on}")

    def test_two_loads(self):
        page = self.page(self.old.pk, self.new.pk)
        self.assertContains(page, "New box takes 64 % less than Old box, a day")
        self.assertContains(page, "The room in which they were measured")
        self.assertContains(page, "Alone on the supply")
        self.assertContains(page, 'aria-label="A day, Wh.')

    def test_another_reference(self):
        url = self.url("matching:compare")
        query = f"?item={self.old.pk}&item={self.new.pk}&ref={self.new.pk}"
        self.assertContains(self.client.get(url + query), "Old box takes 180 % more than New box")

    def test_no_real_difference(self):
        twin = make_load(self.job, "Twin box", None, kind="compressor-fixed")
        add_reading(twin, "energy", {"wh": 1380.0, "hours": 25.0, "room_c": 24.0})
        self.assertContains(self.page(self.old.pk, twin.pk), "No real difference a day")

    def test_a_load_brings_its_settings(self):
        mat = make_load(self.job, "Mat", None, kind="thermostat-heat")
        for setting, watts in (("low", 30.0), ("high", 90.0)):
            add_reading(mat, "spot", {"state": "running", "watts": watts, "setting": setting})
        page = self.page(mat.pk)
        self.assertContains(page, "Mat, low")
        self.assertContains(page, "Mat, high")

    def test_nothing_picked_or_foreign(self):
        self.assertContains(self.page(), "Tick two loads")
        theirs = make_load(make_job(self.other, "Theirs"), "Secret")
        self.assertContains(self.page(theirs.pk, "nonsense"), "Tick two loads")

    def test_costs_on_the_load_page(self):
        self.job.tariff, self.job.currency = 0.4, "€"
        self.job.save()
        add_reading(self.new, "label", {"kwh_per_year": 150.0})
        page = self.client.get(self.url("loads:load", self.new.pk))
        for words in ("per month", "energy label", "€"):
            self.assertContains(page, words)

    def test_prices_by_hours(self):
        values = {
            "name": "Clinic",
            "mains": "230-50",
            "currency": "¤",
            "tariff": "0.3",
            "other_prices": "23:00–07:00 0.18",
            "version": self.job.version,
        }
        self.client.post(self.url("jobs:edit"), values)
        self.job.refresh_from_db()
        self.assertAlmostEqual(self.job.price, (16 * 0.3 + 8 * 0.18) / 24)
        wrong = self.client.post(
            self.url("jobs:edit"), {**values, "other_prices": "nights", "version": 2}
        )
        self.assertContains(wrong, "is not such as", status_code=422)
        self.assertContains(wrong, 'value="nights"', status_code=422)
