"""Under the fingers: blocks of the day plan, conditions that slide, what helps."""

import re
import threading
from unittest import mock

from playwright.sync_api import Page, expect

from tests.browser.base import PHONE, BrowserTest
from web.plans import trying
from web.plans.models import Plan, PlanEntry


class DayPlanTest(BrowserTest):
    def plan(self) -> Plan:
        return self.clinic().plans.get(name="Storm night")

    def entry(self, name: str = "Autoclave") -> PlanEntry:
        return self.plan().entries.get(load__name=name)

    def opened(self, viewport: dict[str, int] | None = None, **context: object) -> Page:
        page = self.signed_in(viewport, **context)
        self.go(page, "plans:current")
        if viewport == PHONE:
            # Drawn for a phone, what is needed less often is folded.
            expect(page.locator(".plan-fold[open]")).to_have_count(0)
            page.get_by_text("Loads and sources by the clock").click()
        expect(page.locator(".lanes")).to_be_visible()
        return page

    def block(self, page: Page, name: str = "Autoclave"):
        return page.get_by_role("button", name=f"{name}, Tue").first

    def drag(self, page: Page, block, dx: float, at: float = 0.5) -> None:
        box = block.locator(".block-body").bounding_box()
        x, y = box["x"] + box["width"] * at, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + dx / 2, y, steps=3)
        page.mouse.move(x + dx, y, steps=3)
        expect(page.locator("#plan-charts")).to_contain_text("while it moves")
        page.mouse.up()

    def test_a_dragged_block_answers_while_it_moves_and_is_one_undo_away(self):
        page = self.opened()
        units = page.locator(".lanes").bounding_box()["width"] / 880
        hour = (
            728 * units / (float(page.locator("#plan-lanes").get_attribute("data-span-min")) / 60)
        )
        self.drag(page, self.block(page), 2 * hour)
        expect(page.get_by_role("button", name="Autoclave, Tue 21:30 to 22:17")).to_be_visible()
        self.assertEqual(self.entry().moments, ["21:30"])
        expect(page.locator("#plan-charts")).to_contain_text("40 simulated runs")
        page.reload()
        expect(page.get_by_role("button", name="Autoclave, Tue 21:30 to 22:17")).to_be_visible()
        page.get_by_label("When Autoclave is used").fill("at 20:00")
        page.get_by_label("When Autoclave is used").blur()
        expect(page.get_by_role("button", name="Autoclave, Tue 20:00")).to_be_visible()
        page.locator("#messages").get_by_role("button", name="Undo").click()
        expect(page.get_by_role("button", name="Autoclave, Tue 21:30")).to_be_visible()

    def test_parts_open_one_at_a_time_and_stay_open(self):
        page = self.opened()
        parts = page.get_by_role("navigation", name="Parts of this plan")
        page.keyboard.press("v")
        expect(page.get_by_role("link", name="curve as CSV")).to_be_visible()
        parts.get_by_role("link", name="What size?").click()
        expect(page.get_by_role("heading", name="What size would do it")).to_be_visible()
        parts.get_by_role("link", name="Sources").click()
        expect(page.get_by_role("link", name="Add sun on panels")).to_be_visible()
        page.keyboard.press("[")
        expect(page.locator(".zoom")).to_contain_text("24 h shown")
        expect(page.get_by_role("link", name="Add sun on panels")).to_be_visible()

    def test_an_end_is_stretched(self):
        page = self.opened()
        lamp = self.block(page, "Exam lamp")
        lamp.focus()
        box = lamp.locator(".block-body").bounding_box()
        self.drag(page, lamp, 60, at=1 - 1 / box["width"])
        expect(
            page.get_by_role("button", name=re.compile("Exam lamp, Tue 18:00 to 0[01]:"))
        ).to_be_visible()
        self.assertEqual(self.entry("Exam lamp").windows[0][0], "18:00")

    def test_arrow_keys_move_and_delete_takes_out(self):
        page = self.opened()
        self.block(page).focus()
        page.keyboard.press("ArrowRight")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("Shift+ArrowRight")
        moved = page.get_by_role("button", name="Autoclave, Tue 21:00 to 21:47")
        expect(moved).to_be_focused()
        self.assertEqual(self.entry().moments, ["21:00"])
        self.block(page, "Exam lamp").focus()
        page.keyboard.press("ArrowUp")
        expect(page.get_by_role("button", name="Exam lamp, Tue 18:00 to 22:45")).to_be_visible()
        page.keyboard.press("Delete")
        expect(page.get_by_role("button", name="Exam lamp, Tue 18:00")).to_have_count(0)
        self.assertEqual(self.entry("Exam lamp").windows, [["07:00", "09:00"]])

    def test_no_key_is_lost_while_the_server_is_slow(self):
        page = self.opened()
        gate = threading.Event()
        answered = trying.answer_draft

        def slowly(*args, **kwargs):
            gate.wait(20)
            return answered(*args, **kwargs)

        self.block(page).focus()
        with mock.patch.object(trying, "answer_draft", slowly):
            for presses in (3, 3):
                for _ in range(presses):
                    page.keyboard.press("ArrowRight")
                # The hand rests: what was moved so far is to be kept, behind a try under way.
                page.wait_for_timeout(900)
            gate.set()
            expect(page.get_by_role("button", name="Autoclave, Tue 21:00 to 21:47")).to_be_visible()
        self.assertEqual(self.entry().moments, ["21:00"])

    def test_what_cannot_be_is_said_and_nothing_moves(self):
        self.expected_statuses = {422}
        page = self.opened()
        # Nine hours in one go: on a slow machine single keys would be kept one by one.
        self.block(page, "Exam lamp").evaluate(
            """block => { for (let hours = 0; hours < 9; hours++)
                block.dispatchEvent(new KeyboardEvent("keydown",
                    {key: "ArrowRight", shiftKey: true, bubbles: true})) }"""
        )
        expect(page.locator("#working")).to_contain_text("Overlaps")
        self.assertEqual(self.entry("Exam lamp").windows[0], ["18:00", "22:30"])

    def test_conditions_slide_and_are_kept_only_when_asked(self):
        page = self.opened()
        headline = page.locator("#answer-bar h2")
        before = headline.inner_text()
        slider = page.get_by_label("Charge at start")
        slider.focus()
        for _ in range(3):
            page.keyboard.press("PageDown")
        expect(page.locator("#plan-charts")).to_contain_text("A try: not saved")
        expect(headline).not_to_have_text(before)
        self.assertEqual(self.plan().start_charge, 1.0)
        page.get_by_role("button", name="Reset", exact=True).click()
        expect(headline).to_have_text(before)
        slider.focus()
        page.keyboard.press("PageDown")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.locator(".toast")).to_contain_text("Changed the conditions of Storm")
        self.assertLess(self.plan().start_charge, 1.0)

    def test_brackets_zoom(self):
        page = self.opened()
        shown = page.locator(".zoom")
        page.keyboard.press("[")
        expect(shown).to_contain_text("24 h shown")
        page.keyboard.press(".")
        expect(page.get_by_role("button", name="Autoclave, Wed")).to_be_visible()
        page.keyboard.press("]")
        expect(shown).not_to_contain_text("24 h shown")

    def test_a_help_is_done_with_a_click_and_taken_back(self):
        page = self.opened()
        page.get_by_role("button", name="Do it: leave off Autoclave").click()
        expect(page.locator(".toast")).to_contain_text("Autoclave left off.")
        self.assertFalse(self.entry("Autoclave").taken_in)
        page.locator("#messages").get_by_role("button", name="Undo").click()
        expect(page.get_by_role("button", name="Do it: leave off Autoclave")).to_be_visible()

    def test_a_proposal_is_shown_as_ghosts_and_accepted(self):
        page = self.opened()
        page.get_by_role("button", name="Find better times for tasks").click()
        expect(page.locator(".ghost").first).to_be_visible()
        page.get_by_role("link", name="Cancel", exact=True).click()
        expect(page.locator(".ghost")).to_have_count(0)
        page.get_by_role("button", name="Find better times for tasks").click()
        page.get_by_role("button", name="Move 1 task").click()
        expect(page.locator(".toast")).to_contain_text("Moved 1 task.")
        self.assertNotEqual(self.entry().moments, ["19:30"])

    def test_with_a_thumb_on_a_phone(self):
        page = self.opened(PHONE, has_touch=True)
        expect(page.locator(".zoom")).to_contain_text("12 h shown")
        box = page.locator(".lanes").bounding_box()
        self.assertLessEqual(box["x"] + box["width"], PHONE["width"])
        self.block(page).tap()
        tools = page.get_by_role("group", name="The chosen block")
        expect(tools).to_contain_text("Autoclave, Tue 19:30")
        tools.get_by_role("button", name="+1 h").tap()
        expect(page.get_by_role("button", name="Autoclave, Tue 20:30")).to_be_visible()
        tools.get_by_role("button", name="Another").tap()
        expect(page.get_by_role("button", name="Autoclave, Tue 22:30")).to_be_visible()
        self.assertEqual(self.entry().moments, ["20:30", "22:30"])

    def test_side_by_side(self):
        page = self.opened()
        page.get_by_role("button", name="Plans").click()
        page.get_by_role("link", name="Side by side").click()
        page.get_by_label("with").select_option(label="Storm night on Old lead-acid box")
        page.get_by_role("button", name="Show").click()
        expect(
            page.get_by_role("columnheader", name="Storm night, Old lead-acid box")
        ).to_be_visible()
        expect(page.locator(".verdict-line")).to_contain_text(
            "Storm night on Old lead-acid box drops Autoclave"
        )
