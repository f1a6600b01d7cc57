"""Jobs out and in: equal after a round trip, and nothing left of what is refused."""

from __future__ import annotations

import csv
import io
import json
import sqlite3
import tempfile
import unittest
import zipfile
from contextlib import closing
from datetime import timedelta
from io import StringIO
from pathlib import Path
from unittest import mock

import numpy as np
from django.contrib.auth import get_user_model
from django.core.management import CommandError, call_command
from django.db import connection
from django.db.migrations.recorder import MigrationRecorder
from django.test import TestCase, TransactionTestCase
from django.utils import timezone

from needle.package import check, read
from tests.demo_data import load_demo
from tests.web.base import SiteTest, import_job, make_job, make_load, make_supply
from web.common.apps import BEFORE_FIRST_RELEASE
from web.common.management.commands import restore
from web.jobs.models import Job
from web.loads.actions import remove_load
from web.loads.models import Load
from web.meters.models import Meter
from web.plans.draft import draft_of
from web.plans.models import PlanEntry
from web.plans.outcomes import answer_of, current_plan
from web.sheets.exchange import export_job, package_of, preview
from web.trials.actions import enter_run
from web.trials.models import Trial


def changed(content: bytes, path: str, change) -> bytes:
    """A package with one of its files rewritten."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(out, "w") as new:
        for name in old.namelist():
            text = old.read(name).decode()
            new.writestr(name, change(text) if name == path else text)
    return out.getvalue()


def with_cell(text: str, column: str, cell: str) -> str:
    """A table whose first row has another cell in a column."""
    head, first, *rest = csv.reader(io.StringIO(text, newline=""))
    first[head.index(column)] = cell
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerows([head, first, *rest])
    return out.getvalue()


def without_column(text: str, column: str) -> str:
    rows = list(csv.reader(io.StringIO(text, newline="")))
    place = rows[0].index(column)
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerows([r[:place] + r[place + 1 :] for r in rows])
    return out.getvalue()


def without_field(text: str, name: str) -> str:
    document = json.loads(text)
    for resource in document["resources"]:
        if resource["name"] == "job":
            fields = resource["schema"]["fields"]
            resource["schema"]["fields"] = [field for field in fields if field["name"] != name]
    return json.dumps(document)


class RoundTripTest(TestCase):
    @classmethod
    def setUpTestData(cls):
        load_demo()
        cls.jobs = list(Job.objects.order_by("pk"))
        cls.owner = cls.jobs[0].owner

    def test_the_demo_jobs_come_back_equal(self):
        for job in self.jobs:
            with self.subTest(job=job.name):
                before = package_of(job)
                again = package_of(import_job(export_job(job), self.owner))
                self.assertEqual(list(again.tables), list(before.tables))
                for name, table in before.tables.items():
                    self.assertEqual(again.tables[name].rows, table.rows, name)
                    for column, values in table.columns.items():
                        np.testing.assert_array_equal(again.tables[name].columns[column], values)

    def test_the_answer_is_the_same(self):
        job = self.jobs[0]
        copy = import_job(export_job(job), self.owner)
        before, after = (answer_of(current_plan(stored)).outcome for stored in (job, copy))
        self.assertEqual(before.runtime, after.runtime)

    def test_it_is_a_valid_package_by_the_standards_own_library(self):
        from frictionless import Package, system

        with tempfile.TemporaryDirectory() as folder:
            with zipfile.ZipFile(io.BytesIO(export_job(self.jobs[1]))) as packed:
                packed.extractall(folder)
            with system.use_context(trusted=True):
                report = Package(str(Path(folder) / "datapackage.json")).validate()
        self.assertTrue(report.valid, report.flatten(["title", "message"])[:3])

    def test_the_contract(self):
        checked = check(export_job(self.jobs[0]))
        self.assertTrue(checked["valid"], checked["errors"])
        names = {resource["name"] for resource in checked["resources"]}
        for name in ("loads", "readings", "supplies", "plans", "trials", "check-ins", "capture-1"):
            self.assertIn(name, names)

    def test_what_is_removed_stays_here(self):
        load = self.jobs[0].loads.get(name="Label printer")
        load.removed_at = load.created_at
        load.save()
        names = [row["name"] for row in package_of(self.jobs[0]).tables["loads"].rows]
        self.assertNotIn("Label printer", names)
        import_job(export_job(self.jobs[0]), self.owner)


class RunsOfLoadsTest(SiteTest):
    def test_the_loads_of_a_run_are_still_the_right_ones_where_one_was_removed_before(self):
        supply = make_supply(self.job)
        gone, box = make_load(self.job, "Gone", 20.0), make_load(self.job, "Box", 80.0)
        started_at = timezone.now() - timedelta(hours=20)
        trial = Trial(job=self.job, name="Run", supply=supply, started_at=started_at)
        trial.ended_why = "cutoff"
        enter_run(trial, {gone.pk, box.pk}, [], 9.0)
        remove_load(gone)
        make_load(self.job, "Later", 30.0)

        def loads(job):
            (run,) = draft_of(current_plan(Job.objects.get(pk=job.pk))).runs
            return sorted(load["name"] for load in run.document["loads"])

        self.assertEqual(loads(self.job), ["Box", "Gone"])
        copy = import_job(export_job(self.job), self.job.owner)
        copy.loads.filter(name="Box").update(name="Larder")
        self.assertEqual(loads(copy), ["Gone", "Larder"])


class OlderDatabaseTest(SiteTest):
    """A database from before the first release is not migrated; its jobs come as packages."""

    def test_a_package_from_before_the_first_release_is_imported(self):
        content = (Path(__file__).parent / "data" / "before-first-release.zip").read_bytes()
        self.assertEqual(preview(content).name, "Tern Point Animal Clinic")
        job = import_job(content, self.user)
        counts = [job.loads.count(), job.plans.count(), job.supplies.count(), job.trials.count()]
        self.assertEqual(counts, [12, 4, 4, 3])
        self.assertEqual(job.loads.get(name="Vaccine refrigerator").profile().grade, "A")
        plan = job.plans.get(name="Storm night")
        self.assertEqual(plan.supply.name, "Wheeled cabinet")
        self.assertEqual(answer_of(plan).reason, "")

    def test_an_older_database_is_refused_with_the_way_to_keep_its_jobs(self):
        MigrationRecorder(connection).record_applied(*BEFORE_FIRST_RELEASE)
        with self.assertRaisesMessage(CommandError, "download each job as a package"):
            call_command("migrate", verbosity=0)


class RefusalTest(SiteTest):
    def setUp(self):
        super().setUp()
        load = make_load(self.job, "Box", 90.0)
        load.readings.create(type="spot", data={"state": "running", "watts": 90.0})
        self.content = export_job(self.job)
        self.jobs = Job.objects.count()
        self.loads = Load.objects.count()

    def text(self, path: str) -> str:
        with zipfile.ZipFile(io.BytesIO(self.content)) as folder:
            return folder.read(path).decode()

    def refused(self, content: bytes) -> str:
        checked = check(content)
        with self.assertRaises(ValueError) as caught:
            import_job(content, self.user)
        self.assertEqual((Job.objects.count(), Load.objects.count()), (self.jobs, self.loads))
        return f"{checked['errors']} {caught.exception}"

    def test_truncated_or_no_zip(self):
        for content in (self.content[:-40], self.content[:200], b"", b"hello"):
            self.assertIn("not a whole zip", self.refused(content))

    def test_a_path_out_of_the_package(self):
        for path in ("../evil.csv", "/etc/evil.csv", "C:/evil.csv", "a/../../evil.csv"):
            out = io.BytesIO(self.content)
            with zipfile.ZipFile(out, "a") as folder:
                folder.writestr(path, "x")
            self.assertIn("points outside", self.refused(out.getvalue()))

    def test_far_too_large_when_unpacked(self):
        out = io.BytesIO(self.content)
        with zipfile.ZipFile(out, "a", zipfile.ZIP_DEFLATED) as folder:
            folder.writestr("big.csv", b"0" * 101_000_000)
        self.assertLess(len(out.getvalue()), 1_000_000)
        self.assertIn("larger than 100 MB when unpacked", self.refused(out.getvalue()))

    def test_formulas(self):
        evil = changed(self.content, "loads.csv", lambda text: text.replace("Box", "=cmd|calc"))
        self.assertIn("looks like a formula", self.refused(evil))

    def test_a_text_like_a_formula_is_guarded_and_comes_back(self):
        make_load(self.job, "=SUM(A1)", 5.0)
        make_load(self.job, "-20 °C freezer", 5.0)
        content = export_job(self.job)
        with zipfile.ZipFile(io.BytesIO(content)) as folder:
            self.assertIn("'=SUM(A1)", folder.read("loads.csv").decode())
        names = set(import_job(content, self.user).loads.values_list("name", flat=True))
        self.assertEqual(names, {"Box", "=SUM(A1)", "-20 °C freezer"})

    def test_wrong_types_rows_and_pointers(self):
        for path, old, new, said in (
            ("readings.csv", "spot", "guess", "readings row"),
            ("readings.csv", '""watts"": 90.0', '""watts"": -5', "readings row"),
            ("loads.csv", "should", "perhaps", "priority"),
            ("job.csv", "230-50", "7-3", "mains"),
            ("datapackage.json", '"integer"', '"colour"', "no known type"),
            ("datapackage.json", '"loads.csv"', '"gone.csv"', "is not in the package"),
            ("datapackage.json", '"resources"', '"things"', "is empty"),
        ):
            with self.subTest(path=path, new=new):
                self.assertIn(old, self.text(path))
                evil = changed(self.content, path, lambda text, a=old, b=new: text.replace(a, b))
                self.assertIn(said, self.refused(evil))
        short = changed(self.content, "loads.csv", lambda text: text.rstrip().rsplit(",", 1)[0])
        self.assertIn("cells, not", self.refused(short))
        lost = changed(
            self.content, "readings.csv", lambda text: text.replace("\r\n1,1,", "\r\n1,9,")
        )
        self.assertIn("there is no load 9", self.refused(lost))
        garbled = changed(self.content, "datapackage.json", lambda text: text[:50])
        self.assertIn("is not JSON", self.refused(garbled))

    def test_what_no_form_would_take_does_not_come_in(self):
        plan = current_plan(self.job)
        plan.save()
        PlanEntry.objects.create(plan=plan, load=self.job.loads.get())
        content = export_job(self.job)
        for path, column, cell, said in (
            ("job.csv", "tariff_hours", '[["23:00", "07:00"]]', "must be"),
            ("job.csv", "tariff_hours", '[["23:00", "07:00", "cheap"]]', "must be a number"),
            ("job.csv", "tariff_hours", "[5]", "must be"),
            ("job.csv", "mains", "", "cannot be blank"),
            ("job.csv", "name", "", "cannot be blank"),
            ("loads.csv", "set_c", "1e9", "less than or equal"),
            ("loads.csv", "cord_size", "thick", "not a size"),
            ("plans.csv", "odds", "-3", "greater than or equal"),
            ("plans.csv", "inverter_off", '[["23:00"]]', "must be"),
            ("plan-entries.csv", "windows", "[1]", "must be"),
            ("plan-entries.csv", "moments", "[[]]", "is not a time"),
            ("plan-entries.csv", "steps", '[{"watts": -1}]', "too small"),
            ("plan-entries.csv", "charge", '{"pack_wh": 5}', "is needed"),
            ("readings.csv", "data", '{"watts": []}', "must be a number"),
        ):
            with self.subTest(path=path, column=column, cell=cell):
                evil = changed(content, path, lambda text, c=column, v=cell: with_cell(text, c, v))
                self.assertIn(said, self.refused(evil))
        lost = changed(content, "job.csv", lambda text: without_column(text, "mains"))
        lost = changed(lost, "datapackage.json", lambda text: without_field(text, "mains"))
        self.assertIn("mains, is needed", self.refused(lost).replace(": is", ", is"))

    def test_two_tables_of_one_file(self):
        evil = changed(
            self.content,
            "datapackage.json",
            lambda text: text.replace('"readings.csv"', '"loads.csv"'),
        )
        self.assertIn("two resources name the file", self.refused(evil))

    def test_a_job_that_was_spoilt_can_be_mended_and_deleted(self):
        Job.objects.filter(pk=self.job.pk).update(tariff_hours=[[1]], tariff=0.3)
        make_job(self.user)
        self.client.raise_request_exception = False
        page = self.client.get(self.url("loads:load", self.job.loads.get().pk))
        self.assertContains(page, self.url("jobs:edit"), status_code=500)
        self.assertContains(page, self.url("jobs:delete"), status_code=500)
        self.assertEqual(self.client.get("/jobs/").status_code, 200)
        self.assertEqual(self.client.get(self.url("jobs:delete")).status_code, 200)
        mended = self.client.post(
            self.url("jobs:edit"),
            {
                "name": "Job",
                "mains": "230-50",
                "version": self.job.version,
                "other_prices": "",
            },
        )
        self.assertEqual(mended.status_code, 302)
        self.assertEqual(Job.objects.get(pk=self.job.pk).tariff_hours, [])

    def test_not_finite(self):
        text = read(self.content).tables["loads"]
        self.assertEqual(text.rows[0]["name"], "Box")
        self.assertIn(",¤,,", self.text("job.csv"))
        evil = changed(self.content, "job.csv", lambda text: text.replace(",¤,,", ",¤,nan,"))
        self.assertIn("is not a number", self.refused(evil))


class ImportPageTest(SiteTest):
    def setUp(self):
        super().setUp()
        make_load(self.job, "Box", 90.0)
        self.content = export_job(self.job)

    def upload(self, content):
        file = io.BytesIO(content)
        file.name = "job.zip"
        return self.client.post("/import/", {"file": file})

    def test_shown_first_then_added_once(self):
        page = self.upload(self.content)
        self.assertContains(page, "This would be added as a new job")
        self.assertEqual(Job.objects.filter(owner=self.user).count(), 1)
        token = page.content.decode().split('name="token" value="')[1].split('"')[0]
        self.client.post("/import/confirm/", {"token": token})
        self.client.post("/import/confirm/", {"token": token})
        self.assertEqual(Job.objects.filter(owner=self.user).count(), 2)

    def test_another_user_cannot_confirm_it(self):
        token = self.upload(self.content).content.decode().split('name="token" value="')[1]
        self.client.force_login(self.other)
        self.client.post("/import/confirm/", {"token": token.split('"')[0]})
        self.assertEqual(Job.objects.filter(owner=self.other).count(), 0)

    def test_a_bad_file_is_a_sentence(self):
        self.assertContains(self.upload(b"nonsense"), "Is not a whole zip", status_code=422)
        self.assertContains(self.client.post("/import/"), "required", status_code=422)

    def test_nobody_exports_another_ones_job(self):
        theirs = make_job(self.other, "Theirs")
        self.assertEqual(self.client.get(f"/jobs/{theirs.pk}/package.zip").status_code, 404)
        mine = self.client.get(f"/jobs/{self.job.pk}/package.zip")
        self.assertEqual(preview(mine.content).counts, [("loads", 1), ("readings", 1)])


@unittest.skipUnless(connection.vendor == "sqlite", "another database has its own tools")
class BackupTest(TransactionTestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        # What is replaced is kept beside the database: here, in the folder of this test.
        self.enterContext(
            mock.patch.object(restore, "_beside", lambda: self.folder / "kept.sqlite3")
        )
        # The copy is tried on a connection of its own.
        self.enterContext(mock.patch.object(type(self), "databases", {"default", "tried"}))
        make_load(make_job(get_user_model().objects.create_user("ada"), "Home"))
        self.copy = self.folder / "copy.sqlite3"
        call_command("backup", self.copy, verbosity=0, stdout=StringIO())

    def restore(self, path):
        call_command("restore", path, verbosity=0, stdout=StringIO())

    def spoilt(self, statement):
        path = self.folder / f"{abs(hash(statement))}.sqlite3"
        path.write_bytes(self.copy.read_bytes())
        with closing(sqlite3.connect(path)) as database:
            database.execute(statement)
            database.commit()
        return path

    def test_there_and_back_and_what_was_replaced_is_kept(self):
        self.assertEqual(list(self.folder.iterdir()), [self.copy])
        with self.assertRaisesMessage(CommandError, "exists already"):
            call_command("backup", self.copy)
        Job.objects.all().delete()
        make_job(get_user_model().objects.get(), "Made since")
        self.restore(self.copy)
        self.assertEqual([job.name for job in Job.objects.all()], ["Home"])
        self.assertEqual(Load.objects.count(), 1)
        with closing(sqlite3.connect(self.folder / "kept.sqlite3")) as kept:
            self.assertEqual(
                kept.execute("SELECT name FROM jobs_job").fetchall(), [("Made since",)]
            )

    def test_what_is_no_whole_copy_replaces_nothing(self):
        broken = self.folder / "broken.sqlite3"
        broken.write_bytes(self.copy.read_bytes()[:5000] + b"x" * 5000)
        newer = "INSERT INTO django_migrations (app, name, applied) VALUES ('jobs', '9999_x', '')"
        older = newer.replace("9999_x", "0002_day_plan")
        for path, said in (
            (broken, "no whole copy"),
            (self.folder / "missing.sqlite3", "is not there"),
            (self.spoilt(newer), "comes from a newer version"),
            (self.spoilt(older), "comes from before the first release"),
            (self.spoilt("ALTER TABLE loads_load DROP COLUMN note"), "lacks loads_load.note"),
            (self.spoilt("DROP TABLE trials_checkin"), "lacks trials_checkin."),
            (self.spoilt("UPDATE jobs_job SET owner_id = 999"), "no whole copy"),
        ):
            with self.subTest(said=said), self.assertRaisesMessage(CommandError, said):
                self.restore(path)
        self.assertEqual(Job.objects.count(), 1)
        self.assertFalse((self.folder / "kept.sqlite3").exists())


class DocumentTest(SiteTest):
    def upload(self, kind, data):
        file = io.BytesIO(data if isinstance(data, bytes) else json.dumps(data).encode())
        file.name = "one.json"
        return self.client.post(f"/jobs/{self.job.pk}/documents/{kind}/", {"file": file})

    def test_a_load_out_and_in(self):
        load = make_load(self.job, "Box", 90.0)
        load.readings.create(type="energy", data={"wh": 700.0, "hours": 24.0})
        url = f"/jobs/{self.job.pk}/loads/{load.pk}/load.json"
        data = json.loads(self.client.get(url).content)
        self.assertContains(self.upload("load", data), "already has a load", status_code=422)
        data["name"] = "Other box"
        self.upload("load", data)
        copy = self.job.loads.get(name="Other box")
        self.assertEqual(copy.profile().mean_w, load.profile().mean_w)
        self.client.post(self.url("jobs:undo", self.job.changes.first().pk))
        self.assertFalse(self.job.loads.live().filter(name="Other box").exists())

    def carried(self, load):
        """The document of a load, and the load that it makes in a job of another country."""
        data = json.loads(self.client.get(f"/jobs/{load.job_id}/loads/{load.pk}/load.json").content)
        Job.objects.filter(pk=self.job.pk).update(mains="120-60")
        answered = self.upload("load", data)
        self.assertEqual(answered.status_code, 302, answered.content.decode()[:2000])
        return data, self.job.loads.get(name=load.name)

    def test_all_that_is_known_of_a_load_comes_along(self):
        home = make_job(self.user, "Home")
        meter = Meter.objects.create(owner=self.user, name="Blue plug", kind="plug", limit=0.02)
        for number, details in enumerate(
            (
                {"kind": "compressor-fixed", "set_c": 4.0, "never_rarer": True},
                {"kind": "led", "hours_per_day": 5.0, "setting": "low"},
                {"kind": "electronics", "dc": True},
                {"kind": "bedside", "runs_by": "clock"},
                {
                    "kind": "resistive-heat",
                    "runs_by": "person",
                    "usual_use": {"tasks": ["07:00", "19:00"], "minutes": 3.0},
                },
            )
        ):
            load = make_load(home, f"Load {number}", None, **details)
            load.readings.create(
                type="spot",
                data={
                    "state": "running",
                    "watts": 40.0,
                    "meter": meter.name,
                    "setting": load.setting,
                },
            )
            with self.subTest(**details):
                data, copy = self.carried(load)
                self.assertEqual(copy.profile(), load.profile())
                again = json.loads(
                    self.client.get(f"/jobs/{self.job.pk}/loads/{copy.pk}/load.json").content
                )
                self.assertEqual({**again, "mains": data["mains"]}, data)
        self.assertEqual(self.user.meters.count(), 1)

    def test_amps_keep_the_volts_that_they_were_read_at(self):
        home = make_job(self.user, "Home")
        load = make_load(home, "Fan", None, kind="induction-motor")
        load.readings.create(type="label", data={"amps": 2.0})
        load.readings.create(type="spot", data={"state": "running", "amps": 1.5, "volts": 228.0})
        data, copy = self.carried(load)
        self.assertEqual(copy.profile().running_w, load.profile().running_w)
        self.assertEqual(copy.readings.get(type="label").data["volts"], 230.0)
        # A document that states no mains counts at those of the job.
        del data["mains"]
        self.upload("load", {**data, "name": "Fan without mains"})
        stored = self.job.loads.get(name="Fan without mains").readings.get(type="label")
        self.assertNotIn("volts", stored.data)

    def test_a_plan_out_and_in(self):
        load_demo()
        clinic = Job.objects.get(name="Tern Point Animal Clinic")
        self.client.force_login(clinic.owner)
        self.job = clinic
        plan = clinic.plans.get(name="Storm night")
        url = f"/jobs/{clinic.pk}/plans/{plan.pk}/download/plan.json"
        data = json.loads(self.client.get(url).content)
        data["name"], data["loads"][0]["name"] = "Storm again", "Unknown thing"
        page = self.client.get(self.upload("plan", data)["Location"])
        self.assertContains(page, "This job has no Unknown thing")
        copy = clinic.plans.get(name="Storm again")
        self.assertEqual(copy.sources.count(), 2)
        self.assertEqual(copy.entries.get(load__name="Autoclave").moments, ["19:30"])
        self.assertFalse(copy.entries.get(load__name="Centrifuge").taken_in)

    def test_refusals(self):
        for kind, data, said in (
            ("load", b"nonsense", "is not JSON"),
            ("load", {"name": "X", "kind": "dragon"}, "is not known"),
            ("load", [1], "Must be an object"),
            ("plan", {"hours": 400 * 24, "supply": {}}, "too large"),
            ("plan", {"hours": 5}, "supply"),
        ):
            with self.subTest(said=said):
                self.assertContains(self.upload(kind, data), said, status_code=422)
        self.assertEqual(self.upload("moon", {}).status_code, 404)


class DeletionTest(SiteTest):
    def test_a_job_asks_for_its_name_and_goes_with_everything(self):
        load = make_load(self.job, "Box", 90.0)
        url = self.url("jobs:delete")
        self.assertContains(self.client.get(url), "Export it first")
        self.assertContains(self.client.post(url, {"typed": "Hom"}), "That is not", status_code=422)
        self.client.post(url, {"typed": self.job.name})
        self.assertFalse(Job.objects.filter(pk=self.job.pk).exists())
        self.assertFalse(Load.objects.filter(pk=load.pk).exists())

    def test_nobody_deletes_another_ones_job(self):
        theirs = make_job(self.other, "Theirs")
        answered = self.client.post(f"/jobs/{theirs.pk}/delete/", {"typed": "Theirs"})
        self.assertEqual(answered.status_code, 404)

    def test_an_account_asks_for_its_password(self):
        self.user.set_password("a-long-secret")
        self.user.save()
        self.client.force_login(self.user)
        wrong = self.client.post("/account/delete/", {"password": "guess"})
        self.assertContains(wrong, "not your password", status_code=422)
        self.client.post("/account/delete/", {"password": "a-long-secret"})
        self.assertFalse(Job.objects.filter(pk=self.job.pk).exists())
        self.assertEqual(self.client.get("/jobs/").status_code, 302)


class SheetTest(SiteTest):
    def test_the_page_the_pdf_and_the_tables(self):
        load_demo()
        clinic = Job.objects.get(name="Tern Point Animal Clinic")
        self.client.force_login(clinic.owner)
        page = self.client.get(f"/jobs/{clinic.pk}/sheet/")
        for words in ("Still uncertain", "Storm night rehearsal", "supports life", "Cautions"):
            self.assertContains(page, words)
        for paper in ("a4", "letter"):
            answered = self.client.get(f"/jobs/{clinic.pk}/sheet/{paper}.pdf")
            self.assertTrue(answered.content.startswith(b"%PDF"))
        self.assertEqual(self.client.get(f"/jobs/{clinic.pk}/sheet/a0.pdf").status_code, 404)
        tables = self.client.get(f"/jobs/{clinic.pk}/sheet/tables.csv").content.decode()
        self.assertIn("Vaccine refrigerator", tables)

    def test_an_empty_job(self):
        job = make_job(self.user, "Empty")
        self.assertContains(self.client.get(f"/jobs/{job.pk}/sheet/"), "No answer yet")
        answered = self.client.get(f"/jobs/{job.pk}/sheet/a4.pdf")
        self.assertTrue(answered.content.startswith(b"%PDF"))

    def test_json_of_the_descriptor(self):
        make_load(self.job, "Box", 90.0)
        with zipfile.ZipFile(io.BytesIO(export_job(self.job))) as folder:
            document = json.loads(folder.read("datapackage.json"))
        self.assertEqual(document["profile"], "tabular-data-package")
