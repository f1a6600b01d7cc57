"""What finished trials give to the panels, and to a comparison by the use."""

from __future__ import annotations

import uuid
from datetime import timedelta

from django.utils import timezone

from needle.trial.sun_days import SunDay
from tests.web.base import SiteTest, make_job, make_load, make_supply
from web.jobs.actions import undo
from web.plans.models import Plan, PlanEntry, PlanSource
from web.trials.actions import check_in, end_trial, start_trial
from web.trials.compare import compare
from web.trials.models import CheckIn, Trial
from web.trials.taught import sun_of


class CarryTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.job = make_job(self.user)
        self.supply = make_supply(self.job, name="Cabinet", nominal_wh=6000.0, volts=51.2)
        self.plan = Plan.objects.create(
            job=self.job, name="Night", supply=self.supply, is_current=True
        )

    def trial(self, *counts, hours=30.0, why="by hand", **check):
        """A trial from two evenings ago with (h, Wh in) on the way."""
        evening = timezone.localtime() - timedelta(days=3)
        begin = evening.replace(hour=21, minute=0, second=0, microsecond=0)
        trial = start_trial(
            Trial(
                job=self.job,
                name=f"Run {uuid.uuid4().hex[:4]}",
                plan=self.plan,
                supply=self.supply,
                started_at=begin,
                stop_at=0.1,
            )
        )
        for hour, wh_in in counts:
            at = begin + timedelta(hours=hour)
            check_in(CheckIn(trial=trial, at=at, data={"wh_in": wh_in, **check}))
        end_trial(trial, begin + timedelta(hours=hours), why)
        return Trial.objects.get(pk=trial.pk)

    def panels(self):
        make_load(self.job, "Box", 80.0, kind="compressor-fixed")
        data = {"rated_w": 400.0, "tilt": 30.0, "azimuth": 180.0, "latitude": 51.0}
        return PlanSource.objects.create(plan=self.plan, kind="sun", name="Roof", data=data)

    def test_a_whole_day_of_sun_goes_to_the_panels_once_and_is_undone(self):
        source = self.panels()
        trial = self.trial((26.0, 900.0))
        day = (trial.started_at + timedelta(days=1)).date()
        self.assertEqual(list(sun_of(trial).days), [SunDay(day, 900.0)])
        page = self.client.get(self.url("trials:taught", trial.pk))
        self.assertContains(page, "as whole days of sun that were measured")
        for _ in range(2):
            self.client.post(self.url("trials:carry", trial.pk))
        source.refresh_from_db()
        self.assertEqual(source.data["measured"], [{"on": day.isoformat(), "wh": 900.0}])
        self.assertTrue(sun_of(trial).done)
        undo(self.job, self.job.changes.first().pk)
        source.refresh_from_db()
        self.assertNotIn("measured", source.data)

    def test_a_day_that_somebody_measured_stays(self):
        source = self.panels()
        trial = self.trial((26.0, 900.0))
        day = (trial.started_at + timedelta(days=1)).date().isoformat()
        source.data = {**source.data, "measured": [{"on": day, "wh": 850.0}]}
        source.save()
        self.client.post(self.url("trials:carry", trial.pk))
        source.refresh_from_db()
        self.assertEqual(source.data["measured"], [{"on": day, "wh": 850.0}])

    def test_a_run_by_night_was_not_charged_by_its_panels(self):
        self.panels()
        by_night, by_day = self.trial(hours=6.0, why="floor"), self.trial(hours=16.0, why="floor")
        self.assertEqual(by_night.why_not_a_run(), "")
        self.assertIn("it was charged meanwhile", by_day.why_not_a_run())

    def test_other_panels_that_could_not_have_given_it_are_left_alone(self):
        source = self.panels()
        trial = self.trial((26.0, 900.0))
        source.data = {**source.data, "rated_w": 20.0}
        source.save()
        self.assertIsNone(sun_of(trial))

    def test_half_a_day_is_no_evidence_on_the_panels(self):
        self.panels()
        self.assertIsNone(sun_of(self.trial((15.0, 400.0))))

    def test_side_by_side_by_the_use(self):
        """Three uses of a kettle in ten hours, six in a day and ten hours."""
        kettle = make_load(self.job, "Kettle", 2000.0, kind="resistive-heat")
        PlanEntry.objects.create(
            plan=self.plan,
            load=kettle,
            moments=["22:00", "23:00", "01:00"],
            steps=[{"watts": 2000.0, "minutes": 5.0, "duty": 1.0}],
        )
        first, second = self.trial(hours=10.0), self.trial(hours=34.0)
        page = self.client.get(self.url("trials:compare") + f"?item={first.pk}&item={second.pk}")
        self.assertContains(page, "A use")
        compared = compare([first, second])
        cells = next(row for row in compared.rows if row.name == "a use").cells
        for cell, view, uses in zip(cells, compared.views, (3, 6), strict=True):
            used_wh = view.prediction.used_wh
            self.assertAlmostEqual(cell.value.value, used_wh / uses, delta=0.01 * used_wh / uses)
