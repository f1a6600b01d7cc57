"""A curve through readings, with the readings and a band."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from django.utils.safestring import SafeString

from web.drawing.svg import Svg

WIDTH, HEIGHT = 560, 230
_LEFT, _RIGHT, _TOP, _BOTTOM = 46, 16, 12, 40


def curve(
    line: Sequence[tuple[float, float, float, float]],
    points: Sequence[tuple[float, float, bool]],
    label: Callable[[float], str],
    axes: tuple[str, str],
    title: str,
    description: str,
) -> SafeString:
    """Draw shares (0…1) over a quantity.

    Parameters
    ----------
    line : sequence of (x, low, value, high)
        x increasing from 0.
    points : sequence of (x, share, whether it is suspect)
    label : callable
        Text of a mark on the x axis.
    axes : (str, str)
        Labels of the horizontal and the vertical axis.
    title, description : str
    """
    svg = Svg(WIDTH, HEIGHT, title, description, "curve")
    most = max(line[-1][0], *(x for x, _, _ in points))
    wide, tall = WIDTH - _LEFT - _RIGHT, HEIGHT - _TOP - _BOTTOM

    def x(value: float) -> float:
        return _LEFT + wide * min(1.0, value / most)

    def y(share: float) -> float:
        return _TOP + tall * (1 - min(1.0, max(0.0, share)))

    for step in range(5):
        svg.line(_LEFT, y(step / 4), WIDTH - _RIGHT, y(step / 4), "grid")
        svg.words(_LEFT - 6, y(step / 4) + 4, f"{25 * step} %", "tick-label", "end")
        at = most * step / 4
        svg.words(x(at), HEIGHT - 22, label(at), "tick-label", "end" if step == 4 else "middle")
    upper = [(x(point[0]), y(point[3])) for point in line]
    lower = [(x(point[0]), y(point[1])) for point in line]
    svg.path(upper + lower[::-1], "band", closed=True)
    svg.path([(x(point[0]), y(point[2])) for point in line], "likely")
    for at, share, suspect in points:
        svg.add("circle", cx=x(at), cy=y(share), r=4.5, css="point suspect" if suspect else "point")
    svg.words(WIDTH - _RIGHT, HEIGHT - 5, axes[0], "tick-label", "end")
    svg.words(_LEFT + 6, _TOP + 12, axes[1], "tick-label")
    return svg.render()
