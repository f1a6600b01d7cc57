"""Template tags of the start matrix."""

from __future__ import annotations

from html import escape

from django import template
from django.utils.safestring import SafeString, mark_safe

from web.common.templatetags.words import start_mark, start_words
from web.common.units import said
from web.matching.starts import Square

register = template.Library()


@register.simple_tag
def start_square(square: Square, load: str, record: str) -> SafeString:
    """Contents of a cell, written in one go, as a page has hundreds of them.

    Parameters
    ----------
    square : Square
    load : str
        Name of its load.
    record : str
        Address of recording a start test; empty for who may not.
    """
    first = square.first
    kind, mark, words = first.verdict.verdict, start_mark(first.verdict), start_words(first.verdict)
    verdict = f'class="verdict {kind}"'
    if record:
        label = f"{load} on {square.column.supply.name}, {first.beside}: {words}. Record a test"
        address = escape(f"{record}?{square.query}")
        shown = f'<a href="{address}" {verdict} aria-label="{escape(label)}">{mark} {words}</a>'
    else:
        shown = f"<span {verdict}>{mark} {words}</span>"
    answers = [f"{first.beside}: {said(first.verdict.reason)}"]
    answers += [f"{other.beside}: {start_words(other.verdict)}" for other in square.others]
    notes = [f'<span class="sub">{escape(answer)}</span>' for answer in answers]
    notes += [
        f'<span class="sub warn">▲ {escape(said(warning))}</span>'
        for warning in square.cell.warnings
    ]
    return mark_safe(shown + "".join(notes))  # noqa: S308 -- what is not ours is escaped
