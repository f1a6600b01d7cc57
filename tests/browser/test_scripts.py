"""The few rules that scripts have, each asked in the browser as the page's own scripts ask it."""

from itertools import pairwise
from typing import Any

from playwright.sync_api import Page, expect

from tests.browser.base import BrowserTest

#: A form with a field of each sort, one of which was changed by a person.
FORM = """
<form action="/one/"><input name="watts" value="60"><input type="hidden" name="id" value="4">
  <input type="checkbox" name="on"><input type="checkbox" name="days" value="mo" checked>
  <select name="kind"><option selected>fan<option>lamp</select><textarea name="note">old</textarea>
  <details open><summary>More</summary></details><details><summary>More</summary></details></form>
"""


class ScriptsTest(BrowserTest):
    def asked(self, module: str, script: str, page: Page | None = None) -> Any:
        """Result of a script that has a module of the site as ``m``."""
        page = page or self.plain()
        address = f"{self.live_server_url}/static/js/{module}.js"
        return page.evaluate(f"async () => {{ const m = await import('{address}'); {script} }}")

    def plain(self) -> Page:
        page = self.open()
        page.goto(self.url("accounts:sign-in"))
        return page

    def test_blocks_move_in_quarters_of_an_hour_and_keep_a_width_to_hold(self):
        found = self.asked(
            "blocks",
            """return [[0, 7, 8, -22, 61].map((pixels) => m.minutesOf(pixels, 1)),
              m.movedSpan({x: 10, width: 20}, 5, ""), m.movedSpan({x: 10, width: 20}, 5, "end"),
              m.movedSpan({x: 10, width: 20}, 5, "begin"),
              m.movedSpan({x: 10, width: 20}, -40, "end").width,
              [75, -15].map(m.shiftWords)]""",
        )
        self.assertEqual(found[0], [0, 0, 15, -15, 60])
        self.assertEqual(found[1:3], [{"x": 15, "width": 20}, {"x": 10, "width": 25}])
        self.assertEqual(found[3:], [{"x": 15, "width": 15}, 3, ["+1 h 15 min", "−0 h 15 min"]])

    def test_the_needle_begins_where_it_was_passes_its_mark_once_and_rests_on_it(self):
        left = self.asked(
            "answer_bar", "return [...Array(101).keys()].map((step) => m.leftOfSwing(step / 100))"
        )
        self.assertEqual((left[0], left[-1]), (1, 0))
        crossings = [a for a, b in pairwise(left) if a * b < 0]
        self.assertLessEqual(len(crossings), 2)
        self.assertLess(max(abs(share) for share in left[60:]), 0.05)

    def test_which_fields_were_changed_and_what_they_hold(self):
        found = self.asked(
            "fields",
            f"""document.body.innerHTML = `{FORM}`;
            const form = document.querySelector("form");
            const [watts, , day, kind, note] = m.fieldsIn(form);
            const changed = () => m.fieldsIn(form).filter(m.isChanged);
            const before = changed().length;
            watts.value = "61";
            day.checked = false;
            m.setValue(kind, "lamp");
            m.setValue(note, "new");
            return [before, changed().map((field) => [field.name, m.valueOf(field)]),
              m.identityOf(day) === m.identityOf(watts),
              [...m.foldsIn(form)].map(([words, fold]) => [words, fold.open])]""",
        )
        changed = [["watts", "61"], ["days", "false"], ["kind", "lamp"], ["note", "new"]]
        self.assertEqual(found, [0, changed, False, [["More", True], ["More+", False]]])

    def test_times_and_watts_of_a_capture(self):
        found = self.asked(
            "chart_words",
            """const monday = Date.UTC(2026, 10, 30) / 1000;
            return [[45, 90, 5400].map((at) => m.tickWords(at, 0)),
              [monday, monday + 8 * 3600].map((at) => m.tickWords(at, monday)),
              m.exactMoment(monday + 59, monday), m.wattsWords(60, 60.1), m.wattsWords(2.04, 1180),
              m.wrapped("compressor at work", 11, (words) => words.length)]""",
        )
        self.assertEqual(found[0], ["45 s", "1.5 min", "1.5 h"])
        self.assertEqual(found[1:3], [["Mon", "08:00"], "Mon 00:00:59"])
        self.assertEqual(found[3:5], ["60.1 W", "2.04 W to 1180 W"])
        self.assertEqual(found[5], ["compressor", "at work"])

    def test_small_words(self):
        found = self.asked("what_if", "return [m.sliderWords(80, '%'), m.sliderWords(7.5, 'h')]")
        self.assertEqual(found, ["80 %", "7.5 h"])
        name = self.asked("drawings", "return m.fileNameOf('Starts & limits')")
        self.assertEqual(name, "starts-limits.svg")
        refused = self.asked("status_line", "return [409, 503, 500].map(m.refusalFor)")
        self.assertIn("another window", refused[0])
        self.assertIn("busy", refused[1])
        self.assertIn("Reload", refused[2])

    def test_a_refusal_stays_until_a_person_acts_again(self):
        self.expected_statuses = {409}
        page = self.signed_in()
        self.go(page, "plans:current")
        page.route("**/blocks/**", lambda route: route.fulfill(status=409))
        page.get_by_role("button", name="Autoclave, Tue").first.focus()
        page.keyboard.press("Delete")
        expect(page.locator("#working")).to_contain_text("another window")
