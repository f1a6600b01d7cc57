"""Without a connection: what is entered waits on the device, and kept pages open."""

import json

from playwright.sync_api import expect

from tests.browser.base import PHONE, BrowserTest
from web.watch.actions import begin_watch, running_watch


class OfflineTest(BrowserTest):
    def go_offline(self, page, offline=True):
        self.is_offline = self.is_offline or offline
        page.context.set_offline(offline)

    def waiting(self, page):
        page.locator("#outbox").wait_for()
        return page.locator("#outbox li")


class OutboxTest(OfflineTest):
    def setUp(self):
        super().setUp()
        self.box = self.clinic().loads.get(name="Aquarium pump")

    def spots(self):
        watts = [reading.data.get("watts") for reading in self.box.readings.order_by("pk")]
        return [value for value in watts if value and 700 <= value < 800]

    def enter(self, page, watts):
        page.get_by_label("Watts", exact=True).fill(watts)
        page.get_by_role("button", name="Save this reading").click()

    def test_readings_wait_are_edited_dropped_refused_and_sent_once(self):
        page = self.signed_in(PHONE)
        self.go(page, "bench:index")
        self.go_offline(page)
        for number, watts in enumerate(("701", "702", "703", "soon")):
            self.enter(page, watts)
            expect(page.locator("#outbox li")).to_have_count(number + 1)
            expect(page.get_by_label("Watts", exact=True)).to_have_value("")
        expect(page.locator("#offline")).to_contain_text("No connection")
        page.locator("#outbox summary").click()
        rows = self.waiting(page)
        expect(rows.nth(0)).to_contain_text("Aquarium pump: It is now running, Watts 701")
        self.assertEqual(self.axe(page), [])
        rows.nth(1).get_by_role("button", name="Drop").click()
        expect(rows).to_have_count(3)
        rows.nth(1).get_by_role("button", name="Edit").click()
        page.locator("#outbox").get_by_label("Watts").fill("713")
        page.locator("#outbox").get_by_role("button", name="Save").click()
        expect(rows.nth(1)).to_contain_text("713")
        self.assertEqual(self.spots(), [])
        self.expected_statuses = {422}
        # What was sent is shown by loading the page again.
        with page.expect_event("load"):
            self.go_offline(page, offline=False)
        expect(page.locator("#outbox")).to_contain_text("1 refused")
        expect(rows).to_have_count(1)
        expect(rows).to_contain_text("“soon” is not a quantity")
        self.assertEqual(self.spots(), [701.0, 713.0])
        rows.get_by_role("button", name="Edit").click()
        page.locator("#outbox").get_by_label("Watts").fill("704 W")
        page.locator("#outbox").get_by_role("button", name="Save").click()
        expect(page.locator("#outbox")).to_be_hidden()
        self.assertEqual(self.spots(), [701.0, 713.0, 704.0])

    def test_what_waits_is_there_in_another_page_and_not_for_another_person(self):
        page = self.signed_in()
        self.go(page, "bench:index")
        self.go_offline(page)
        self.enter(page, "705")
        expect(self.waiting(page)).to_have_count(1)
        other = page.context.new_page()
        page.close()
        other.route("**/keep/**", lambda route: route.abort())
        other.route("**/meter/**", lambda route: route.abort())
        self.go_offline(other, offline=False)
        other.goto(self.url("accounts:account"))
        expect(other.locator("#outbox li")).to_have_count(1)
        other.evaluate("document.body.dataset.user = '0'")
        self.assertEqual(self.spots(), [])

    def test_an_answer_that_was_lost_on_its_way_is_no_second_reading(self):
        page = self.signed_in()
        self.go(page, "bench:index")
        lost = []

        def lose(route):
            if not lost:
                lost.append(route.fetch())
                route.abort()
            else:
                route.continue_()

        self.is_offline = True
        page.on("console", lambda message: None)
        page.route("**/bench/meter/*/", lose)
        self.complaints.clear()
        self.enter(page, "706")
        expect(page.locator("#outbox")).to_be_visible()
        expect(page.locator("#outbox")).to_be_hidden()
        self.assertEqual(self.spots(), [706.0])
        self.complaints = [words for words in self.complaints if "ERR_FAILED" not in words]


class WatchOfflineTest(OfflineTest):
    def test_switches_flip_wait_and_arrive_in_order(self):
        begin_watch(self.clinic())
        page = self.signed_in(PHONE)
        self.go(page, "watch:watch")
        lamp = page.get_by_role("switch", name="Exam lamp")
        expect(lamp).to_have_attribute("aria-checked", "true")
        self.go_offline(page)
        for number, state in enumerate(("false", "true", "false")):
            lamp.click()
            expect(page.locator("#outbox li")).to_have_count(number + 1)
            expect(lamp).to_have_attribute("aria-checked", state)
        self.assertEqual(self.axe(page), [])
        self.go_offline(page, offline=False)
        expect(page.locator("#outbox")).to_be_hidden()
        expect(lamp).to_have_attribute("aria-checked", "false")
        watch = running_watch(self.clinic())
        on = ["Exam lamp" in seen.data["on"] for seen in watch.known_check_ins()]
        self.assertEqual(on, [False, True, False])


class KeptPagesTest(OfflineTest):
    def kept(self, page):
        """Paths of pages that are kept."""
        return page.evaluate(
            "async () => { const found = []; for (const name of await caches.keys())"
            " if (name.startsWith('pages-'))"
            " for (const request of await (await caches.open(name)).keys())"
            " found.push(new URL(request.url).pathname); return found; }"
        )

    def test_pages_open_without_the_site_and_leave_with_the_person(self):
        page = self.signed_in(PHONE, service_workers="allow", has_touch=True)
        self.go(page, "bench:index")
        page.evaluate("navigator.serviceWorker.ready.then(() => true)")
        # The first page was there before the worker.
        self.go(page, "bench:index")
        path = f"/jobs/{self.clinic().pk}/bench/"
        self.assertIn(path, self.kept(page))
        self.go_offline(page)
        self.go(page, "bench:index")
        expect(page.locator("#offline")).to_contain_text("No connection. This page is as of")
        expect(page.get_by_label("Watts", exact=True)).to_be_in_viewport()
        self.assertEqual(self.axe(page), [])
        self.go(page, "plans:current")
        expect(page.get_by_role("heading", level=1)).to_have_text("The site cannot be reached")
        expect(page.locator("#kept-pages a")).to_have_count(len(self.kept(page)))
        self.assertEqual(self.axe(page), [])
        self.go_offline(page, offline=False)
        self.go(page, "bench:index")
        page.evaluate("document.querySelector('form[action$=\"sign-out/\"]').submit()")
        page.wait_for_url("**/sign-in/")
        self.assertEqual(self.kept(page), [])

    def test_what_browsers_ask_of_a_site_that_is_installed(self):
        page = self.signed_in()
        self.go(page, "bench:index")
        link = page.locator("link[rel=manifest]").get_attribute("href")
        answer = page.request.get(self.live_server_url + link)
        self.assertEqual(answer.headers["content-type"], "application/manifest+json")
        manifest = json.loads(answer.text())
        self.assertTrue({"name", "short_name", "start_url", "display"} <= set(manifest))
        sizes = {icon["sizes"] for icon in manifest["icons"]}
        self.assertEqual(sizes, {"192x192", "512x512"})
        self.assertIn("maskable", {icon.get("purpose") for icon in manifest["icons"]})
        for icon in manifest["icons"]:
            picture = page.request.get(self.live_server_url + icon["src"])
            self.assertEqual(picture.headers["content-type"], "image/png")
        page.goto(self.live_server_url + manifest["start_url"])
        self.assertEqual(page.locator("meta[name=viewport]").count(), 1)

    def test_an_answer_of_another_version_is_not_put_into_an_old_page(self):
        page = self.signed_in()
        self.go(page, "bench:index")
        page.evaluate("document.body.dataset.version = 'older'")
        page.get_by_label("Watts", exact=True).fill("707")
        pump = self.clinic().loads.get(name="Aquarium pump")
        # The check that follows the form may be answered first, and says the same.
        with page.expect_response(self.url("bench:keep-meter", pump.job_id, pump.pk)):
            page.get_by_role("button", name="Save this reading").click()
        expect(page.locator("#working")).to_contain_text("newer version")
        self.assertTrue(pump.readings.filter(data__watts=707).exists())

    def test_a_refusal_by_another_version_is_kept_with_its_sentence(self):
        page = self.signed_in()
        self.go(page, "bench:index")
        page.evaluate("document.body.dataset.version = 'older'")
        self.expected_statuses = {422}
        page.get_by_label("Watts", exact=True).fill("soon")
        page.get_by_role("button", name="Save this reading").click()
        expect(page.locator("#outbox")).to_contain_text("1 refused")
        page.locator("#outbox summary").click()
        expect(page.locator("#outbox li")).to_contain_text("“soon” is not a quantity")
