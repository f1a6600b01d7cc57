"""Answers that come late: what a person sent is shown, whatever came by itself meanwhile."""

from playwright.sync_api import expect

from tests.browser.base import BrowserTest


class OnTheirWayTest(BrowserTest):
    def rehearsal(self):
        page = self.signed_in()
        self.go(page, "trials:trial", self.clinic().trials.get(name="Storm night rehearsal").pk)
        return page

    def asks_by_itself(self, page):
        """The page fetches itself anew, as it does while its answer is worked out."""
        page.evaluate("""async () => {
            const body = document.querySelector("#trial-body");
            body.setAttribute("hx-trigger", "load");
            body.setAttribute("hx-get", location.pathname);
            body.setAttribute("hx-swap", "outerHTML");
            await htmx.ajax("get", location.pathname, {source: body, target: body});
        }""")

    def held_back(self, page, addresses):
        """Requests to these addresses, held back as they come."""
        held = []

        def hold(route):
            held.append(route)

        page.route(addresses, hold)
        return held

    def check_in(self, page, percent):
        page.get_by_label("Charge, %").fill(percent)
        page.get_by_role("button", name="Save check-in").click()
        page.wait_for_function("document.querySelector('.htmx-request')")

    def test_what_comes_by_itself_does_not_take_away_what_is_typed(self):
        page = self.rehearsal()
        page.get_by_label("Charge, %").fill("19")
        page.locator("#check-in summary").click()
        page.get_by_label("Note").fill("lamp off")
        before = page.locator("#trial-body").element_handle()
        self.asks_by_itself(page)
        self.assertFalse(before.evaluate("body => body.isConnected"))
        expect(page.get_by_label("Charge, %")).to_have_value("19")
        expect(page.get_by_label("Note")).to_be_visible()
        expect(page.get_by_label("Note")).to_have_value("lamp off")
        expect(page.get_by_label("Note")).to_be_focused()

    def test_nor_what_a_form_on_its_way_is_to_fill(self):
        page = self.rehearsal()
        held = self.held_back(page, "**/check-in/")
        self.check_in(page, "19")
        self.asks_by_itself(page)
        held[0].continue_()
        expect(page.locator(".check-ins tbody")).to_contain_text("19 %")
        expect(page.locator(".toast")).to_contain_text("Checked in")
        expect(page.get_by_label("Charge, %")).to_have_value("")

    def test_it_is_asked_for_again_where_the_form_failed(self):
        page = self.rehearsal()
        held = self.held_back(page, "**/check-in/")
        self.check_in(page, "19")
        self.asks_by_itself(page)
        with page.expect_request(lambda asked: asked.url == page.url):
            held[0].abort()
        # What it was to send waits on the device, and the form is free for the next.
        expect(page.locator("#outbox")).to_contain_text("not yet sent")
        expect(page.get_by_label("Charge, %")).to_have_value("")
        failed = ("console error: htmx:sendError", "console error: Failed to load resource")
        self.assertTrue(all(complaint.startswith(failed) for complaint in self.complaints))
        self.complaints.clear()

    def test_an_answer_that_finds_its_place_taken_is_shown_all_the_same(self):
        page = self.rehearsal()
        held = self.held_back(page, "**/check-in/")
        self.check_in(page, "19")
        # Something else that a person asked for is answered first.
        page.evaluate("""() => htmx.ajax(
            "get", location.pathname, {target: "#trial-body", swap: "outerHTML"})""")
        expect(page.get_by_label("Charge, %")).to_have_value("")
        held[0].continue_()
        expect(page.locator(".check-ins tbody")).to_contain_text("19 %")
