"""The whole house: its interval file read, set beside the loads, and carried along."""

from __future__ import annotations

import io
from datetime import UTC, datetime

from tests.core.test_whole_house import feed, half_hours, kind
from tests.web.base import SiteTest, make_load
from web.house.models import HouseRecord
from web.jobs.models import Job, Member, Role
from web.sheets.exchange import add_package, export_job, understood


def interval_file(days=4, watts=120, first=datetime(2026, 3, 2, tzinfo=UTC)):
    rows = half_hours(days, lambda half: watts + (1000 if 36 <= half < 40 else 0), first)
    file = io.BytesIO(feed((kind(), rows)))
    file.name = "house.xml"
    return file


class HouseTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.url_of_house = self.url("house:index")

    def read(self, file=None):
        return self.client.post(self.url_of_house, {"file": file or interval_file()})

    def test_it_is_read_shown_and_set_beside_the_loads(self):
        make_load(self.job, "Fridge", 100.0)
        self.assertRedirects(self.read(), self.url_of_house)
        page = self.client.get(self.url_of_house)
        (shown,) = page.context["pages"]
        self.assertEqual(shown.house.days, 4)
        self.assertAlmostEqual(shown.house.wh_per_day[1], 4880)
        self.assertAlmostEqual(shown.house.base_w[1], 120)
        fridge = self.job.loads.get().profile().wh_per_day
        self.assertAlmostEqual(shown.comparison.loads_wh[1], fridge.value)
        self.assertContains(page, "a day is not noted yet")
        self.assertContains(self.client.get(self.url("loads:survey")), "4.88")

    def test_without_loads_nothing_is_compared(self):
        self.read()
        self.assertContains(self.client.get(self.url_of_house), "No load with a known day")
        self.assertContains(self.client.get(self.url("loads:survey")), "No load with a known day")

    def test_the_jobs_clock_counts(self):
        Job.objects.filter(pk=self.job.pk).update(zone="Asia/Tokyo")
        self.read()
        watts = HouseRecord.objects.get().to_core().half_hours_w
        # 18:00 to 20:00 UTC are 3:00 to 5:00 there.
        self.assertGreater(watts[6], 1000)
        self.assertLess(watts[36], 200)

    def test_what_cannot_be_read_is_a_sentence_and_stores_nothing(self):
        for content in (b"no xml", b"<a/>", feed((kind(direction=19), half_hours(2, lambda _: 9)))):
            file = io.BytesIO(content)
            file.name = "x.xml"
            with self.subTest(content=content[:20]):
                self.assertEqual(self.read(file).status_code, 422)
        self.assertEqual(self.client.post(self.url_of_house).status_code, 422)
        self.assertFalse(HouseRecord.objects.exists())

    def test_it_is_removed_and_brought_back(self):
        self.read()
        record = HouseRecord.objects.get()
        self.client.post(self.url("house:remove", record.pk))
        self.assertEqual(self.client.get(self.url_of_house).context["pages"], [])
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertEqual(len(self.client.get(self.url_of_house).context["pages"]), 1)

    def test_it_comes_along_in_a_package_unless_it_is_none(self):
        self.read()
        package = understood(export_job(self.job))
        copy = add_package(package, self.user)
        before, after = (job.house_records.get().to_core() for job in (self.job, copy))
        self.assertEqual(before, after)
        for broken in ({}, {**before_data(self.job), "wh_per_day": {"value": -1}}):
            package.tables["house-records"].rows[0]["data"] = broken
            with self.subTest(broken=broken), self.assertRaises(ValueError):
                add_package(package, self.user)

    def test_a_viewer_sees_it_and_reads_no_file(self):
        self.read()
        Member.objects.create(job=self.job, user=self.other, role=int(Role.VIEWER))
        self.client.force_login(self.other)
        page = self.client.get(self.url_of_house)
        self.assertNotContains(page, 'type="file"')
        self.assertEqual(self.read().status_code, 403)


def before_data(job):
    return job.house_records.get().data
