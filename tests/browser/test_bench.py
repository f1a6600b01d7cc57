"""The bench in a browser: live sessions by keys, imports with their progress, charts."""

import tempfile
from pathlib import Path

from playwright.sync_api import expect

from needle.measure.capture import as_csv
from needle.standin.appliances import timeline
from needle.standin.meters import plug_meter
from tests.browser.base import PHONE, BrowserTest
from web.bench.models import Capture, Session


class LiveTest(BrowserTest):
    def open_session(self, page, **changes):
        session = Session.objects.get(load__name="Recovery heat mat")
        for name, value in changes.items():
            setattr(session, name, value)
        session.save()
        self.go(page, "bench:session", session.pk)
        return session

    def test_it_moves_by_itself_and_keys_keep_readings(self):
        page = self.signed_in()
        session = self.open_session(page)
        clock = page.locator(".bench-strip-head")
        before = clock.inner_text()
        expect(clock).not_to_have_text(before)
        page.keyboard.press(" ")
        expect(page.locator("#messages")).to_contain_text("watts now saved")
        page.keyboard.press("x")
        expect(clock).to_contain_text("1 moments")
        page.keyboard.press("z")
        expect(page.locator(".readouts")).to_contain_text("0.00")
        self.assertEqual(session.load.readings.filter(type="spot", data__room_c=21.0).count(), 1)

    def test_a_key_whose_answer_is_late_still_shows(self):
        page = self.signed_in()
        self.open_session(page)
        held = []

        def hold_what_is_sent(route):
            if route.request.method == "POST":
                held.append(route)
            else:
                route.continue_()

        page.route("**/bench/**", hold_what_is_sent)
        with page.expect_request(lambda request: request.method == "POST"):
            page.keyboard.press("z")
        for _ in range(2):
            with page.expect_response(page.url):
                pass
        held[0].continue_()
        expect(page.locator(".readouts")).to_contain_text("0.00")
        clock = page.locator(".bench-strip-head")
        expect(clock).not_to_have_text(clock.inner_text())

    def test_space_belongs_to_the_bench_after_a_click(self):
        page = self.signed_in()
        session = self.open_session(page)
        page.get_by_role("button", name="600×").click()
        expect(page.locator(".bench-strip-head")).to_contain_text("600×")
        page.keyboard.press(" ")
        expect(page.locator("#messages")).to_contain_text("watts now saved")
        session.refresh_from_db()
        self.assertEqual(session.speed, 600)

    def test_the_needle_of_the_answer_ends_where_it_belongs(self):
        page = self.signed_in()
        self.open_session(page, clock_s=200_000.0, reset_s=0.0)
        page.keyboard.press("e")
        expect(page.locator("#messages")).to_contain_text("kWh over time saved")
        page.wait_for_timeout(1200)
        needle = page.locator("#answer-bar .needle")
        degrees = needle.get_attribute("data-degrees")
        self.assertEqual(needle.get_attribute("transform"), f"rotate({float(degrees):g} 88 76)")

    def test_a_stopped_session_becomes_a_capture_with_a_chart(self):
        page = self.signed_in()
        self.open_session(page, clock_s=20_000.0)
        page.get_by_label("Name of the capture").fill("Heat mat, an afternoon")
        page.get_by_role("button", name="Stop and save as a capture").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Heat mat, an afternoon")
        expect(page.locator(".chart canvas")).to_be_visible()
        page.wait_for_function(_DRAWN_IN_INK)
        self.assertEqual(self.axe(page), [])

    def test_on_a_phone_the_buttons_stay_in_reach(self):
        page = self.signed_in(PHONE, has_touch=True)
        self.open_session(page)
        button = page.get_by_role("button", name="Save this reading")
        box = button.bounding_box()
        self.assertLessEqual(box["y"] + box["height"], PHONE["height"])
        self.assertGreaterEqual(box["height"], 44)
        button.tap()
        expect(page.locator("#messages")).to_contain_text("watts now saved")
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth - innerWidth"), 0)


#: Whether a chart's canvas has hundreds of dark dots: its roles became colours.
_DRAWN_IN_INK = """() => {
  const canvas = document.querySelector(".chart canvas");
  const { data } = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height);
  let dark = 0;
  for (let at = 0; at < data.length; at += 4) {
    if (data[at + 3] > 200 && data[at] + data[at + 1] + data[at + 2] < 330) dark += 1;
  }
  return dark > 300;
}"""


class ImportTest(BrowserTest):
    def test_a_file_is_previewed_corrected_and_kept(self):
        capture = plug_meter(3).capture(timeline("cold-box", 3), 0, 8 * 3600)
        text = as_csv(capture).replace("time,", "when,", 1)
        page = self.signed_in()
        load = self.clinic().loads.get(name="Aquarium pump")
        self.go(page, "bench:upload", load.pk)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "pump.csv"
            path.write_text(text)
            page.get_by_label("CSV file").set_input_files(path)
            page.get_by_role("button", name="Import this file").click()
            expect(page.locator(".caution")).to_contain_text("no time column")
        page.get_by_label("“when” is").select_option("time")
        page.get_by_role("button", name="Import again with these corrections").click()
        expect(page.locator(".figures")).to_contain_text("cycling")
        page.get_by_role("button", name="Save as evidence").click()
        expect(page.locator(".readings")).to_contain_text("cycling: mean")
        self.assertTrue(Capture.objects.get(name="pump.csv").kept)

    def test_a_file_that_is_none_is_said_and_stays_chosen(self):
        self.expected_statuses = {422}
        page = self.signed_in()
        load = self.clinic().loads.get(name="Aquarium pump")
        self.go(page, "bench:upload", load.pk)
        page.get_by_label("CSV file").set_input_files(
            {"name": "x.csv", "mimeType": "text/csv", "buffer": b"\xff\xfe\x00"}
        )
        page.get_by_role("button", name="Import this file").click()
        expect(page.locator(".drop .field-errors")).to_contain_text("UTF-8")

    def test_looking_closer_at_a_long_capture(self):
        page = self.signed_in()
        capture = Capture.objects.get(name="A day and a half at the plug")
        self.go(page, "bench:capture", capture.pk)
        over = page.locator(".u-over")
        box = over.bounding_box()
        with page.expect_response(lambda response: "series/?from=" in response.url):
            page.mouse.move(box["x"] + 200, box["y"] + 80)
            page.mouse.down()
            page.mouse.move(box["x"] + 320, box["y"] + 80, steps=4)
            page.mouse.up()
        with page.expect_response(lambda response: response.url.endswith("series/")):
            over.dblclick()
        page.locator(".chart").focus()
        with page.expect_response(lambda response: "series/?from=32399" in response.url):
            page.keyboard.press("+")
        with page.expect_response(lambda response: "series/?from=48599" in response.url):
            page.keyboard.press("ArrowRight")


class ScreensTest(BrowserTest):
    def test_every_screen_of_the_bench(self):
        for viewport, scheme in ((None, "light"), (PHONE, "dark")):
            page = self.signed_in(viewport, color_scheme=scheme)
            session = Session.objects.get(load__name="Recovery heat mat")
            capture = Capture.objects.get(name="autoclave-panel.csv")
            load = self.clinic().loads.first()
            for name, *args in (
                ("bench:index",),
                ("bench:session", session.pk),
                ("bench:capture", capture.pk),
                ("bench:upload", load.pk),
                ("bench:loggers",),
            ):
                with self.subTest(screen=name, scheme=scheme, viewport=viewport):
                    self.go(page, name, *args)
                    wide = page.evaluate("document.documentElement.scrollWidth - innerWidth")
                    self.assertLessEqual(wide, 0)
                    self.assertEqual(self.axe(page), [])
