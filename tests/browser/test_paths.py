"""The practitioner's paths through the site."""

import re

from playwright.sync_api import Page, expect

from tests.browser.base import PHONE, BrowserTest
from web.plans.outcomes import answer_of, current_plan


class Counter:
    """Counts fields filled and pages seen."""

    def __init__(self, page: Page) -> None:
        self.page, self.fields, self.pages = page, 0, 1
        page.on("framenavigated", self._seen)

    def _seen(self, frame) -> None:
        if frame == self.page.main_frame:
            self.pages += 1

    def fill(self, label: str, text: str) -> None:
        self.page.get_by_label(label, exact=False).first.fill(text)
        self.fields += 1

    def choose(self, label: str, option: str) -> None:
        self.page.get_by_label(label, exact=False).first.select_option(label=option)
        self.fields += 1


class FirstAnswerTest(BrowserTest):
    def test_from_the_empty_job_list_to_a_runtime(self):
        page = self.open()
        page.goto(self.url("accounts:sign-up"))
        page.get_by_label("Username").fill("newcomer")
        page.get_by_label(re.compile("^Password(?! confirmation)")).fill("quite long 77")
        page.get_by_label("Password confirmation").fill("quite long 77")
        page.get_by_role("button", name="Make the account").click()
        expect(page.get_by_role("heading", name="Your first job")).to_be_visible()

        count = Counter(page)
        count.fill("Name", "Home")
        page.get_by_role("button", name="Start this job").click()
        count.fill("Name", "Fridge")
        count.choose("Kind", "compressor refrigeration, fixed speed")
        count.fill("Label watts", "120 W")
        page.get_by_role("button", name="Add this load").click()
        count.fill("Name", "Box")
        count.choose("Chemistry", "lithium iron phosphate")
        count.fill("Battery holds", "100 Ah @ 12.8 V")
        count.fill("Inverter, continuous", "1 kW")
        page.get_by_role("button", name="Add this supply").click()
        expect(page.locator(".answer-headline")).to_contain_text(re.compile("Box (likely )?covers"))
        expect(page.locator(".answer-detail")).to_contain_text("Lasts")
        expect(page.get_by_role("img", name="Stored and drawn")).to_be_visible()
        print(f"\nfirst answer: {count.fields} fields filled, {count.pages} pages seen")
        self.assertLessEqual(count.fields, 12)
        self.assertLessEqual(count.pages, 4)


class ReadingTest(BrowserTest):
    def open_load(self, page, name="Aquarium pump"):
        load = self.clinic().loads.get(name=name)
        self.go(page, "loads:load", load.pk)
        return load

    def width_h(self):
        low, _, high = answer_of(current_plan(self.clinic())).outcome.runtime
        return high - low

    def test_a_reading_steadies_the_needle_without_a_new_page(self):
        page = self.signed_in()
        self.open_load(page)
        page.evaluate("window.samePage = true")
        before, detail = self.width_h(), page.locator(".answer-detail").inner_text()
        page.get_by_role("link", name="energy run").click()
        page.get_by_label("Counter shows").fill("0,45 kWh")
        expect(page.locator(".field", has_text="Counter shows").locator(".echo")).to_have_text(
            "= 450\u00a0Wh"
        )
        page.get_by_label("Elapsed").fill("25 h")
        page.get_by_role("button", name="Keep this reading").click()
        expect(page.locator(".readings")).to_contain_text("450 Wh in 25 h")
        expect(page.locator(".answer-detail")).not_to_have_text(detail)
        self.assertLess(self.width_h(), before)
        self.assertTrue(page.evaluate("window.samePage"))
        expect(page.locator("#messages")).to_contain_text("Kept: energy run")
        page.locator("#messages").get_by_role("button", name="Undo").click()
        expect(page.locator(".answer-detail")).to_have_text(detail)

    def test_a_wrong_dimension_is_said_beside_the_field_and_kept(self):
        self.expected_statuses = {422}
        page = self.signed_in()
        self.open_load(page)
        page.get_by_label("Watts").fill("4 kWh")
        expect(page.locator(".echo-problem")).to_contain_text("wants a rate")
        page.get_by_role("button", name="Keep this reading").click()
        expect(page.locator("#reading-form .field-errors")).to_contain_text("wants a rate")
        expect(page.get_by_label("Watts")).to_have_value("4 kWh")
        page.get_by_label("Watts").fill("18 W")
        page.get_by_role("button", name="Keep this reading").click()
        expect(page.locator(".readings")).to_contain_text("running: 18 W")

    def test_a_double_click_keeps_one(self):
        page = self.signed_in()
        load = self.open_load(page)
        page.get_by_label("Watts").fill("18 W")
        page.get_by_role("button", name="Keep this reading").dblclick()
        expect(page.locator(".readings")).to_contain_text("running: 18 W")
        page.wait_for_load_state("networkidle")
        self.assertEqual(load.readings.filter(type="spot").count(), 1)

    def test_the_misread_figure_is_named(self):
        page = self.signed_in()
        self.open_load(page, "Suction pump")
        expect(page.locator("tr.suspect")).to_contain_text("PF was read as 0.72")

    def test_removing_a_reading(self):
        page = self.signed_in()
        self.open_load(page)
        page.get_by_role("button", name="More for this label").click()
        page.get_by_role("button", name="Remove this label").click()
        expect(page.locator("#load-body")).to_contain_text("Nothing known yet")
        expect(page.locator("#places")).to_contain_text("1 unproven")


class PlanTest(BrowserTest):
    def test_leaving_out_and_times_move_the_answer(self):
        page = self.signed_in()
        self.go(page, "plans:current")
        headline = page.locator(".answer-headline")
        before = headline.inner_text()
        page.get_by_label("Take in Recovery heat mat").uncheck()
        expect(headline).not_to_have_text(before)
        expect(page.locator("tr", has_text="Recovery heat mat")).to_contain_text("left out")
        after = headline.inner_text()
        page.get_by_label("When Exam lamp is used").fill("18-19")
        page.keyboard.press("Tab")
        expect(page.get_by_label("When Exam lamp is used")).to_have_value("18:00–19:00")
        expect(headline).not_to_have_text(after)
        page.locator("#messages").get_by_role("button", name="Undo").click()
        expect(headline).to_have_text(after)

    def test_a_bad_time_is_kept_and_said(self):
        self.expected_statuses = {422}
        page = self.signed_in()
        self.go(page, "plans:current")
        page.get_by_label("When Exam lamp is used").fill("evenings")
        page.keyboard.press("Enter")
        expect(page.locator("tr", has_text="Exam lamp")).to_contain_text("is not a span such as")
        expect(page.get_by_label("When Exam lamp is used")).to_have_value("evenings")


class SurveyTest(BrowserTest):
    def test_finding_as_one_types(self):
        page = self.signed_in()
        self.go(page, "loads:survey")
        page.locator("#find").fill("lamp")
        expect(page.locator("table.loads tbody tr")).to_have_count(1)
        expect(page.locator("table.loads")).to_contain_text("Exam lamp")

    def test_the_slash_finds_from_any_page(self):
        page = self.signed_in()
        self.go(page, "supplies:list")
        page.keyboard.press("/")
        page.keyboard.type("lamp")
        # At once: what is opened is what was typed, not what its first letters had found.
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", level=1)).to_contain_text("Exam lamp")
        page.keyboard.press("/")
        page.keyboard.type("inrush")
        expect(page.locator('#hits[data-find="inrush"]')).to_be_visible()
        page.keyboard.press("ArrowDown")
        expect(page.locator("#hits a").first).to_be_focused()
        page.keyboard.press("ArrowUp")
        expect(page.locator("#finder-field")).to_be_focused()

    def test_sorting(self):
        page = self.signed_in()
        self.go(page, "loads:survey")
        page.get_by_role("link", name="mean", exact=True).click()
        expect(page.locator("table.loads tbody tr").first).to_contain_text("Autoclave")


class PhoneTest(BrowserTest):
    def test_a_reading_behind_the_fridge(self):
        page = self.signed_in(PHONE, has_touch=True)
        load = self.clinic().loads.get(name="Vaccine refrigerator")
        self.go(page, "loads:load", load.pk)
        page.get_by_label("Watts").fill("91")
        button = page.get_by_role("button", name="Keep this reading")
        self.assertGreaterEqual(button.bounding_box()["height"], 40)
        button.tap()
        expect(page.locator(".readings")).to_contain_text("running: 91 W")
