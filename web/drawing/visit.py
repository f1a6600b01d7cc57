"""A measuring round over its hours: the person's time, and a lane for each meter."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.utils.safestring import SafeString

from web.common.units import clock
from web.drawing.scale import round_moments
from web.drawing.svg import Svg
from web.drawing.timeline import Paper

_HEAD, _LANE, _BAR = 26, 40, 24
#: Width of a letter in a bar, about.
_LETTER = 6.6


@dataclass(frozen=True)
class VisitBlock:
    """A block on a lane: times, text, and class."""

    first: datetime
    last: datetime
    words: str
    css: str


@dataclass(frozen=True)
class VisitLane:
    """A lane: the person's time, or a meter."""

    name: str
    sub: str
    blocks: Sequence[VisitBlock]


def visit_lanes(
    begins: datetime, ends: datetime, lanes: Sequence[VisitLane], now: datetime | None, paper: Paper
) -> SafeString:
    """Draw the lanes, with a line at ``now`` if it is within the visit."""
    lane_tall = _LANE + paper.above
    height = _HEAD + lane_tall * len(lanes) + 4
    told = f"From {clock(begins)} to {clock(ends)}, {len(lanes) - 1} meters"
    svg = Svg(paper.width, height, "The round", told, "timeline visit")
    span = (ends - begins).total_seconds()
    midnight = begins.replace(hour=0, minute=0, second=0, microsecond=0)

    def x(moment: datetime) -> float:
        share = (moment - begins).total_seconds() / span
        return paper.left + paper.plot * min(1.0, max(0.0, share))

    zero = (midnight - begins).total_seconds()
    for second in round_moments(0.0, span, zero, paper.ticks):
        moment = begins + timedelta(seconds=second)
        svg.line(x(moment), _HEAD - 6, x(moment), height, "grid")
        if x(moment) < paper.width - 40:
            svg.words(x(moment) + 3, 14, clock(moment), "tick-label")
    for number, lane in enumerate(lanes):
        top = _HEAD + number * lane_tall + paper.above
        svg.words(2, top - 4 if paper.above else top + 12, lane.name, "lane-name")
        if lane.sub and not paper.above:
            svg.words(2, top + 26, lane.sub, "lane-sub")
        svg.rect(paper.left, top + 4, paper.plot, _BAR, "lane")
        for block in lane.blocks:
            _block(svg, paper, block, x(block.first), x(block.last), top + 4)
    if now is not None and begins <= now <= ends:
        svg.line(x(now), _HEAD - 6, x(now), height, "now-line")
    return svg.render()


def _block(svg: Svg, paper: Paper, block: VisitBlock, x: float, end: float, top: float) -> None:
    wide = max(3.0, end - x)
    with svg.inside("g"):
        svg.add("title", f"{block.words}, {clock(block.first)} to {clock(block.last)}")
        svg.rect(x, top, wide, _BAR, block.css)
        room = int(wide / _LETTER) - 1
        if room >= 6:
            words = block.words if len(block.words) <= room else f"{block.words[: room - 1]}…"
            svg.words(x + 5, top + 16, words, "visit-words")
