"""Handing over and moving house: the sheet, a job out and in, comparing."""

import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory

from playwright.sync_api import expect

from tests.browser.base import BrowserTest
from web.jobs.models import Job


class SheetPathTest(BrowserTest):
    def test_the_sheet_of_another_plan_and_its_pdf(self):
        page = self.signed_in()
        self.go(page, "plans:current")
        for key in "gp":
            page.keyboard.press(key)
        expect(
            page.get_by_role("heading", name="Tern Point Animal Clinic: Storm night")
        ).to_be_visible()
        page.get_by_role("link", name="Harbour visit day").click()
        expect(page.locator(".sheet")).to_contain_text("Autoclave trips")
        answer = page.request.get(self.url("sheets:pdf", self.clinic().pk, "letter"))
        self.assertEqual(answer.headers["content-type"], "application/pdf")
        self.assertGreater(len(answer.body()), 20_000)

    def test_printed_it_is_only_the_sheet(self):
        page = self.signed_in()
        self.go(page, "sheets:sheet")
        page.emulate_media(media="print")
        expect(page.locator(".sheet")).to_be_visible()
        expect(page.get_by_role("link", name="PDF, A4")).to_be_hidden()
        expect(page.locator(".tabs-row")).to_be_hidden()

    def test_a_job_out_and_in_again(self):
        page = self.signed_in()
        self.go(page, "sheets:sheet")
        with TemporaryDirectory() as folder:
            with page.expect_download() as waiting:
                page.get_by_role("link", name="Whole job as a package").click()
            path = Path(folder) / waiting.value.suggested_filename
            waiting.value.save_as(path)
            self.assertEqual(path.name, "tern-point-animal-clinic.zip")
            with zipfile.ZipFile(path) as packed:
                self.assertIn("datapackage.json", packed.namelist())
            page.goto(self.url("jobs:list"))
            page.get_by_role("link", name="Import a job").click()
            page.get_by_label("Package").set_input_files(path)
            page.get_by_role("button", name="Show what it would add").click()
            expect(page.get_by_role("row", name="loads 12")).to_be_visible()
            self.assertEqual(Job.objects.filter(name="Tern Point Animal Clinic").count(), 1)
            page.get_by_role("button", name="Add this job").click()
        expect(page.locator(".toast")).to_contain_text("Added Tern Point Animal Clinic")
        self.assertEqual(Job.objects.filter(name="Tern Point Animal Clinic").count(), 2)

    def test_a_file_that_is_none_is_said(self):
        self.expected_statuses = {422}
        page = self.signed_in()
        page.goto(self.url("exchange:import"))
        page.get_by_label("Package").set_input_files(
            {"name": "job.zip", "mimeType": "application/zip", "buffer": b"not a zip"}
        )
        page.get_by_role("button", name="Show what it would add").click()
        expect(page.locator("main")).to_contain_text("Is not a whole zip file")


class ComparePathTest(BrowserTest):
    def test_settings_side_by_side_with_another_reference(self):
        page = self.signed_in()
        self.go(page, "loads:load", self.clinic().loads.get(name="Recovery heat mat").pk)
        page.get_by_role("button", name="Tools").click()
        page.get_by_role("link", name="Compare").click()
        table = page.get_by_role("group", name="Figures side by side")
        expect(table).to_contain_text("Recovery heat mat, low")
        page.get_by_label("Wildlife incubator").check()
        page.get_by_role("button", name="Compare").click()
        expect(page.locator("main thead th")).to_have_count(4)
        page.get_by_label("Reference").select_option(label="Wildlife incubator")
        page.get_by_role("button", name="Compare").click()
        expect(page.locator("main thead th").nth(1)).to_contain_text("Wildlife incubator")

    def test_a_drawing_is_saved_with_its_looks(self):
        page = self.signed_in()
        loads = self.clinic().loads
        items = [loads.get(name=name).pk for name in ("Router and phones", "Aquarium pump")]
        page.goto(
            self.url("matching:compare", self.clinic().pk) + f"?item={items[0]}&item={items[1]}"
        )
        with page.expect_download() as waiting:
            page.get_by_role("button", name="drawing as SVG").click()
        drawn = Path(waiting.value.path()).read_text()
        self.assertTrue(drawn.startswith("<svg"))
        self.assertIn('fill="rgb(207, 227, 226)"', drawn)

    def test_trials_side_by_side(self):
        page = self.signed_in()
        self.go(page, "trials:index")
        page.get_by_role("link", name="Side by side").click()
        page.get_by_label("Cabinet overnight").check()
        page.get_by_label("Old box on the refrigerator").check()
        page.get_by_role("button", name="Compare").click()
        expect(page.locator(".verdict-line")).to_contain_text("longer than Cabinet overnight")
        expect(page.get_by_text("Not alike: the supply")).to_be_visible()
