"""Each job goes by its own clock."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from django.utils import timezone

from tests.web.base import SiteTest, make_load, make_supply
from web.jobs.models import Job
from web.plans.draft import document, draft_of
from web.plans.models import Plan, PlanSource
from web.trials.models import Trial

DENVER = "America/Denver"


class ZoneTest(SiteTest):
    def test_a_new_job_takes_the_browsers(self):
        for sent, kept in ((DENVER, DENVER), ("Moon/Crater", ""), ("", "")):
            self.client.post("/jobs/", {"name": f"J {sent}", "mains": "230-50", "zone": sent})
            self.assertEqual(Job.objects.get(name=f"J {sent}".strip()).zone, kept)

    def test_it_can_be_changed_and_nonsense_is_refused(self):
        data = {"name": "Job", "mains": "230-50", "version": self.job.version}
        answered = self.client.post(self.url("jobs:edit"), {**data, "zone": "Europe/Londn"})
        self.assertContains(answered, "did you mean Europe/London", status_code=422)
        self.client.post(self.url("jobs:edit"), {**data, "zone": "Europe/London"})
        self.assertEqual(Job.objects.get(pk=self.job.pk).zone, "Europe/London")

    def test_times_are_entered_and_shown_in_it(self):
        self.job.zone = DENVER
        self.job.save()
        supply = make_supply(self.job, name="Case")
        local = timezone.localtime(timezone=self.job.clock) - timedelta(hours=2)
        self.client.post(
            self.url("trials:start"),
            {
                "name": "Run",
                "supply": supply.pk,
                "started_at": f"{local:%Y-%m-%dT%H:%M}",
                "start_charge": "100",
                "stop_at": "0",
            },
        )
        trial = Trial.objects.get()
        self.assertLess(abs(timezone.now() - timedelta(hours=2) - trial.started_at).seconds, 61)
        page = self.client.get(self.url("trials:trial", trial.pk))
        self.assertContains(page, f"{local:%H:%M}")
        self.assertContains(page, '<span class="zone">America/Denver</span>')

    def test_a_new_plan_begins_in_its_evening_and_windows_are_its_own(self):
        self.job.zone = DENVER
        self.job.save()
        make_supply(self.job, name="Case")
        make_load(self.job, "Lamp", 40.0, kind="led")
        with timezone.override(self.job.clock):
            plan = Plan(job=self.job, name="Night")
        self.assertEqual(timezone.localtime(plan.start, self.job.clock).hour, 18)
        self.assertContains(self.client.get(self.url("plans:current")), "18:00")


class SunAndClockTest(SiteTest):
    def answer_of_panels_at(self, longitude, zone):
        self.job.zone = zone
        self.job.save()
        make_supply(self.job, name="Case")
        make_load(self.job, "Lamp", 40.0, kind="led")
        plan = Plan.objects.create(
            job=self.job, name="Day", start=datetime(2027, 6, 1, 12, tzinfo=UTC), is_current=True
        )
        PlanSource.objects.create(
            plan=plan,
            kind="sun",
            name="Panels",
            data={"rated_w": 300, "latitude": 40, "longitude": longitude},
        )
        return self.client.get(self.url("plans:current"))

    def test_a_place_far_from_the_clock_is_asked_about(self):
        page = self.answer_of_panels_at(-105, "")
        self.assertContains(page, "check the time zone")

    def test_a_place_under_its_clock_is_not(self):
        page = self.answer_of_panels_at(-105, DENVER)
        self.assertNotContains(page, "check the time zone")
        with timezone.override(self.job.clock):
            start = document(draft_of(Plan.objects.get()))["start"]
        self.assertTrue(start.endswith("-06:00"))
