"""The power triangle: watts, non-active power and volt-amperes, before and after correction."""

from __future__ import annotations

from dataclasses import dataclass

from django.utils.safestring import SafeString

from web.drawing.svg import Svg

WIDTH, HEIGHT = 520, 300
_LEFT, _RIGHT, _TOP, _BOTTOM = 24, 120, 26, 46


@dataclass(frozen=True)
class TriangleSide:
    """A triangle: W, non-active VA, and the label of its long side."""

    watts: float
    nonactive: float
    words: str


def triangle(
    before: TriangleSide,
    after: TriangleSide | None,
    texts: tuple[str, str, str],
    title: str,
    description: str,
) -> SafeString:
    """Draw both triangles from one corner; ``texts`` label W, and non-active VA of both."""
    svg = Svg(WIDTH, HEIGHT, title, description, "triangle")
    wide, tall = WIDTH - _LEFT - _RIGHT, HEIGHT - _TOP - _BOTTOM
    scale = min(
        wide / max(before.watts, after.watts if after else 0.0),
        tall / max(before.nonactive, 1e-9),
    )
    x0, y0 = _LEFT, HEIGHT - _BOTTOM

    def corner(side: TriangleSide) -> tuple[float, float]:
        return x0 + side.watts * scale, y0 - side.nonactive * scale

    first = corner(before)
    svg.path([(x0, y0), (first[0], y0), first], "tri-before", closed=True)
    svg.line(x0, y0, *first, "tri-va")
    if after is not None:
        second = corner(after)
        svg.path([(x0, y0), (second[0], y0), second], "tri-after", closed=True)
        svg.line(x0, y0, *second, "tri-va after")
        svg.line(first[0] + 7, first[1], first[0] + 7, second[1], "tri-gone")
        svg.words(first[0] + 14, (first[1] + second[1]) / 2 + 4, texts[1], "tri-label gone")
        svg.words(second[0] + 14, (second[1] + y0) / 2 + 4, texts[2], "tri-label")
        svg.words(x0 + 4, 14, f"with: {after.words}", "tri-label after")
        svg.words(x0 + 4, 30, f"without: {before.words}", "tri-label")
    else:
        svg.words(first[0] + 14, (first[1] + y0) / 2 + 4, texts[1], "tri-label")
        svg.words(x0 + 4, 14, before.words, "tri-label")
    svg.line(x0, y0, first[0], y0, "axis")
    svg.words((x0 + first[0]) / 2, y0 + 18, texts[0], "tri-label", "middle")
    return svg.render()
