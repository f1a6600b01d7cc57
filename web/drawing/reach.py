"""A range as a bar, to be stacked with others on the same scale."""

from __future__ import annotations

from django.utils.safestring import SafeString

from web.drawing.svg import Svg

WIDTH, HEIGHT = 320, 12


def reach(
    span: tuple[float, float, float], scale: tuple[float, float], title: str, words: str
) -> SafeString:
    """Draw a range with its median marked.

    Parameters
    ----------
    span : (low, likely, high)
    scale : (first, last)
        Ends of the line, in the same unit.
    title, words : str
        Text alternative.
    """
    first, last = scale
    wide = max(1e-9, last - first)

    def x(value: float) -> float:
        return round(WIDTH * min(1.0, max(0.0, (value - first) / wide)), 1)

    low, likely, high = span
    svg = Svg(WIDTH, HEIGHT, title, words, "reach")
    svg.rect(0, HEIGHT / 2 - 1, WIDTH, 2, "reach-line")
    svg.rect(x(low), 1, max(2.0, x(high) - x(low)), HEIGHT - 2, "reach-range")
    svg.line(x(likely), 0, x(likely), HEIGHT, "reach-likely")
    return svg.render()
