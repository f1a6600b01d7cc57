"""Paths of those who measure a supply, and of those who ask whether it starts."""

import re

from playwright.sync_api import expect

from tests.browser.base import PHONE, BrowserTest


class SupplyPathTest(BrowserTest):
    def test_a_guided_test_becomes_evidence_and_can_be_taken_back(self):
        page = self.signed_in()
        self.go(page, "supplies:list")
        page.get_by_role("link", name="Visit case", exact=True).click()
        expect(page.get_by_role("row", name=re.compile("^efficiency [0-9]"))).to_contain_text(
            "usual for inverters"
        )
        page.get_by_role("link", name="Efficiency test").click()
        page.get_by_role("link", name="Fill in from the simulated supply").click()
        expect(page.get_by_label("DC watts, pair 5")).not_to_have_value("")
        page.get_by_role("button", name="Save this test").click()
        row = page.get_by_role("row", name=re.compile("^efficiency [0-9]"))
        expect(row).to_contain_text("fitted to 5 pairs")
        expect(page.get_by_role("img", name="Efficiency of Visit case")).to_be_visible()
        page.locator("#messages").get_by_role("button", name="Undo").click()
        expect(row).to_contain_text("usual for inverters")

    def test_ticking_and_recording_starts_with_the_keyboard(self):
        page = self.signed_in()
        self.go(page, "matching:starts")
        cell = page.get_by_role("link", name="Autoclave on Visit case")
        expect(cell).to_contain_text("trips")
        box = page.get_by_role("checkbox", name="Autoclave")
        box.focus()
        page.keyboard.press("Space")
        expect(page.get_by_role("heading", level=1)).not_to_contain_text("2.4")
        page.get_by_role("link", name="Suction pump on Visit case").click()
        expect(page.get_by_label("Load")).to_have_value(str(self.pump()))
        page.get_by_label("What happened").select_option("held")
        page.get_by_role("button", name="Save this test").click()
        cell = page.get_by_role("link", name="Suction pump on Visit case")
        expect(cell).to_contain_text("holds")

    def test_the_matrix_on_a_phone_scrolls_by_itself(self):
        page = self.signed_in(PHONE)
        self.go(page, "matching:starts")
        page.get_by_label("Draw the order on Visit case").check()
        expect(page.get_by_role("heading", name="Switching on, Visit case")).to_be_visible()

    def pump(self):
        return self.clinic().loads.get(name="Suction pump").pk
