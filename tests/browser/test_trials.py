"""A trial with one thumb, and from a plan to its end on the simulated supply."""

from playwright.sync_api import expect

from tests.browser.base import PHONE, BrowserTest


class TrialPathTest(BrowserTest):
    def rehearsal(self):
        return self.clinic().trials.get(name="Storm night rehearsal")

    def test_checking_in_with_one_thumb(self):
        page = self.signed_in(PHONE, has_touch=True)
        self.go(page, "trials:trial", self.rehearsal().pk)
        percent = page.get_by_label("Charge, %")
        expect(percent).to_be_in_viewport()
        expect(page.locator(".check-ins tbody")).not_to_contain_text("21 %")
        percent.fill("21")
        page.get_by_role("button", name="Save check-in").tap()
        expect(page.locator(".toast")).to_contain_text("Checked in on Storm night rehearsal")
        expect(page.locator(".check-ins tbody")).to_contain_text("21 %")
        expect(page.get_by_text("The last fifth of a display")).to_be_visible()

    def test_a_wrong_figure_is_said_and_kept(self):
        self.expected_statuses = {422}
        page = self.signed_in()
        self.go(page, "trials:trial", self.rehearsal().pk)
        page.get_by_label("Charge, %").fill("101")
        page.get_by_role("button", name="Save check-in").click()
        expect(page.locator("#check-in")).to_contain_text("at most 100")
        expect(page.get_by_label("Charge, %")).to_have_value("101")

    def test_from_a_plan_to_the_end_on_the_simulated_supply(self):
        page = self.signed_in()
        self.go(page, "plans:current")
        page.get_by_role("link", name="Try it for real").click()
        page.get_by_label("Name").fill("Second rehearsal")
        page.get_by_role("button", name="Start on the simulated supply").click()
        page.get_by_role("button", name="Continue the simulation").click()
        expect(page.locator(".check-ins tbody")).not_to_contain_text("No check-in yet")
        page.get_by_role("button", name="to the end").click()
        expect(page.get_by_role("heading", name="Result", exact=True)).to_be_visible()
        page.get_by_role("link", name="What this run taught").click()
        expect(page.locator("#taught")).to_contain_text("it ran on the simulated supply")
        page.get_by_role("button", name="Carry over").click()
        expect(page.get_by_text("Done; it can be removed on the supply's page")).to_be_visible()
        page.locator("#messages").get_by_role("button", name="Undo").click()
        expect(page.get_by_role("button", name="Carry over")).to_be_visible()

    def test_space_keeps_what_was_typed(self):
        page = self.signed_in()
        self.go(page, "trials:trial", self.rehearsal().pk)
        page.get_by_label("Charge, %").fill("25")
        page.locator("h1").click()
        page.keyboard.press("Space")
        expect(page.locator(".toast")).to_contain_text("Checked in on")
