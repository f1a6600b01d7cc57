"""Typed text is never lost: fragments that come while somebody types leave it alone."""

from playwright.sync_api import expect

from tests.browser.base import PHONE, BrowserTest

#: How long a person takes between two letters, ms.
KEY_MS = 40


def late(delay_ms):
    """A script by which every answer that a page asks for comes so much later."""
    return f"""
    const send = XMLHttpRequest.prototype.send;
    XMLHttpRequest.prototype.send = function (...sent) {{
      setTimeout(() => send.apply(this, sent), {delay_ms});
    }};
    """


class TypingTest(BrowserTest):
    def slowed(self, viewport=None):
        """A page whose answers come late."""
        page = self.signed_in(viewport)
        page.add_init_script(late(400))
        return page

    def settled(self, page):
        expect(page.locator(".htmx-request")).to_have_count(0)

    def type(self, page, label, text):
        field = page.get_by_label(label, exact=True)
        field.click()
        field.press("Control+a")
        field.type(text, delay=KEY_MS)

    def test_a_kind_that_is_chosen_leaves_what_is_typed_meanwhile(self):
        page = self.slowed()
        self.go(page, "loads:add")
        page.get_by_label("What do you call it?").fill("Cold store")
        page.get_by_text("More about it").click()
        expect(page.get_by_label("Litres")).to_be_visible()
        page.get_by_label("What is it?").select_option("air-conditioner")
        self.type(page, "Litres", "140")
        page.get_by_label("Runs on DC").check()
        self.settled(page)
        expect(page.get_by_label("Litres")).to_have_value("140")
        expect(page.get_by_label("Runs on DC")).to_be_checked()
        page.get_by_role("button", name="Add this load").click()
        page.wait_for_url("**/loads/*/")
        load = self.clinic().loads.get(name="Cold store")
        self.assertEqual((load.litres, load.dc, load.kind), (140.0, True, "compressor-variable"))

    def test_a_field_that_one_is_in_stays_though_the_choice_leaves_it_out(self):
        page = self.slowed()
        self.go(page, "loads:add")
        page.get_by_text("More about it").click()
        litres = page.get_by_label("Litres")
        page.get_by_label("What is it?").select_option("kettle")
        litres.focus()
        self.settled(page)
        expect(litres).to_be_focused()
        page.keyboard.type("12.5")
        expect(litres).to_have_value("12.5")

    def test_a_choice_that_comes_within_a_number_leaves_its_decimal_mark(self):
        page = self.slowed()
        for appliance in ("kettle", "fridge"):
            self.go(page, "loads:add")
            page.get_by_text("More about it").click()
            page.get_by_label("What is it?").select_option(appliance)
            page.get_by_label("Litres").focus()
            page.keyboard.type("12,")
            self.settled(page)
            page.keyboard.type("5")
            expect(page.get_by_label("Litres")).to_have_value("12,5")

    def test_a_check_in_that_is_typed_while_the_one_before_is_kept_is_kept_too(self):
        page = self.slowed(PHONE)
        trial = self.clinic().trials.get(name="Storm night rehearsal")
        self.go(page, "trials:trial", trial.pk)
        before = trial.check_ins.live().count()
        for percent in ("31", "30", "29", "28"):
            self.type(page, "Charge, %", percent)
            page.get_by_role("button", name="Save check-in").click()
        self.settled(page)
        expect(page.locator(".check-ins tbody")).to_contain_text("28 %")
        kept = [record.data["percent"] for record in trial.check_ins.live().order_by("pk")[before:]]
        self.assertEqual(kept, [31, 30, 29, 28])


class GoneBackTest(BrowserTest):
    def test_what_was_typed_is_there_on_going_back_and_nothing_after_signing_out(self):
        page = self.signed_in()
        self.go(page, "loads:add")
        page.get_by_label("What do you call it?").fill("Cold store")
        page.get_by_role("link", name="Survey").first.click()
        page.wait_for_url("**/survey/")
        page.go_back()
        expect(page.get_by_label("What do you call it?")).to_have_value("Cold store")
        # A form that was refused is there too, as it was sent.
        self.expected_statuses = {422}
        page.get_by_label("What do you call it?").fill("Vaccine refrigerator")
        page.get_by_role("button", name="Add this load").click()
        expect(page.locator(".errorlist").first).to_be_visible()
        page.get_by_role("link", name="Survey").first.click()
        page.wait_for_url("**/survey/")
        page.go_back()
        expect(page.get_by_label("What do you call it?")).to_have_value("Vaccine refrigerator")
        page.locator("form[data-sign-out]").evaluate("form => form.requestSubmit()")
        page.wait_for_url("**/sign-in/**")
        page.go_back()
        page.wait_for_url("**/sign-in/**")
        expect(page.get_by_label("What do you call it?")).to_have_count(0)
        self.assertNotIn("Cold store", page.evaluate("JSON.stringify(sessionStorage)"))
