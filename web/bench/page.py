"""The page of a capture."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, timedelta
from typing import Any

import numpy as np
from django.utils import timezone
from django.utils.safestring import SafeString

from needle.document import DocumentError
from needle.measure.analysis import Analysis
from needle.quantity import hours_text, with_unit
from web.bench import loggers
from web.bench.models import Capture, Logger
from web.common.units import day_clock, said
from web.drawing.strip import Marks, TimeAxis, minutes_before, strip, thin

#: Slots of time that one view of a chart is thinned to.
SLOTS = 560


@dataclass(frozen=True)
class CapturePage:
    """A capture as figures, a strip and rows.

    ``understood`` lists the columns that were found; ``starts`` and ``segments`` are truncated.
    """

    analysis: Analysis
    strip: SafeString
    understood: str
    span: str
    starts: list[tuple[str, str, str]]
    gaps: int


def page_of(capture: Capture) -> CapturePage:
    """Compute a capture's page.

    Raises
    ------
    DocumentError
    """
    if not capture.packed:
        raise DocumentError("", said(capture.messages[0]) if capture.notices else "it is empty")
    core, analysis = capture.to_core(), capture.analysis()
    watts, _ = core.watts(capture.volts)
    write = _writer(capture, 0.0)
    return CapturePage(
        analysis=analysis,
        strip=strip(
            thin(core.time_s, watts, SLOTS),
            TimeAxis(
                0.0, float(core.time_s[-1]), _writer(capture, core.time_s[-1]), -_clock_s(capture)
            ),
            Marks(
                [
                    (state.watts, f"{state.name} {with_unit(state.watts, 'W')}")
                    for state in analysis.states
                ][-6:],
                [start_event.time_s for start_event in analysis.start_events[:400]],
                _gaps(analysis),
            ),
            f"Power of {capture.name}",
            f"{analysis.pattern}, mean {with_unit(analysis.mean_w, 'W')} over "
            f"{hours_text(analysis.covered_s / 3600, exact=True)}",
        ),
        understood=", ".join(core.columns),
        span=hours_text(analysis.duration_s / 3600, exact=True),
        starts=[
            (
                write(start_event.time_s),
                with_unit(start_event.peak_w, "W"),
                f"{start_event.settle_s:.0f} s",
            )
            for start_event in analysis.start_events[:12]
        ],
        gaps=analysis.gaps,
    )


def _clock_s(capture: Capture) -> float:
    """Start of a capture in seconds since midnight of the job's time zone; else 0."""
    if capture.begins is None:
        return 0.0
    begins = timezone.localtime(capture.begins)
    return begins.hour * 3600 + begins.minute * 60 + begins.second + begins.microsecond / 1e6


def _epoch_s(capture: Capture) -> float:
    if capture.begins is None:
        return 0.0
    return timezone.localtime(capture.begins).replace(tzinfo=UTC).timestamp()


def _writer(capture: Capture, span_s: float) -> Callable[[float], str]:
    """Formatting of a capture's times: by the clock, or since its start.

    Without seconds if ``span_s`` is hours.
    """
    begins = capture.begins
    if begins is None:
        return _since
    with_seconds = span_s <= 2 * 3600

    def write(at_s: float) -> str:
        at = timezone.localtime(begins + timedelta(seconds=at_s))
        return f"{at:%a %H:%M:%S}" if with_seconds else day_clock(at)

    return write


def _since(seconds: float) -> str:
    """Time since a capture began, in hours, minutes and seconds, or in days."""
    minutes, rest = divmod(round(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    if hours >= 48:
        return f"day {hours // 24 + 1} {hours % 24:02d}:{minutes:02d}"
    return f"{hours}:{minutes:02d}:{rest:02d}"


def _gaps(analysis: Analysis) -> list[tuple[float, float]]:
    segments = analysis.segments
    places = np.flatnonzero(~segments.joined[1:])[:200]
    return [(float(segments.end_s[i]), float(segments.start_s[i + 1])) for i in places]


def series_json(capture: Capture, first: float, last: float) -> dict[str, Any]:
    """A window of power: seconds, and minimum and maximum W per slot."""
    core = capture.to_core()
    watts, how = core.watts(capture.volts)
    end = float(core.time_s[-1])
    first = first if math.isfinite(first) else 0.0
    last = last if math.isfinite(last) and last > first else end
    inside = slice(*np.searchsorted(core.time_s, [first, last + 1e-9]))
    thinned, analysis = thin(core.time_s[inside], watts[inside], SLOTS), capture.analysis()
    return {
        "time_s": np.round(thinned.time_s, 2).tolist(),
        "low": np.round(thinned.low, 1).tolist(),
        "high": np.round(thinned.high, 1).tolist(),
        "how": said(how),
        "end_s": end,
        # As if the job's clock were UTC; 0 where only the time since it began is known.
        "clock_s": _epoch_s(capture),
        "levels": [
            [state.watts, f"{state.name} {with_unit(state.watts, 'W')}"]
            for state in analysis.states
        ],
        "starts": [
            start_event.time_s
            for start_event in analysis.start_events
            if first <= start_event.time_s <= last
        ][:400],
    }


#: What is shown of a logger's last minutes, s.
RECENT_S = 900.0


@dataclass(frozen=True)
class LoggerRow:
    """A logger in the list: pending rows, the last power, the last 15 minutes."""

    logger: Logger
    rows: int
    now: str
    strip: SafeString | None


def logger_row(logger: Logger) -> LoggerRow:
    rows = sum(logger.chunks.values_list("rows", flat=True))
    core = loggers.waiting(logger, RECENT_S)
    watts = None if core is None else loggers.watts_now(core)
    if core is None or watts is None:
        return LoggerRow(logger, rows, "–", None)
    power, _ = core.watts()
    last = float(core.time_s[-1])
    first = max(0.0, last - RECENT_S)
    drawing = strip(
        thin(core.time_s, power, 500),
        minutes_before(last, first),
        Marks(),
        f"Last minutes of {logger.name}",
        f"now {with_unit(watts, 'W')}",
        height=170,
    )
    return LoggerRow(logger, rows, with_unit(watts, "W"), drawing)
