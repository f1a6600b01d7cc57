"""Of Bulma only what is used ships, and all of that."""

import re
import unittest

from tools.bulma import USED, made, words_used


class BulmaTest(unittest.TestCase):
    def test_what_ships_is_what_is_used_now(self):
        """After a class is used for the first time: ``python -m tools.bulma``."""
        self.assertEqual(USED.read_text(), made(words_used()))

    def test_it_follows_the_words(self):
        css = made({"button", "is-small"})
        self.assertIn(".button.is-small", css)
        self.assertNotIn(".navbar", css)
        # No custom property is used that is declared nowhere, but for those that a class sets.
        shipped = made(words_used())
        declared = set(re.findall(r"(--bulma-[\w-]+):", shipped))
        asked = set(re.findall(r"var\(\s*(--bulma-[\w-]+)\s*\)", shipped))
        self.assertEqual({name for name in asked - declared if "-grid-cell-" not in name}, set())
