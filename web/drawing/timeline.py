"""A plan over its hours: stored, drawn, and lanes of loads and sources, on one scale of time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from django.utils.safestring import SafeString

from web.drawing.scale import hour_step
from web.drawing.svg import Attribute, Svg

WIDTH = 880
LEFT, _RIGHT = 142, 10
PLOT = WIDTH - LEFT - _RIGHT
_HEAD = 26
_STORED, _DRAWN, _GAP = 116, 84, 32
LANE = 30
#: Where the words beside a mark would leave the drawing.
_NEAR_END = 130


@dataclass(frozen=True)
class Frame:
    """The hours shown: when the plan starts, first hour, how many, and spans of night (hours)."""

    start: datetime
    first_h: float
    span_h: float
    nights: Sequence[tuple[float, float]] = ()

    @property
    def last_h(self) -> float:
        return self.first_h + self.span_h

    def x(self, hour: float) -> float:
        """Where an hour falls, kept inside the plot."""
        share = (hour - self.first_h) / self.span_h
        return LEFT + PLOT * min(1.0, max(0.0, share))

    def shows(self, hour: float) -> bool:
        return self.first_h <= hour <= self.last_h


@dataclass(frozen=True)
class Charge:
    """Stored charge: hours, and shares low, likely and high, all of one length."""

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
    """W by the minute from the plan's start; a limit in W with its words; where it trips.

    ``ticks`` are amounts to mark, with their words.
    """

    watts: np.ndarray
    limit_w: float | None
    limit_text: str
    trips: Sequence[tuple[float, str]] = ()
    ticks: Sequence[tuple[float, str]] = ()

    @property
    def most_w(self) -> float:
        """The top of its scale, W."""
        return 1.12 * max(float(self.watts.max(initial=1.0)), self.limit_w or 0.0)


@dataclass(frozen=True)
class LaneBlock:
    """A stretch of a lane: hours from the start, its class, its words.

    ``key`` (attributes of its element) makes it one that can be chosen and moved; ``ends`` whether
    it can be stretched.
    """

    first_h: float
    last_h: float
    css: str
    words: str = ""
    key: dict[str, Attribute] | None = None
    ends: bool = False


@dataclass(frozen=True)
class Lane:
    """One load or source: name, a line beneath, where the name leads, what stands in it.

    ``area`` holds shares 0…1 by the minute; ``crosses`` hours with words at which it trips.
    """

    name: str
    sub: str
    href: str = ""
    blocks: Sequence[LaneBlock] = ()
    area: np.ndarray | None = None
    crosses: Sequence[tuple[float, str]] = ()


@dataclass(frozen=True)
class _Axis:
    """A vertical scale: top and height in the drawing, the amount at its top."""

    top: float
    tall: float
    most: float

    def y(self, amount: float) -> float:
        return self.top + self.tall * (1 - amount / self.most)


def charts(
    frame: Frame, charge: Charge, power: Power, names: tuple[str, str, str, str], description: str
) -> SafeString:
    """Draw stored charge and drawn power; ``names`` of both, with a line beneath each."""
    height = _HEAD + _STORED + _GAP + _DRAWN + 8
    svg = Svg(WIDTH, height, "Stored and drawn", description, "timeline charts")
    clip = svg.clip("charts-plot", LEFT, 0, PLOT, height)
    _time(svg, frame, height, words=True)
    stored = _Axis(_HEAD, _STORED, 1.0)
    _stored(svg, frame, charge, stored, clip)
    drawn = _Axis(_HEAD + _STORED + _GAP, _DRAWN, power.most_w)
    _drawn(svg, frame, power, drawn)
    if frame.shows(charge.needed_h):
        at = frame.x(charge.needed_h)
        svg.line(at, _HEAD - 4, at, height - 8, "needed")
        late = at > WIDTH - _NEAR_END
        svg.words(at + (-6 if late else 6), _HEAD + 12, "needed until here", "mark-label",
                  "end" if late else "start")  # fmt: skip
    for index, axis in enumerate((stored, drawn)):
        svg.words(2, axis.top + 12, names[2 * index], "lane-name")
        svg.words(2, axis.top + 28, names[2 * index + 1], "lane-sub")
    return svg.render()


def _time(svg: Svg, frame: Frame, height: float, words: bool) -> None:
    """Nights, and marks at whole clock hours; the weekday at the first and at each midnight."""
    for first, last in frame.nights:
        if last > frame.first_h and first < frame.last_h:
            svg.rect(frame.x(first), _HEAD if words else 0, frame.x(last) - frame.x(first),
                     height - (_HEAD if words else 0), "night")  # fmt: skip
    step = hour_step(frame.span_h, 8)
    moment = (frame.start + timedelta(hours=frame.first_h)).replace(
        minute=0, second=0, microsecond=0
    )
    last_day = None
    while (hour := (moment - frame.start).total_seconds() / 3600) <= frame.last_h:
        if frame.shows(hour) and moment.hour % min(step, 24) == 0:
            days = (moment.date() - frame.start.date()).days
            if step <= 24 or days % (step // 24) == 0:
                at = frame.x(hour)
                svg.line(at, _HEAD if words else 0, at, height, "grid")
                if words and at < WIDTH - 40:
                    day = "" if moment.date() == last_day else f"{moment:%a} "
                    last_day = moment.date()
                    svg.words(at + 4, _HEAD - 8, f"{day}{moment:%H:%M}", "tick-label")
        moment += timedelta(hours=1)


def _stored(svg: Svg, frame: Frame, charge: Charge, axis: _Axis, clip: str) -> None:
    for share in (0.0, 0.5, 1.0):
        svg.line(LEFT, axis.y(share), WIDTH - _RIGHT, axis.y(share), "grid")
        svg.words(LEFT - 6, axis.y(share) + 4, f"{share * 100:.0f} %", "tick-label", "end")

    def points(shares: Sequence[float]) -> list[tuple[float, float]]:
        """The line inside the hours shown, its ends worked out."""
        inside = [h for h in charge.hours if frame.first_h < h < frame.last_h]
        at = [frame.first_h, *inside, min(frame.last_h, charge.hours[-1])]
        values = np.interp(at, charge.hours, shares)
        return [(frame.x(h), axis.y(s)) for h, s in zip(at, values, strict=True)]

    with svg.inside("g", clip_path=clip):
        svg.path(points(charge.high) + points(charge.low)[::-1], "band", closed=True)
        svg.line(LEFT, axis.y(charge.floor), WIDTH - _RIGHT, axis.y(charge.floor), "floor")
        svg.path(points(charge.likely), "likely")
    svg.words(
        WIDTH - _RIGHT - 6, axis.y(charge.floor) - 5, f"floor {charge.floor * 100:.0f} %",
        "limit-label", "end",
    )  # fmt: skip
    if charge.stop_h is not None and frame.shows(charge.stop_h):
        at = frame.x(charge.stop_h)
        svg.line(at, axis.y(charge.floor) - 8, at, axis.y(charge.floor) + 8, "stop")
        anchor = "end" if at > WIDTH - _NEAR_END else "start" if at < LEFT + _NEAR_END else "middle"
        svg.words(at, axis.y(0) + 17, charge.stop_text, "stop-label", anchor)


def _drawn(svg: Svg, frame: Frame, power: Power, axis: _Axis) -> None:
    for amount, words in power.ticks:
        svg.line(LEFT, axis.y(amount), WIDTH - _RIGHT, axis.y(amount), "grid")
        svg.words(LEFT - 6, axis.y(amount) + 4, words, "tick-label", "end")
    if power.limit_w is not None:
        at = axis.y(power.limit_w)
        svg.rect(LEFT, axis.top, PLOT, at - axis.top, "over-limit")
        svg.line(LEFT, at, WIDTH - _RIGHT, at, "floor")
        svg.words(LEFT + 6, at + 14, power.limit_text, "limit-label")
    heights = _columns(power.watts, frame)
    if len(heights):
        wide = PLOT * (min(frame.last_h, len(power.watts) / 60) - frame.first_h) / frame.span_h
        xs = LEFT + np.arange(len(heights) + 1) * (wide / len(heights))
        outline = [(float(LEFT), axis.y(0))]
        for index, watts in enumerate(heights):
            outline += [(float(xs[index]), axis.y(watts)), (float(xs[index + 1]), axis.y(watts))]
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
    """The highest W in each column of the plot."""
    first, last = round(frame.first_h * 60), round(frame.last_h * 60)
    shown = watts[first:last]
    if not len(shown):
        return shown
    edges = np.unique(np.linspace(0, len(shown), min(len(shown), PLOT), endpoint=False).astype(int))
    return np.maximum.reduceat(shown, edges)


def lanes(
    frame: Frame, rows: Sequence[Lane], title: str, ghosts: Sequence[tuple[int, LaneBlock]] = ()
) -> SafeString:
    """Draw lanes beneath one another; ``ghosts`` are blocks proposed, with their lane's number."""
    height = LANE * len(rows) + 4
    svg = Svg(WIDTH, height, title, "", "timeline lanes", role="group")
    _time(svg, frame, height, words=False)
    for number, lane in enumerate(rows):
        top = number * LANE + 2
        svg.rect(LEFT, top + 5, PLOT, LANE - 10, "lane")
        if lane.href:
            with svg.inside("a", href=lane.href):
                svg.words(2, top + 13, _short(lane.name), "lane-name")
        else:
            svg.words(2, top + 13, _short(lane.name), "lane-name")
        svg.words(2, top + 26, lane.sub, "lane-sub")
        if lane.area is not None:
            _area(svg, frame, lane.area, top)
        for block in lane.blocks:
            _block(svg, frame, block, top)
        for hour, words in lane.crosses:
            if frame.shows(hour):
                with svg.inside("g"):
                    svg.add("title", words)
                    _cross(svg, frame.x(hour), top + LANE / 2)
    for number, block in ghosts:
        _block(svg, frame, block, number * LANE + 2)
    return svg.render()


def _short(name: str) -> str:
    return name if len(name) <= 21 else f"{name[:20].rstrip()}…"


def _area(svg: Svg, frame: Frame, shares: np.ndarray, top: float) -> None:
    heights = _columns(shares, frame)
    if not len(heights):
        return
    base, tall = top + LANE - 5, LANE - 10
    wide = PLOT * (min(frame.last_h, len(shares) / 60) - frame.first_h) / frame.span_h
    xs = np.linspace(LEFT, LEFT + wide, len(heights))
    line = [(float(x), base - tall * float(h)) for x, h in zip(xs, heights, strict=True)]
    svg.path([(LEFT, base), *line, (float(xs[-1]), base)], "sun-area", closed=True)


def _block(svg: Svg, frame: Frame, block: LaneBlock, top: float) -> None:
    if block.last_h <= frame.first_h or block.first_h >= frame.last_h:
        return
    x, wide = frame.x(block.first_h), frame.x(block.last_h) - frame.x(block.first_h)
    if block.key is None:
        svg.rect(x, top + 6, max(0.6, wide), LANE - 12, block.css)
        return
    with svg.inside(
        "g", css=f"block {block.css}", tabindex=0, role="button", aria_label=block.words,
        aria_pressed="false", **block.key,
    ):  # fmt: skip
        svg.add("title", block.words)
        svg.add("rect", x=x, y=top + 6, width=max(3.0, wide), height=LANE - 12, rx=2,
                css="block-body")  # fmt: skip
        # Somewhere to take hold of with a thumb, however short the block is.
        svg.rect(x - 5, top, max(3.0, wide) + 10, LANE, "block-hold")
        if block.ends:
            svg.rect(x - 4, top + 4, 8, LANE - 8, "block-end begin")
            svg.rect(x + wide - 4, top + 4, 8, LANE - 8, "block-end end")
