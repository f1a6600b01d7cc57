"""A plan over its hours: charge, power, and lanes of loads and sources, on one time scale."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.utils.safestring import SafeString

from web.common.units import clock
from web.drawing.scale import hour_step
from web.drawing.svg import Attribute, Svg

_RIGHT = 10
_HEAD = 26
_STORED, _DRAWN, _GAP = 116, 84, 32
_BAR = 30
#: Between lanes whose names are on the left, so that each name stands with its own.
_APART = 8
#: Where the words beside a mark would leave the drawing.
_NEAR_END = 130


@dataclass(frozen=True)
class Paper:
    """Layout of a timeline: its width, and the space left of the plot.

    ``above`` is the space for a name above its lane, 0 if names are on the left; ``letters`` and
    ``ticks`` are the maximum length of a name and the maximum number of time ticks.
    """

    width: int
    left: int
    above: int
    letters: int
    ticks: int

    @property
    def is_narrow(self) -> bool:
        """Whether it is for a telephone."""
        return self.width <= NARROW.width

    @property
    def plot(self) -> int:
        """Width of the hours."""
        return self.width - self.left - _RIGHT

    @property
    def lane(self) -> int:
        """Height of a lane with its name."""
        return _BAR + (self.above or _APART)


#: For a desk with a large screen.
LARGE = Paper(width=1300, left=168, above=0, letters=25, ticks=12)
WIDE = Paper(width=880, left=142, above=0, letters=21, ticks=8)
#: For half a wide screen.
HALF = Paper(width=570, left=46, above=19, letters=40, ticks=6)
#: For a telephone held upright.
NARROW = Paper(width=366, left=46, above=19, letters=34, ticks=4)


def paper_for(screen: str) -> Paper:
    """The layout for a screen: "narrow", "wide" or "large"."""
    return {"narrow": NARROW, "large": LARGE}.get(screen, WIDE)


@dataclass(frozen=True)
class Frame:
    """The hours shown: the plan's start, first hour, number, and nights (hours)."""

    start: datetime
    first_h: float
    span_h: float
    nights: Sequence[tuple[float, float]] = ()
    paper: Paper = WIDE

    @property
    def last_h(self) -> float:
        return self.first_h + self.span_h

    def x(self, hour: float) -> float:
        """Position of an hour, clipped to the plot."""
        share = (hour - self.first_h) / self.span_h
        return self.paper.left + self.paper.plot * min(1.0, max(0.0, share))

    @property
    def right(self) -> float:
        """Right end of the plot."""
        return self.paper.width - _RIGHT

    def shows(self, hour: float) -> bool:
        return self.first_h <= hour <= self.last_h


@dataclass(frozen=True)
class Charge:
    """State of charge: hours, and shares low, likely and high, of equal length."""

    hours: Sequence[float]
    low: Sequence[float]
    likely: Sequence[float]
    high: Sequence[float]
    floor: float
    needed_h: float
    stop_h: float | None
    stop_text: str


@dataclass(frozen=True)
class Power:
    """Power by the minute from the plan's start, W; a limit in W with its label; trips.

    ``ticks`` are amounts with their labels.
    """

    watts: np.ndarray
    limit_w: float | None
    limit_text: str
    trips: Sequence[tuple[float, str]] = ()
    ticks: Sequence[tuple[float, str]] = ()

    @property
    def most_w(self) -> float:
        """Upper end of its scale, W."""
        return 1.12 * max(float(self.watts.max(initial=1.0)), self.limit_w or 0.0)


@dataclass(frozen=True)
class LaneBlock:
    """A block of a lane: hours from the start, its class, its text.

    With a ``key`` (attributes of its element) it can be selected and moved; ``ends`` is whether it
    can be stretched.
    """

    first_h: float
    last_h: float
    css: str
    words: str = ""
    key: dict[str, Attribute] | None = None
    ends: bool = False


@dataclass(frozen=True)
class Lane:
    """A load or source: name, a second line, link, and blocks.

    ``area`` has shares 0…1 by the minute; ``crosses`` hours and texts of trips.
    """

    name: str
    sub: str
    href: str = ""
    blocks: Sequence[LaneBlock] = ()
    area: np.ndarray | None = None
    crosses: Sequence[tuple[float, str]] = ()


@dataclass(frozen=True)
class _Axis:
    """A vertical scale: top and height in the drawing, and the amount at its top."""

    top: float
    tall: float
    most: float

    def y(self, amount: Any) -> Any:
        return self.top + self.tall * (1 - amount / self.most)


def charts(
    frame: Frame, charge: Charge, power: Power, names: tuple[str, str, str, str], description: str
) -> SafeString:
    """Draw charge and power; ``names`` are their names with a second line each."""
    paper = frame.paper
    head = _HEAD + paper.above
    height = head + _STORED + _GAP + paper.above + _DRAWN + 8
    svg = Svg(paper.width, height, "Stored and drawn", description, "timeline charts")
    clip = svg.clip("charts-plot", paper.left, 0, paper.plot, height)
    _time(svg, frame, head, height, words=True)
    stored = _Axis(head, _STORED, 1.0)
    _stored(svg, frame, charge, stored, clip)
    drawn = _Axis(head + _STORED + _GAP + paper.above, _DRAWN, power.most_w)
    _drawn(svg, frame, power, drawn)
    if frame.shows(charge.needed_h):
        at = frame.x(charge.needed_h)
        svg.line(at, head - 4, at, height - 8, "needed")
        late = at > paper.width - _NEAR_END
        svg.words(
            at + (-6 if late else 6),
            head + 12,
            "needed until here",
            "mark-label",
            "end" if late else "start",
        )
    for axis, name, sub in ((stored, *names[:2]), (drawn, *names[2:])):
        _name(svg, paper, axis.top, name, sub)
    return svg.render()


def _name(svg: Svg, paper: Paper, top: float, name: str, sub: str, href: str = "") -> None:
    """A name with its second line: on the left, or above the plot."""
    y = top - 8 if paper.above else top + 12
    if href:
        with svg.inside("a", href=href):
            svg.words(2, y, _short(name, paper.letters), "lane-name")
    else:
        svg.words(2, y, _short(name, paper.letters), "lane-name")
    letters = paper.letters + (0 if paper.above else 2)
    with svg.inside("g"):
        if len(sub) > letters:
            svg.add("title", sub)
        if paper.above:
            svg.words(paper.width - _RIGHT, y, _short(sub, letters), "lane-sub", "end")
        else:
            svg.words(2, top + 28, _short(sub, letters), "lane-sub")


def _time(svg: Svg, frame: Frame, top: float, height: float, words: bool) -> None:
    """Nights, and ticks at whole hours; the weekday at the first and at each midnight."""
    for first, last in frame.nights:
        if last > frame.first_h and first < frame.last_h:
            svg.rect(frame.x(first), top, frame.x(last) - frame.x(first), height - top, "night")
    step = hour_step(frame.span_h, frame.paper.ticks)
    moment = (frame.start + timedelta(hours=frame.first_h)).replace(
        minute=0, second=0, microsecond=0
    )
    last_day = None
    while (hour := (moment - frame.start).total_seconds() / 3600) <= frame.last_h:
        if frame.shows(hour) and moment.hour % min(step, 24) == 0:
            days = (moment.date() - frame.start.date()).days
            if step <= 24 or days % (step // 24) == 0:
                at = frame.x(hour)
                svg.line(at, top, at, height, "grid")
                if words and at < frame.paper.width - 40:
                    day = "" if moment.date() == last_day else f"{moment:%a} "
                    last_day = moment.date()
                    svg.words(at + 4, 18, f"{day}{clock(moment)}", "tick-label")
        moment += timedelta(hours=1)


def _stored(svg: Svg, frame: Frame, charge: Charge, axis: _Axis, clip: str) -> None:
    left = frame.paper.left
    for share in (0.0, 0.5, 1.0):
        svg.line(left, axis.y(share), frame.right, axis.y(share), "grid")
        svg.words(left - 6, axis.y(share) + 4, f"{share * 100:.0f} %", "tick-label", "end")

    def points(shares: Sequence[float]) -> list[tuple[float, float]]:
        """The line within the hours shown, interpolated at its ends."""
        inside = [h for h in charge.hours if frame.first_h < h < frame.last_h]
        at = [frame.first_h, *inside, min(frame.last_h, charge.hours[-1])]
        values = np.interp(at, charge.hours, shares)
        return [(frame.x(h), axis.y(s)) for h, s in zip(at, values, strict=True)]

    with svg.inside("g", clip_path=clip):
        svg.path(points(charge.high) + points(charge.low)[::-1], "band", closed=True)
        svg.line(left, axis.y(charge.floor), frame.right, axis.y(charge.floor), "floor")
        svg.path(points(charge.likely), "likely")
    # At the end where the curve is farther from it.
    low = np.interp([frame.first_h, frame.last_h], charge.hours, charge.low)
    at, anchor = (left + 6, "start") if low[0] > low[1] else (frame.right - 6, "end")
    svg.words(
        at, axis.y(charge.floor) - 5, f"floor {charge.floor * 100:.0f} %", "limit-label", anchor
    )
    if charge.stop_h is not None and frame.shows(charge.stop_h):
        at = frame.x(charge.stop_h)
        svg.line(at, axis.y(charge.floor) - 8, at, axis.y(charge.floor) + 8, "stop")
        near = _NEAR_END * frame.paper.plot / WIDE.plot
        anchor = "end" if at > frame.right - near else "start" if at < left + near else "middle"
        svg.words(at, axis.y(0) + 17, charge.stop_text, "stop-label", anchor)


def _drawn(svg: Svg, frame: Frame, power: Power, axis: _Axis) -> None:
    left, plot = frame.paper.left, frame.paper.plot
    for amount, words in power.ticks:
        svg.line(left, axis.y(amount), frame.right, axis.y(amount), "grid")
        svg.words(left - 6, axis.y(amount) + 4, words, "tick-label", "end")
    if power.limit_w is not None:
        at = axis.y(power.limit_w)
        svg.rect(left, axis.top, plot, at - axis.top, "over-limit")
        svg.line(left, at, frame.right, at, "floor")
        svg.words(left + 6, at + 14, power.limit_text, "limit-label")
    heights = _columns(power.watts, frame)
    if len(heights):
        wide = plot * (min(frame.last_h, len(power.watts) / 60) - frame.first_h) / frame.span_h
        xs = left + np.arange(len(heights) + 1) * (wide / len(heights))
        tops = np.round(axis.y(heights), 1)
        # A level is drawn once, however many columns it has.
        ends = np.append(np.flatnonzero(np.diff(tops)) + 1, len(tops))
        outline, begin = [(float(left), axis.y(0))], 0
        for end in ends:
            top = float(tops[begin])
            outline += [(float(xs[begin]), top), (float(xs[end]), top)]
            begin = end
        svg.path([*outline, (float(xs[-1]), axis.y(0))], "power-area", closed=True)
    for hour, words in power.trips:
        if frame.shows(hour):
            with svg.inside("g"):
                svg.add("title", words)
                svg.line(frame.x(hour), axis.top, frame.x(hour), axis.y(0), "trip-line")
                _cross(svg, frame.x(hour), axis.top + 6)


def _cross(svg: Svg, x: float, y: float, size: float = 4.5) -> None:
    svg.line(x - size, y - size, x + size, y + size, "trip-cross")
    svg.line(x - size, y + size, x + size, y - size, "trip-cross")


def _columns(watts: np.ndarray, frame: Frame) -> np.ndarray:
    """Highest W in each pixel column of the plot."""
    first, last = round(frame.first_h * 60), round(frame.last_h * 60)
    shown = watts[first:last]
    if not len(shown):
        return shown
    most = min(len(shown), frame.paper.plot)
    edges = np.unique(np.linspace(0, len(shown), most, endpoint=False).astype(int))
    return np.maximum.reduceat(shown, edges)


def lanes(
    frame: Frame, rows: Sequence[Lane], title: str, ghosts: Sequence[tuple[int, LaneBlock]] = ()
) -> SafeString:
    """Draw lanes below one another; ``ghosts`` are proposed blocks with their lane's index."""
    paper = frame.paper
    height = paper.lane * len(rows) + 4
    svg = Svg(paper.width, height, title, "", "timeline lanes", role="group")
    _time(svg, frame, 0, height, words=False)
    for number, lane in enumerate(rows):
        top = _lane_top(paper, number)
        svg.rect(paper.left, top + 5, paper.plot, _BAR - 10, "lane")
        _name(svg, paper, top + (5 if paper.above else 0), lane.name, lane.sub, lane.href)
        if lane.area is not None:
            _area(svg, frame, lane.area, top)
        for block in lane.blocks:
            _block(svg, frame, block, top)
        for hour, words in lane.crosses:
            if frame.shows(hour):
                with svg.inside("g"):
                    svg.add("title", words)
                    _cross(svg, frame.x(hour), top + _BAR / 2)
    for number, block in ghosts:
        _block(svg, frame, block, _lane_top(paper, number))
    return svg.render()


def _lane_top(paper: Paper, number: int) -> float:
    """Top of a lane's bar, below its name."""
    return number * paper.lane + 2 + paper.above


def _short(name: str, letters: int) -> str:
    return name if len(name) <= letters else f"{name[: letters - 1].rstrip()}…"


def _area(svg: Svg, frame: Frame, shares: np.ndarray, top: float) -> None:
    heights = _columns(shares, frame)
    if not len(heights):
        return
    left, base, tall = frame.paper.left, top + _BAR - 5, _BAR - 10
    wide = frame.paper.plot * (min(frame.last_h, len(shares) / 60) - frame.first_h) / frame.span_h
    xs = np.linspace(left, left + wide, len(heights))
    line = [(float(x), base - tall * float(h)) for x, h in zip(xs, heights, strict=True)]
    svg.path([(left, base), *line, (float(xs[-1]), base)], "sun-area", closed=True)


def _block(svg: Svg, frame: Frame, block: LaneBlock, top: float) -> None:
    if block.last_h <= frame.first_h or block.first_h >= frame.last_h:
        return
    x, wide = frame.x(block.first_h), frame.x(block.last_h) - frame.x(block.first_h)
    if block.key is None:
        svg.rect(x, top + 6, max(0.6, wide), _BAR - 12, block.css)
        return
    with svg.inside(
        "g",
        css=f"block {block.css}",
        tabindex=0,
        role="button",
        aria_label=block.words,
        aria_pressed="false",
        **block.key,
    ):
        svg.add("title", block.words)
        svg.add(
            "rect", x=x, y=top + 6, width=max(3.0, wide), height=_BAR - 12, rx=2, css="block-body"
        )
        # Somewhere to take hold of with a thumb, however short the block is.
        svg.rect(x - 5, top, max(3.0, wide) + 10, _BAR, "block-hold")
        if block.ends:
            svg.rect(x - 4, top + 4, 8, _BAR - 8, "block-end begin")
            svg.rect(x + wide - 4, top + 4, 8, _BAR - 8, "block-end end")
