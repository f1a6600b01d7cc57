"""QR codes."""

from __future__ import annotations

import segno
from django.utils.safestring import SafeString, mark_safe


def qr_code(text: str, title: str) -> SafeString:
    """A text as a QR code, in SVG; ``title`` is read out in its place."""
    drawing = segno.make(text, micro=False).svg_inline(
        omitsize=True, svgclass="phone-code", lineclass="phone-code-line", title=title
    )
    return mark_safe(drawing)  # noqa: S308 -- made of the text by the library
