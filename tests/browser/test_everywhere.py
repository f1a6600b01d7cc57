"""What must hold on every screen: keys, themes, no overflow, nothing axe objects to."""

from playwright.sync_api import expect

from tests.browser.base import PHONE, WIDE, BrowserTest
from web.demo.round import begin_drills, clinic_round
from web.watch.actions import begin_watch

#: What the size and the theme of a screen can spoil; the rest is the same in every look.
SEEN = ("color-contrast", "scrollable-region-focusable", "link-in-text-block")


class KeysTest(BrowserTest):
    def test_places_help_and_new(self):
        page = self.signed_in()
        self.go(page, "loads:survey")
        for keys, heading in (("gu", "Supplies"), ("gd", "Storm night"), ("gs", "Survey")):
            for key in keys:
                page.keyboard.press(key)
            expect(page.get_by_role("heading", level=1)).to_contain_text(heading)
            # Keys are heard once the page's scripts run.
            page.wait_for_load_state()
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_be_visible()
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_be_hidden()
        page.keyboard.press("n")
        expect(page.get_by_role("heading", level=1)).to_have_text("New load")

    def test_keys_do_nothing_while_typing_or_when_turned_off(self):
        page = self.signed_in()
        self.go(page, "loads:add")
        name = page.get_by_label("What do you call it?")
        name.press_sequentially("gu?n")
        expect(name).to_have_value("gu?n")
        expect(page.get_by_role("dialog")).to_be_hidden()
        page.get_by_role("button", name="Keys").click()
        page.get_by_label("Turn single keys off").check()
        page.get_by_role("button", name="Close").click()
        page.locator("h1").click()
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_be_hidden()

    def test_everything_can_be_reached_with_tab(self):
        page = self.signed_in()
        self.go(page, "loads:survey")
        page.keyboard.press("Tab")
        expect(page.get_by_role("link", name="Skip to the work area")).to_be_focused()
        page.keyboard.press("Enter")
        page.keyboard.press("Tab")
        expect(page.locator("#find")).to_be_focused()


class LookTest(BrowserTest):
    def test_the_theme_is_kept(self):
        page = self.signed_in()
        self.go(page, "loads:survey")
        paper = "getComputedStyle(document.body).backgroundColor"
        light = page.evaluate(paper)
        page.get_by_role("button", name="demo").click()
        page.get_by_role("button", name="dark", exact=True).click()
        dark = page.evaluate(paper)
        self.assertNotEqual(light, dark)
        self.go(page, "plans:current")
        self.assertEqual(page.evaluate(paper), dark)

    def test_dark_follows_the_system(self):
        page = self.signed_in(color_scheme="dark")
        page.goto(self.url("jobs:list"))
        self.assertEqual(
            page.evaluate("getComputedStyle(document.body).backgroundColor"), "rgb(20, 24, 27)"
        )

    def test_the_job_switcher(self):
        page = self.signed_in()
        self.go(page, "loads:survey")
        page.get_by_role("button", name="Tern Point").click()
        page.get_by_role("link", name="Quince Lane cider shed").click()
        expect(page.get_by_role("button", name="Quince Lane")).to_be_visible()

    def test_without_motion_the_needle_does_not_sway(self):
        page = self.signed_in(reduced_motion="reduce")
        self.go(page, "plans:current")
        self.assertEqual(page.evaluate("document.getAnimations().length"), 0)


class EveryScreenTest(BrowserTest):
    part = 0

    def screens(self):
        """Every other screen: two classes share them, so that two processes can."""
        return [screen for n, screen in enumerate(self.all_screens()) if n % 2 == self.part]

    def all_screens(self):
        clinic = self.clinic()
        load, supply = clinic.loads.get(name="Suction pump"), clinic.supplies.first()
        plan, reading = clinic.plans.first(), load.readings.first()
        visit = clinic_round(clinic, clinic.plans.get(name="Storm night"))
        yield from (
            ("loads:survey",),
            ("loads:shelf",),
            ("loads:add",),
            ("loads:load", load.pk),
            ("loads:edit", load.pk),
            ("loads:edit-reading", load.pk, reading.pk),
            ("supplies:list",),
            ("supplies:add",),
            ("supplies:edit", supply.pk),
            ("supplies:supply", supply.pk),
            ("supplies:test", supply.pk, "efficiency"),
            ("supplies:test", supply.pk, "together"),
            ("supplies:add-part", supply.pk, "output"),
            ("matching:starts",),
            ("matching:record-start",),
            ("matching:cord", load.pk),
            ("matching:correction", load.pk),
            ("matching:record-correction", load.pk),
            ("plans:current",),
            ("plans:edit", plan.pk),
            ("plans:entry", plan.pk, load.pk),
            ("plans:compare", plan.pk),
            ("plans:source", plan.pk, plan.sources.first().pk),
            ("plans:add-source", plan.pk, "sun"),
            ("plans:plan", clinic.plans.last().pk),
            ("trials:index",),
            ("trials:compare",),
            ("matching:compare",),
            ("sheets:sheet",),
            ("jobs:delete",),
            ("trials:start",),
            ("trials:trial", clinic.trials.first().pk),
            ("trials:trial", clinic.trials.last().pk),
            ("trials:edit", clinic.trials.last().pk),
            ("trials:taught", clinic.trials.last().pk),
            ("watch:watch",),
            ("watch:card",),
            ("jobs:edit",),
            ("rounds:index",),
            ("rounds:round", visit.pk),
            ("bench:index",),
            ("find:in-job",),
        )

    def test_wide_dark_and_on_a_phone(self):
        # Without motion, so that no colour is caught on its way from light to dark.
        page = self.signed_in(reduced_motion="reduce")
        for number, (name, *args) in enumerate(self.screens()):
            with self.subTest(screen=name):
                self.go(page, name, *args)
                self.assertEqual(self.axe(page), [])
                page.emulate_media(color_scheme="dark")
                page.set_viewport_size(PHONE)
                wide = page.evaluate("document.documentElement.scrollWidth - innerWidth")
                self.assertLessEqual(wide, 0, "the page scrolls sideways on a phone")
                # All screens share the colour roles: every other one is checked in the dark.
                if number % 2 == 0:
                    self.assertEqual(self.axe(page, *SEEN), [], "on a phone in the dark")
                page.set_viewport_size(WIDE)
                wide = page.evaluate("document.documentElement.scrollWidth - innerWidth")
                self.assertLessEqual(wide, 0, "the page scrolls sideways")
                page.emulate_media(color_scheme="light")

    def test_the_watch_on_a_phone_in_the_dark(self):
        """What stands and what is on is in one view; a switch and a question answer in place."""
        begin_watch(self.clinic())
        page = self.signed_in(PHONE, color_scheme="dark", reduced_motion="reduce")
        self.go(page, "watch:watch")
        expect(page.locator(".watch-headline")).to_contain_text("Lasts until about")
        self.assertEqual(self.axe(page), [])
        wide = page.evaluate("document.documentElement.scrollWidth - innerWidth")
        self.assertLessEqual(wide, 0)
        for part in (".watch-headline", ".watch-life", "#id_shown", ".load-switch >> nth=0"):
            box = page.locator(part).bounding_box()
            self.assertLess(box["y"] + box["height"], PHONE["height"], part)
        lamp = page.get_by_role("switch", name="Exam lamp")
        expect(lamp).to_have_attribute("aria-checked", "true")
        lamp.press("Enter")
        expect(page.get_by_role("switch", name="Exam lamp")).to_have_attribute(
            "aria-checked", "false"
        )
        page.get_by_role("link", name="Suction pump").click()
        expect(page.locator(".may-answer")).to_contain_text("at the end")
        page.get_by_role("link", name="Autoclave").click()
        expect(page.locator(".may-answer")).to_contain_text("Autoclave")

    def test_a_step_that_is_due_is_said_and_stands_in_the_title(self):
        begin_watch(self.clinic())
        page = self.signed_in(fresh=True)
        page.clock.install()
        self.go(page, "watch:watch")
        steps = page.locator("[data-step-at]")
        expect(steps.first).to_be_visible()
        words = [step.get_attribute("data-step-words") for step in steps.all()]
        # While the plan's generator runs, of a morning, that is due at once.
        at_once = page.locator("#watch-said").inner_text()
        self.assertIn(at_once, ["", words[0]])
        page.clock.fast_forward("02:05:00")
        expect(page.locator("#watch-said")).not_to_have_text(at_once)
        said = page.locator("#watch-said").inner_text()
        self.assertIn(said, words)
        self.assertTrue(page.title().startswith(said))
        # Not on what is fetched anew just now: a mouse that goes down on what is then gone clicks
        # nowhere.
        page.locator(".top").dispatch_event("click")
        self.assertFalse(page.title().startswith(said))

    def test_outside_a_job(self):
        page = self.signed_in()
        page.goto(self.url("jobs:list"))
        expect(page.locator(".answer-line").first).to_contain_text("Lasts")
        self.assertEqual(self.axe(page), [])
        begin_drills(self.clinic().owner)
        run = self.clinic().owner.drill_runs.first()
        for name, *args in (
            ("meters:list",),
            ("meters:add",),
            ("accounts:units",),
            ("practice:index",),
            ("practice:run", run.pk),
        ):
            page.goto(self.url(name, *args))
            self.assertEqual(self.axe(page), [])
        stranger = self.open()
        for name in ("accounts:sign-in", "accounts:sign-up"):
            stranger.goto(self.url(name))
            self.assertEqual(self.axe(stranger), [])

    def test_printed(self):
        page = self.signed_in()
        self.go(page, "plans:current")
        page.emulate_media(media="print")
        expect(page.locator(".top")).to_be_hidden()
        expect(page.locator(".answer-headline")).to_be_visible()


class OtherScreensTest(EveryScreenTest):
    part = 1
    # Looked at once is enough.
    test_outside_a_job = test_printed = test_the_watch_on_a_phone_in_the_dark = None
    test_a_step_that_is_due_is_said_and_stands_in_the_title = None
