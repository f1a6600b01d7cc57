"""Sentences of what the core has to say, in English.

Another language is one more table beside :data:`needle.words.english.SENTENCES`.
"""

from needle.words.english import SENTENCES
from needle.words.figures import USUAL, Units
from needle.words.sentences import as_plain, is_stored, text_of, worded

__all__ = ["SENTENCES", "USUAL", "Units", "as_plain", "is_stored", "text_of", "worded"]
