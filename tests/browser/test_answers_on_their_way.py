"""Answers that come late: what a person sent is shown, whatever came by itself meanwhile."""

from playwright.sync_api import expect

from tests.browser.base import BrowserTest


class OnTheirWayTest(BrowserTest):
    def polled_while_a_check_in_is_on_its_way(self):
        """The page, and the check-in's request held back, after the page asked by itself."""
        page = self.signed_in()
        trial = self.clinic().trials.get(name="Storm night rehearsal")
        self.go(page, "trials:trial", trial.pk)
        held = []

        def hold(route):
            held.append(route)

        page.route("**/check-in/", hold)
        page.get_by_label("Charge, %").fill("19")
        page.get_by_role("button", name="Keep check-in").click()
        page.wait_for_function("document.querySelector('.htmx-request')")
        page.evaluate("""async () => {
            const body = document.querySelector("#trial-body");
            body.setAttribute("hx-trigger", "load");
            body.setAttribute("hx-get", location.pathname);
            await htmx.ajax("get", location.pathname, {source: body, target: body, swap: "outerHTML"});
        }""")
        expect(page.get_by_label("Charge, %")).to_have_value("19")
        return page, held[0]

    def test_what_comes_by_itself_does_not_take_away_what_a_form_is_to_fill(self):
        page, check_in = self.polled_while_a_check_in_is_on_its_way()
        check_in.continue_()
        expect(page.locator(".check-ins tbody")).to_contain_text("19 %")
        expect(page.locator(".toast")).to_contain_text("Checked in")

    def test_it_is_asked_for_again_where_the_form_failed(self):
        page, check_in = self.polled_while_a_check_in_is_on_its_way()
        with page.expect_request(
            lambda asked: asked.url.endswith(f"/trials/{page.url.split('/')[-2]}/")
        ):
            check_in.abort()
        expect(page.locator("#working")).to_contain_text("The site cannot be reached")
        failed = ("console error: htmx:sendError", "console error: Failed to load resource")
        self.assertTrue(all(complaint.startswith(failed) for complaint in self.complaints))
        self.complaints.clear()
