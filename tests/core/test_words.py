"""Each message has a sentence, each sentence a message, and figures are written in one's units."""

import ast
import string
import unittest
from datetime import UTC, datetime
from pathlib import Path

import needle
from needle.ledger import LedgerEntry
from needle.message import AsText, as_stored, from_stored, message
from needle.words import SENTENCES, Units, is_stored, text_of, worded
from needle.words.figures import plural

ROOT = Path(needle.__file__).parent
AMERICAN = Units(fahrenheit=True, clock_12=True)


def constants():
    """Texts of the core, without its tables of sentences."""
    for path in ROOT.rglob("*.py"):
        if "words" in path.parts:
            continue
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                yield node.value


def messages():
    """Codes that are said as they stand: ``message("code")``."""
    for path in [*ROOT.rglob("*.py"), *(ROOT.parent / "web").rglob("*.py")]:
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            called = isinstance(node, ast.Call) and getattr(node.func, "id", "") == "message"
            if called and node.args and isinstance(node.args[0], ast.Constant):
                yield path.name, node.args[0].value


class TableTest(unittest.TestCase):
    def test_each_message_has_a_sentence(self):
        missing = {(name, code) for name, code in messages() if code not in SENTENCES}
        self.assertEqual(missing, set())

    def test_each_sentence_is_said(self):
        used = set(constants())
        made = ("figure-", "idle-", "seen-", "begin-", "end-")
        unsaid = {code for code in SENTENCES if code not in used and not code.startswith(made)}
        self.assertEqual(unsaid, set())

    def test_no_sentence_ends_within_itself(self):
        for code, sentence in SENTENCES.items():
            if isinstance(sentence, str):
                with self.subTest(code=code):
                    self.assertEqual(sentence, sentence.strip())
                    list(string.Formatter().parse(sentence))


class TextTest(unittest.TestCase):
    def test_figures_are_written_in_ones_units(self):
        hot = message("never-cycles-off", room_c=30.0)
        self.assertIn("a room of 30\N{NO-BREAK SPACE}°C", text_of(hot))
        self.assertIn("a room of 86\N{NO-BREAK SPACE}°F", text_of(hot, AMERICAN))
        rest = message("rest-inverter", first_min=23 * 60 + 30, last_min=360)
        self.assertEqual(text_of(rest), "rest the inverter from 23:30 to 06:00")
        self.assertIn(
            "11:30\N{NO-BREAK SPACE}pm to 6:00\N{NO-BREAK SPACE}am", text_of(rest, AMERICAN)
        )

    def test_what_somebody_named_is_left_as_it_is(self):
        said = message("of-load", load="Shelf 4 °C at 18:30", notice=message("counter-still"))
        self.assertTrue(text_of(said, AMERICAN).startswith("Shelf 4 °C at 18:30: A counter"))

    def test_moments_have_a_date_where_the_weekday_is_ambiguous(self):
        begins = datetime(2027, 2, 9, 18, tzinfo=UTC)
        later = datetime(2027, 2, 19, 7, 30, tzinfo=UTC)
        said = message("move-task", load="Autoclave", to=later, begins=begins)
        self.assertEqual(text_of(said), "move Autoclave to Fri 19 Feb 07:30")

    def test_counts_have_their_nouns(self):
        self.assertEqual((plural(1, "cycle"), plural(3, "cycle")), ("1 cycle", "3 cycles"))
        self.assertEqual(plural(2, "entry|entries"), "2 entries")

    def test_what_is_used_is_named_once(self):
        seen = message("used-for", what=(message("seen-percent"), message("seen-bars")))
        self.assertEqual(text_of(seen), "the charge shown")


class WordedTest(unittest.TestCase):
    def test_a_document_has_code_figures_and_text(self):
        hot = message("never-cycles-off", room_c=30.0)
        entry = LedgerEntry("loads[0].set_c", False, message("no-pause"))
        document = worded({"notices": [hot], "ledger": [entry], "what": AsText(hot), "n": 2})
        self.assertEqual(document["notices"][0]["code"], "never-cycles-off")
        self.assertEqual(document["notices"][0]["figures"], {"room_c": 30.0})
        self.assertEqual(document["notices"][0]["text"], document["what"])
        told = document["ledger"][0]
        self.assertEqual((told["code"], told["text"]), ("no-pause", told["why"]))
        self.assertEqual(document["n"], 2)

    def test_what_an_outside_document_says_is_given_by_its_code(self):
        for figures in ({}, {"room_c": "warm", "units": 3}):
            with self.subTest(figures=figures):
                said = from_stored({"code": "never-cycles-off", "figures": figures})
                self.assertEqual(text_of(said), "never-cycles-off")
        self.assertEqual(text_of(message("of another release")), "of another release")
        with self.assertRaises(TypeError):
            from_stored({"code": "of-load", "figures": {"load": {"a": 1}}})

    def test_stored_messages_come_back(self):
        rows = message("rows-repeated", rows=3)
        self.assertEqual(from_stored(as_stored(rows)), rows)
        self.assertTrue(is_stored(as_stored(rows)))
        for wrong in ({"code": "nothing", "figures": {}}, {"code": "rows-repeated"}, 5, {}):
            with self.subTest(wrong=wrong):
                self.assertFalse(is_stored(wrong))
