"""The practitioner's paths through the site."""

import re

from playwright.sync_api import Page, expect

from tests.browser.base import PHONE, BrowserTest
from web.plans.models import Plan, PlanEntry
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


class HouseholdTest(BrowserTest):
    """A careful householder's first half hour, on a phone, with every default left alone."""

    def newcomer(self) -> Page:
        page = self.open(PHONE)
        page.goto(self.url("accounts:sign-up"))
        page.get_by_label("Username").fill("newcomer")
        page.get_by_label(re.compile("^Password(?! confirmation)")).fill("quite long 77")
        page.get_by_label("Password confirmation").fill("quite long 77")
        page.get_by_role("button", name="Make the account").click()
        expect(page.get_by_role("heading", name="Your first job")).to_be_visible()
        return page

    def add(self, count: Counter, what: str, watts: str, often: str = "") -> None:
        count.choose("What is it?", what)
        count.fill("Label watts", watts)
        if often:
            count.fill("How often, how long?", often)
        count.page.get_by_role("button", name="Add this load").click()

    def lines(self, page: Page) -> dict[str, str]:
        bar = page.locator("#answer-bar .answer-lines")
        expect(bar).to_be_visible()
        return dict(
            zip(
                bar.locator("dt").all_inner_texts(),
                bar.locator("dd").all_inner_texts(),
                strict=True,
            )
        )

    def test_a_kettle_that_is_too_large_is_named_and_the_fridge_stays(self):
        self.expected_statuses = {422}
        page = self.newcomer()
        count = Counter(page)
        count.fill("Name", "Home")
        page.get_by_role("button", name="Start this job").click()
        self.add(count, "Fridge or freezer", "120 W")
        page.locator(".next-steps").get_by_role("link", name="Add the battery").click()
        count.fill("Name", "Battery")
        count.choose("Chemistry", "lithium iron phosphate")
        count.fill("Battery holds", "1 kWh")
        count.fill("Inverter, continuous", "1000 W inverter")
        page.get_by_role("button", name="Add this supply").click()
        expect(page.locator(".answer-headline")).to_contain_text("Lasts")
        print(f"\nfirst answer: {count.fields} fields filled, {count.pages} pages seen")
        self.assertLessEqual(count.fields, 8)

        page.get_by_role("link", name="Survey").click()
        page.get_by_role("link", name="Fridge", exact=True).click()
        page.get_by_label("Watts").fill("92")
        # What was typed comes along where it fits, and the usual two come first.
        page.get_by_role("button", name="Save this reading").click()
        expect(page.locator(".readings")).to_contain_text("running: 92 W")
        page.get_by_role("link", name="kWh over time").click()
        page.get_by_label("Counter shows").fill("0.8")
        page.get_by_label("Elapsed").fill("a day")
        page.get_by_role("button", name="Save this reading").click()
        page.get_by_role("button", name="0.8 kWh").click()
        expect(page.locator(".readings")).to_contain_text("800 Wh in 24 h")

        for what, watts, often in (
            ("Router, charger, always-on box", "12", "all the time"),
            ("Lamp", "9", "in the evening"),
            ("Kettle, toaster, heater", "2200", "twice a day, 3 minutes"),
        ):
            page.get_by_role("link", name="Survey").click()
            page.get_by_role("link", name="Add a load").click()
            self.add(count, what, watts, often)
            expect(page.locator("#reading-form")).to_be_visible()
        page.get_by_role("link", name="Day plan").click()

        lines = self.lines(page)
        self.assertRegex(page.locator(".answer-headline").inner_text(), r"Lasts \d+ to \d+.h")
        self.assertIn(
            "Kettle needs 2.1\u00a0kW; the inverter gives 1\u00a0kW.", lines["Cannot run"]
        )
        self.assertEqual(lines["Change"], "Leave off Kettle: everything else then runs.")
        self.assertTrue(lines["Measure next"])
        last = page.locator("#answer-bar .answer-lines").bounding_box()
        self.assertLess(last["y"] + last["height"], PHONE["height"])
        helps = page.locator(".plan-helps .help-words").all_inner_texts()
        self.assertTrue(helps[0].startswith("Leave off Kettle"), helps)
        self.assertFalse([words for words in helps if "Fridge" in words])
        page.get_by_text("Change loads, sources, sizes").click()
        marks = dict(
            zip(
                page.locator("tr.use th a").all_inner_texts(),
                page.locator("tr.use .verdict").all_inner_texts(),
                strict=True,
            )
        )
        self.assertEqual(
            {name: mark[0] for name, mark in marks.items()},
            {"Fridge": "●", "Kettle": "✕", "Lamp": "●", "Router": "●"},
        )

        # Times that were refused are mended with Enter: one change, and still one plan.
        when = page.get_by_label("When Kettle is used")
        when.fill("mostly")
        when.press("Enter")
        expect(page.locator("tr.use", has_text="Kettle")).to_contain_text("Such as")
        when.fill("07:00 4 min")
        when.press("Enter")
        expect(when).to_have_value("at 07:00")
        self.assertEqual(Plan.objects.filter(job__name="Home").count(), 1)
        self.assertEqual(PlanEntry.objects.filter(plan__job__name="Home").count(), 1)

        page.get_by_role("button", name="Do it: leave off Kettle").click()
        expect(page.locator("#answer-bar .answer-lines")).to_contain_text("Everything")
        page.goto(self.url("sheets:sheet", page.url.split("/jobs/")[1].split("/")[0]))
        expect(page.locator("#sheet .verdict-line")).to_contain_text("Lasts")
        wide = page.evaluate("document.documentElement.scrollWidth")
        self.assertLessEqual(wide, PHONE["width"])


class ReadingTest(BrowserTest):
    def open_load(self, page, name="Aquarium pump"):
        load = self.clinic().loads.get(name=name)
        self.go(page, "loads:load", load.pk)
        return load

    def width_h(self):
        low, _, high = answer_of(current_plan(self.clinic())).outcome.runtime
        return high - low

    def test_a_reading_narrows_the_answer_without_a_new_page(self):
        page = self.signed_in()
        self.open_load(page)
        page.evaluate("window.samePage = true")
        before, detail = self.width_h(), page.locator(".answer-next").inner_text()
        page.get_by_role("link", name="kWh over time").click()
        page.get_by_label("Counter shows").fill("0,45 kWh")
        expect(page.locator(".field", has_text="Counter shows").locator(".echo")).to_have_text(
            "= 450\u00a0Wh"
        )
        page.get_by_label("Elapsed").fill("25 h")
        page.get_by_role("button", name="Save this reading").click()
        expect(page.locator(".readings")).to_contain_text("450 Wh in 25 h")
        expect(page.locator(".answer-next")).not_to_have_text(detail)
        self.assertLess(self.width_h(), before)
        self.assertTrue(page.evaluate("window.samePage"))
        expect(page.locator("#messages")).to_contain_text("kWh over time saved")
        page.locator("#messages").get_by_role("button", name="Undo").click()
        expect(page.locator(".answer-next")).to_have_text(detail)

    def test_a_wrong_dimension_is_said_beside_the_field_and_kept(self):
        self.expected_statuses = {422}
        page = self.signed_in()
        self.open_load(page)
        page.get_by_label("Watts").fill("4 kWh")
        expect(page.locator(".echo-problem")).to_contain_text("wants a rate")
        page.get_by_role("button", name="Save this reading").click()
        expect(page.locator("#reading-form .field-errors")).to_contain_text("wants a rate")
        expect(page.get_by_label("Watts")).to_have_value("4 kWh")
        page.get_by_label("Watts").fill("18 W")
        page.get_by_role("button", name="Save this reading").click()
        expect(page.locator(".readings")).to_contain_text("running: 18 W")

    def test_a_double_click_keeps_one(self):
        page = self.signed_in()
        load = self.open_load(page)
        page.get_by_label("Watts").fill("18 W")
        page.get_by_role("button", name="Save this reading").dblclick()
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
        page.get_by_role("button", name="More for this reading: label").click()
        page.get_by_role("button", name="Remove this reading: label").click()
        expect(page.locator("#load-body")).to_contain_text("Nothing known yet")
        expect(page.locator("#places")).to_contain_text("1 unproven")


class PlanTest(BrowserTest):
    def test_leaving_out_and_times_move_the_answer(self):
        page = self.signed_in()
        self.go(page, "plans:current")
        headline = page.locator(".answer-headline")
        before = headline.inner_text()
        page.get_by_label("Include Recovery heat mat").uncheck()
        expect(headline).not_to_have_text(before)
        expect(page.locator("tr", has_text="Recovery heat mat")).to_contain_text("not included")
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
        page.get_by_label("When Exam lamp is used").fill("mostly")
        page.keyboard.press("Enter")
        expect(page.locator("tr", has_text="Exam lamp")).to_contain_text("How often?")
        expect(page.get_by_label("When Exam lamp is used")).to_have_value("mostly")


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
        page.get_by_role("link", name="average", exact=True).click()
        expect(page.locator("table.loads tbody tr").first).to_contain_text("Autoclave")


class PhoneTest(BrowserTest):
    def test_a_reading_behind_the_fridge(self):
        page = self.signed_in(PHONE, has_touch=True)
        load = self.clinic().loads.get(name="Vaccine refrigerator")
        self.go(page, "loads:load", load.pk)
        page.get_by_label("Watts", exact=True).fill("91")
        button = page.get_by_role("button", name="Save this reading")
        self.assertGreaterEqual(button.bounding_box()["height"], 40)
        button.tap()
        expect(page.locator(".readings")).to_contain_text("running: 91 W")
