"""``python -m tools.bulma``: makes ``web/static/vendor/bulma-used.min.css`` of the whole Bulma.

Keeps the rules whose classes occur as words in the site's templates, code and scripts, and the
custom properties that these use. To be run again after a class of Bulma is used for the first time;
a test says so.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import tinycss2

ROOT = Path(__file__).resolve().parent.parent
WHOLE = ROOT / "tools" / "vendor" / "bulma-no-helpers.min.css"
USED = ROOT / "web" / "static" / "vendor" / "bulma-used.min.css"
#: Where a class may be named.
SOURCES = (("web/templates", "*.html"), ("web", "*.py"), ("web/static/js", "*.js"))
#: Style sheets that may use Bulma's custom properties.
OTHER_STYLES = "web/static/css"
_CLASS = re.compile(r"\.(-?[a-zA-Z_][\w-]*)")
#: What stands within these says nothing of which classes must occur.
_WITHIN = re.compile(r":(?:not|is|where|has)\([^()]*\)")
_VAR = re.compile(r"var\(\s*(--[\w-]+)")
_NESTING = ("media", "supports", "container", "layer")


@dataclass
class Block:
    """A rule with its declarations, an at-rule with other blocks, or text that stays as it is.

    Attributes
    ----------
    head : str
        Selectors, or the at-rule's condition; the whole text if it has no braces.
    declarations : list of (str, str)
        Names and texts.
    blocks : list of Block
    """

    head: str
    declarations: list[tuple[str, str]] = field(default_factory=list)
    blocks: list[Block] = field(default_factory=list)
    plain: bool = False

    def walk(self) -> Iterator[Block]:
        yield self
        for block in self.blocks:
            yield from block.walk()

    @property
    def css(self) -> str:
        """Its text; "" where nothing is left in it."""
        if self.plain:
            return self.head
        inner = ";".join(text for _, text in self.declarations)
        inner += "".join(block.css for block in self.blocks)
        return f"{self.head}{{{inner}}}" if inner else ""


def words_used() -> set[str]:
    """All words of the sources that could be classes."""
    words: set[str] = set()
    for folder, pattern in SOURCES:
        for path in (ROOT / folder).rglob(pattern):
            # Names of modules are no classes.
            text = re.sub(r"^(?:from|import) .*$", "", path.read_text(), flags=re.MULTILINE)
            words.update(re.findall(r"[a-zA-Z_][\w-]*", text))
    return words


def made(words: set[str]) -> str:
    """The style sheet for such words."""
    rules = tinycss2.parse_stylesheet(WHOLE.read_text(), skip_whitespace=True)
    sheet = list(_kept(rules, words))
    others = "".join(path.read_text() for path in (ROOT / OTHER_STYLES).rglob("*.css"))
    blocks = [inner for block in sheet for inner in block.walk()]
    before = -1
    while before != (now := sum(len(block.declarations) for block in blocks)):
        before = now
        asked = set(_VAR.findall(others))
        for block in blocks:
            for _, text in block.declarations:
                asked.update(_VAR.findall(text))
        for block in blocks:
            block.declarations = [
                (name, text)
                for name, text in block.declarations
                if not name.startswith("--") or name in asked
            ]
    return "".join(block.css for block in sheet)


def _kept(rules: Iterable[Any], words: set[str]) -> Iterator[Block]:
    """Rules of which at least one selector is used, with those selectors only."""
    for rule in rules:
        if rule.type == "comment" and rule.value.startswith("!"):
            yield Block(f"/*{rule.value}*/", plain=True)  # the licence's line
        elif rule.type == "at-rule" and rule.lower_at_keyword in _NESTING:
            inner = list(_kept(tinycss2.parse_rule_list(rule.content), words))
            if inner:
                head = f"@{rule.at_keyword}{tinycss2.serialize(rule.prelude)}"
                yield Block(head, blocks=inner)
        elif rule.type == "at-rule":
            yield Block(rule.serialize(), plain=True)
        elif rule.type == "qualified-rule":
            selectors = [
                selector
                for selector in _selectors(tinycss2.serialize(rule.prelude))
                if set(_CLASS.findall(_WITHIN.sub("", selector))) <= words
            ]
            if selectors:
                yield Block(",".join(selectors), declarations=_declarations(rule.content))


def _declarations(content: Iterable[Any]) -> list[tuple[str, str]]:
    declared = tinycss2.parse_blocks_contents(content, skip_comments=True, skip_whitespace=True)
    return [
        (declaration.name, declaration.serialize())
        for declaration in declared
        if declaration.type == "declaration"
    ]


def _selectors(prelude: str) -> list[str]:
    """Selectors of a rule, split at commas outside brackets."""
    found, depth = [""], 0
    for letter in prelude:
        depth += (letter in "([") - (letter in ")]")
        if letter == "," and depth == 0:
            found.append("")
        else:
            found[-1] += letter
    return [selector.strip() for selector in found]


def main() -> None:
    css = made(words_used())
    USED.write_text(css)
    print(
        f"{USED.relative_to(ROOT)}: {len(css) / 1000:.0f} kB of {WHOLE.stat().st_size / 1000:.0f}"
    )


if __name__ == "__main__":
    main()
