"""A client with a link, in a browser of their own, and what comes back."""

from playwright.sync_api import expect

from tests.browser.base import PHONE, BrowserTest
from web.share.actions import add_link
from web.share.models import Proposal, ShareLink


class ClientTest(BrowserTest):
    def visit(self, shows, viewport=None):
        """A page of somebody without an account who opens a new link."""
        _, token = add_link(ShareLink(job=self.clinic(), shows=shows, name="Ada"))
        page = self.open(viewport)
        page.goto(f"{self.live_server_url}/s/{token}/")
        return page

    def test_a_list_is_filled_on_a_phone_and_accepted(self):
        page = self.visit("list", PHONE)
        self.assertEqual(self.axe(page), [])
        wide = page.evaluate("document.documentElement.scrollWidth - innerWidth")
        self.assertLessEqual(wide, 0)
        page.get_by_label("What is it?").first.fill("Garage freezer")
        page.get_by_label("Watts on its label").first.fill("140 W")
        page.get_by_role("button", name="Another row").click()
        page.get_by_label("What is it?").last.fill("Porch lamp")
        page.get_by_role("button", name="Send").click()
        expect(page.get_by_text("Thank you")).to_be_visible()
        self.assertEqual(Proposal.objects.count(), 2)
        owner = self.signed_in()
        self.go(owner, "share:inbox")
        self.assertEqual(self.axe(owner), [])
        owner.get_by_role("button", name="Accept").first.click()
        expect(owner.locator(".toast")).to_contain_text("Added Garage freezer")
        owner.get_by_role("button", name="Put aside").click()
        expect(owner.get_by_text("Nothing waits")).to_be_visible()

    def test_a_sheet_and_a_card_need_no_script(self):
        for shows, words in (("sheet", "Storm night"), ("card", "On the wall beside the battery")):
            page = self.visit(shows)
            expect(page.get_by_role("heading", name=words).first).to_be_visible()
            self.assertEqual(self.axe(page), [])
            self.assertEqual(page.locator("script").count(), 0)
