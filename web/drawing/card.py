"""The wall card as a picture for a phone."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence

from django.utils.safestring import SafeString

from web.drawing.svg import Svg

WIDTH, _EDGE, _LINE, _LETTERS = 390, 16, 22, 44
#: Where the columns of the charges end.
_COLUMNS = (62, 150, 232, 374)


def card_picture(
    title: str,
    heads: Sequence[str],
    rows: Sequence[Sequence[str]],
    before: Sequence[str],
    after: Sequence[str],
) -> SafeString:
    """Draw the card: a title, lines, a table of four columns, and lines below it.

    Parameters
    ----------
    title : str
    heads, rows : sequence of str
        Of the table.
    before, after : sequence of str
        Paragraphs above and below it.
    """
    first, last = (_wrapped(paragraphs) for paragraphs in (before, after))
    height = _LINE * (6 + len(first) + len(rows) + len(last))
    svg = Svg(WIDTH, height, title, " ".join([*before, *after]), "card-picture")
    svg.rect(0, 0, WIDTH, height, "card-paper")
    y = 2 * _LINE
    svg.words(_EDGE, y, title, "card-title")
    y = _written(svg, first, y + _LINE)
    for column, head in zip(_COLUMNS, heads, strict=True):
        svg.words(column, y + _LINE, head, "card-head", "end")
    y += _LINE
    for row in rows:
        svg.line(_EDGE, y + 6, WIDTH - _EDGE, y + 6, "grid")
        y += _LINE
        for column, text in zip(_COLUMNS, row, strict=True):
            svg.words(column, y, text, "card-figure", "end")
    _written(svg, last, y + _LINE)
    return svg.render()


def _wrapped(paragraphs: Sequence[str]) -> list[str]:
    return [line for text in paragraphs for line in textwrap.wrap(text, _LETTERS)]


def _written(svg: Svg, lines: Sequence[str], y: int) -> int:
    for line in lines:
        y += _LINE
        svg.words(_EDGE, y, line, "card-line")
    return y
