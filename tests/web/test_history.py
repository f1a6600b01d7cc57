"""Every change can be taken back, in order, and the record of changes stays small."""

import json
import uuid

from django.test import override_settings

from tests.web.base import HTMX, SiteTest, make_load, make_supply
from web.bench.models import Capture
from web.jobs import actions
from web.jobs.models import Change, Job
from web.plans.outcomes import QUICK_LOADS


class UndoTest(SiteTest):
    def undo(self):
        change = actions.latest_change(self.job)
        return self.client.post(self.url("jobs:undo", change.pk), follow=True)

    def test_an_edited_supply_goes_back_to_what_it_was(self):
        supply = make_supply(self.job)
        form = {
            "name": "Other",
            "chemistry": "lead",
            "nominal_wh": "1 kWh",
            "waveform": "stepped",
            "version": supply.version,
        }
        self.client.post(self.url("supplies:edit", supply.pk), form)
        supply.refresh_from_db()
        self.assertEqual((supply.name, supply.continuous_w), ("Other", None))
        self.assertContains(self.undo(), "Undone: changed Other")
        supply.refresh_from_db()
        self.assertEqual((supply.name, supply.continuous_w, supply.version), ("Cabinet", 3000.0, 3))

    def test_an_added_load_goes(self):
        self.client.post(
            self.url("loads:add"), {"name": "Fan", "kind": "induction-motor", "priority": "nice"}
        )
        self.undo()
        self.assertFalse(self.job.loads.live().exists())

    def test_a_form_sent_again_after_an_undo_adds_again(self):
        form = {
            "name": "Fan",
            "kind": "induction-motor",
            "priority": "nice",
            "client_key": str(uuid.uuid4()),
        }
        self.client.post(self.url("loads:add"), form)
        self.undo()
        self.client.post(self.url("loads:add"), form)
        self.assertEqual(self.job.loads.live().get().name, "Fan")

    def test_a_removed_load_comes_back_with_its_readings(self):
        load = make_load(self.job)
        self.client.post(self.url("loads:remove", load.pk))
        self.assertEqual(self.client.get(self.url("loads:load", load.pk)).status_code, 404)
        self.undo()
        page = self.client.get(self.url("loads:load", load.pk))
        self.assertContains(page, "120")

    def test_a_change_from_before_a_migration_goes_back_as_far_as_its_fields_still_exist(self):
        load = make_load(self.job)
        load.name = "Other"
        actions.save_change(self.job, load, "Changed Other")
        change = actions.latest_change(self.job)
        (record,) = json.loads(change.before)
        record["fields"]["gone_since"] = 7
        Change.objects.filter(pk=change.pk).update(before=json.dumps([record]))
        self.assertContains(self.undo(), "Undone")
        load.refresh_from_db()
        self.assertNotEqual(load.name, "Other")

    def test_samples_of_a_capture_are_not_kept_with_each_name_of_a_level(self):
        capture = Capture.objects.create(load=make_load(self.job), packed=bytes(100_000))
        capture.names = ["idle", "heats"]
        actions.save_change(self.job, capture, "Named levels")
        self.assertLess(len(actions.latest_change(self.job).before), 200)
        capture.packed = b"other"
        actions.save_change(self.job, capture, "Read anew")
        self.undo()
        capture.refresh_from_db()
        self.assertEqual((len(capture.packed), capture.names), (100_000, ["idle", "heats"]))
        self.undo()
        capture.refresh_from_db()
        self.assertEqual((len(capture.packed), capture.names, capture.version), (100_000, [], 5))

    def test_several_changes_go_back_one_by_one(self):
        load = make_load(self.job, watts=None)
        for watts in ("10", "20", "30"):
            self.client.post(
                self.url("loads:add-reading", load.pk, "label"), {"watts": watts}, **HTMX
            )
        for left in (2, 1, 0):
            self.undo()
            self.assertEqual(load.readings.live().count(), left)

    def test_undo_takes_back_what_the_change_did_and_nothing_else(self):
        for name in ("First", "Second"):
            self.client.post(
                self.url("plans:add"),
                {
                    "name": name,
                    "needed_hours": "5",
                    "start": "2027-01-01T18:00",
                    "start_charge": "100",
                },
            )
        first, second = self.job.plans.all()
        form = {
            "name": "First!",
            "needed_hours": "5",
            "start": "2027-01-01T18:00",
            "start_charge": "100",
            "version": first.version,
        }
        self.client.post(self.url("plans:edit", first.pk), form)
        self.client.post(self.url("plans:make-current", second.pk))
        self.assertContains(self.undo(), "Undone: changed First!")
        self.assertEqual(self.job.plans.get(pk=first.pk).name, "First")
        self.assertEqual(self.job.plans.filter(is_current=True).get(), second)

    def test_what_is_not_there_any_more_is_left_alone(self):
        load = make_load(self.job)
        load.name = "Other"
        actions.save_change(self.job, load, "Changed it")
        load.delete()
        self.assertContains(self.undo(), "left as it is")

    def test_old_changes_are_forgotten(self):
        load = make_load(self.job)
        for number in range(actions.KEPT_CHANGES + 30):
            load.note = str(number)
            actions.save_change(self.job, load, f"Change {number}")
        self.assertLessEqual(self.job.changes.count(), actions.KEPT_CHANGES + 1)
        self.assertEqual(actions.latest_change(self.job).label, f"Change {number}")

    def test_nothing_to_undo(self):
        answer = self.client.post(self.url("jobs:undo", 999), follow=True)
        self.assertContains(answer, "left as it is")
        self.assertFalse(Change.objects.exists())


class JobTest(SiteTest):
    def test_a_first_job_leads_to_its_first_load(self):
        answer = self.client.post(
            "/jobs/", {"name": "Home", "mains": "120-60", "currency": "", "tariff": ""}
        )
        job = Job.objects.get(name="Home")
        self.assertEqual((job.currency, job.mains_v, job.mains_hz), ("¤", 120.0, 60.0))
        self.assertEqual(answer.url, f"/jobs/{job.pk}/loads/add/")

    def test_a_removed_job_is_not_what_its_form_makes_again(self):
        form = {"name": "Home", "mains": "230-50", "client_key": str(uuid.uuid4())}
        for _ in range(2):
            self.client.post("/jobs/", form)
        first = Job.objects.get(name="Home")
        self.client.post(f"/jobs/{first.pk}/remove/")
        self.client.post("/jobs/", form)
        self.assertEqual(Job.objects.filter(name="Home", removed_at=None).count(), 1)
        self.assertEqual(Job.objects.filter(name="Home").count(), 2)

    def test_bad_jobs_keep_what_was_typed(self):
        for changes, said in [
            ({"name": ""}, "required"),
            ({"mains": "9 V"}, "valid choice"),
            ({"tariff": "-3"}, "greater than or equal to 0"),
            ({"tariff": "nan"}, "is not a number"),
        ]:
            with self.subTest(said=said):
                data = {"name": "Home", "mains": "230-50", "tariff": "", **changes}
                answer = self.client.post("/jobs/", data)
                self.assertContains(answer, said, status_code=422)
        self.assertEqual(Job.objects.count(), 1)

    def test_details_can_be_changed_but_not_over_a_newer_version(self):
        form = {"name": "House", "mains": "230-50", "currency": "kr", "tariff": "2.5", "version": 1}
        self.client.post(self.url("jobs:edit"), form)
        self.job.refresh_from_db()
        self.assertEqual((self.job.name, self.job.tariff, self.job.version), ("House", 2.5, 2))
        stale = self.client.post(self.url("jobs:edit"), {**form, "name": "Hut"})
        self.assertContains(stale, "changed in another window", status_code=422)

    def test_the_mains_voltage_replaces_unread_volts(self):
        load = make_load(self.job, watts=None, kind="induction-motor")
        self.client.post(
            self.url("loads:add-reading", load.pk, "spot"),
            {"state": "running", "amps": "2 A", "instrument": "clamp"},
            **HTMX,
        )
        self.assertAlmostEqual(load.profile().running_w.value, 460 * 0.75, places=6)

    def test_the_list_fetches_each_answer(self):
        make_load(self.job)
        make_supply(self.job)
        page = self.client.get("/jobs/")
        self.assertContains(page, self.url("answer:line"))
        self.assertContains(self.client.get(self.url("answer:line")), "Lasts")


class LargeJobTest(SiteTest):
    def setUp(self):
        super().setUp()
        make_supply(self.job, nominal_wh=90_000.0, continuous_w=60_000.0, surge_va=90_000.0)
        for number in range(QUICK_LOADS + 2):
            make_load(self.job, f"Load {number}")

    def test_the_page_comes_first_and_fetches_the_bar(self):
        page = self.client.get(self.url("loads:survey"))
        self.assertContains(page, "Calculating")
        self.assertContains(page, f'hx-get="{self.url("answer:bar")}"')
        bar = self.client.get(self.url("answer:bar"))
        self.assertContains(bar, "Lasts")
        self.assertNotContains(bar, "hx-trigger")
        self.assertContains(self.client.get(self.url("loads:survey")), "Lasts")


@override_settings(DEBUG=False)
class FaultTest(SiteTest):
    def test_unknown_addresses_are_a_plain_page(self):
        answer = self.client.get("/nowhere/")
        self.assertContains(answer, "Nothing of yours is here", status_code=404)

    def test_a_number_too_large_for_the_database_is_a_404(self):
        self.assertEqual(self.client.get(f"/jobs/{10**30}/survey/").status_code, 404)
        self.assertEqual(self.client.get(self.url("loads:load", 10**30)).status_code, 404)
        self.assertEqual(
            self.client.post(self.url("jobs:undo", 10**30), follow=True).status_code, 200
        )
