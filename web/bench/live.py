"""The present state of a live session: dial, readouts, strip, and findings."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from django.utils.safestring import SafeString

from needle.document import DocumentError
from needle.estimate import Z90
from needle.measure.agreement import agree
from needle.measure.analysis import Analysis, analyse
from needle.measure.capture import Capture as CoreCapture
from needle.measure.steady import Steady, steady_now
from needle.profile.energy import ENOUGH_CYCLES, Cycles, count_error
from needle.quantity import as_read, hours_text, with_unit
from needle.standin.meters import clamp_inrush
from web.bench.models import Session
from web.common.templatetags.words import hours_of
from web.drawing.dial import dial
from web.drawing.strip import Envelope, Marks, minutes_before, strip, thin

STRIP_S = 900.0
#: Moments to which the whole session is thinned.
_GLANCES = 3000
#: Time in which a start's peak on the meter is sought, s.
_AFTER_START_S = 5.0


@dataclass(frozen=True)
class Finding:
    """A finding: what, its figure, and its basis."""

    what: str
    says: str
    why: str


@dataclass(frozen=True)
class Live:
    """Contents of the live page."""

    session: Session
    clock: str
    readouts: list[tuple[str, str, str]]
    dial: SafeString
    strip: SafeString
    steady: Steady
    steady_words: str
    findings: list[Finding]
    enough_words: str
    enough: float
    check: str
    counter_wh: float
    counter_h: float
    counter_words: str
    state: str
    columns: dict[str, float]
    start_a: float | None
    tally_words: str


def look(session: Session) -> Live:
    """Compute what the session's meter shows now."""
    line, meter, now = session.line(), session.core_meter(), session.now_s()
    time = _moments(now, meter.interval_s)
    columns = meter.read(line, time)
    latest = {name: float(values[-1]) for name, values in columns.items()}
    steady = steady_now(time, columns["watts"])
    glance = _glance(session, now)
    counter_wh, counter_h = session.counter(now)
    starts = [start_s for start_s in line.starts_s() if start_s <= now]
    state = _state(latest["watts"], glance)
    enough, enough_words = _enough(glance)
    return Live(
        session=session,
        clock=hours_text(now / 3600, exact=True),
        readouts=_readouts(latest, counter_wh, counter_h),
        dial=_dial(columns["watts"], steady),
        strip=_strip(time, columns["watts"], glance, starts, now),
        steady=steady,
        steady_words=_steady_words(steady),
        findings=_findings(glance, columns, time, starts),
        enough_words=enough_words,
        enough=enough,
        check=agree({k: latest[k] for k in ("volts", "amps", "watts", "va", "pf")}).message,
        counter_wh=counter_wh,
        counter_h=counter_h,
        counter_words=_counter_words(session, counter_wh),
        state=state,
        columns=latest,
        start_a=_clamped(session, starts[-1]) if starts else None,
        tally_words=_tally_words(session),
    )


def _moments(now: float, interval_s: float) -> np.ndarray:
    end = np.floor(now / interval_s) * interval_s
    return np.arange(max(0.0, end - STRIP_S), end + 1e-6, interval_s)


def _glance(session: Session, now: float) -> Analysis | None:
    """The whole session sampled at a few times; None if it is too short."""
    step = max(1.0, now / _GLANCES)
    time = np.arange(0.0, now + 1e-6, step)
    if len(time) < 30:
        return None
    sample = session.line().sample(time)
    try:
        return analyse(CoreCapture(time, {"watts": sample.watts, "va": sample.va}))
    except DocumentError:
        return None


def _state(watts: float, glance: Analysis | None) -> str:
    """Resting or running, from the nearer level."""
    if glance is None or glance.idle_w is None:
        return "running"
    others = [state.watts for state in glance.states if state.watts > glance.idle_w]
    nearest = min(others, key=lambda level_w: abs(level_w - watts), default=glance.idle_w)
    return "resting" if abs(watts - glance.idle_w) < abs(watts - nearest) else "running"


def _readouts(latest: dict[str, float], wh: float, hours: float) -> list[tuple[str, str, str]]:
    minutes, seconds = divmod(round(hours * 3600), 60)
    return [
        ("real power", f"{latest['watts']:.1f}", "W"),
        ("voltage", f"{latest['volts']:.1f}", "V"),
        ("current", f"{latest['amps']:.2f}", "A"),
        ("apparent", f"{latest['va']:.0f}", "VA"),
        ("power factor", f"{latest['pf']:.2f}", "PF"),
        ("frequency", f"{latest['hz']:.1f}", "Hz"),
        ("since reset", f"{wh / 1000:.2f}", "kWh"),
        ("since reset", f"{minutes // 60}:{minutes % 60:02d}:{seconds:02d}", "h"),
    ]


def _dial(watts: np.ndarray, steady: Steady) -> SafeString:
    now = float(watts[-1])
    off = max(steady.within_w, 0.1)
    most = max(float(watts.max()), now, 1.0)
    return dial(
        (max(0.0, now - off), now, now + off),
        None,
        lambda w: f"{w:.3g}",
        "Watts",
        f"{as_read(round(now, 1), 'W')}, within {with_unit(off, 'W')}",
        css="dial big",
        least=most,
    )


def _strip(
    time: np.ndarray, watts: np.ndarray, glance: Analysis | None, starts: list[float], now: float
) -> SafeString:
    levels = []
    if glance is not None:
        levels = [
            (state.watts, f"{state.name} {with_unit(state.watts, 'W')}") for state in glance.states
        ]
        levels = [level for level in levels if level[0] <= watts.max() * 1.05][-4:]
    first = max(0.0, now - STRIP_S)
    return strip(
        thin(time, watts, 700) if len(time) else Envelope(time, watts, watts),
        minutes_before(now, first),
        Marks(levels, [start for start in starts if start >= first]),
        "Last 15 minutes, watts",
        f"from {watts.min():.1f} to {watts.max():.1f} W",
        height=190,
    )


def _steady_words(steady: Steady) -> str:
    if steady.seconds < 1:
        return "needle moving"
    return f"needle steady for {hours_of(steady.seconds)}, ±{max(0.1, steady.within_w):.1f} W"


def _findings(
    glance: Analysis | None, columns: dict[str, np.ndarray], time: np.ndarray, starts: list[float]
) -> list[Finding]:
    findings = []
    recent = [start for start in starts if start >= time[0]]
    if recent:
        after = (time >= recent[-1]) & (time <= recent[-1] + _AFTER_START_S)
        if after.any():
            peak = float(columns["va"][after].max())
            findings.append(
                Finding("start", with_unit(peak, "VA"), "on this meter; a clamp sees more")
            )
    if glance is None:
        return findings
    for state in glance.states[:4]:
        findings.append(
            Finding(state.name, with_unit(state.watts, "W"), f"{state.share * 100:.0f} % of time")
        )
    if glance.duty is not None and glance.whole_cycles:
        duty = glance.duty
        findings.append(
            Finding("duty", f"{duty.value:.2f} ({duty.low:.2f}–{duty.high:.2f})", _cycles(glance))
        )
    findings.append(Finding("mean", with_unit(glance.mean_w, "W"), f"{glance.pattern} so far"))
    return findings


def _cycles(glance: Analysis) -> str:
    return f"{glance.whole_cycles} complete cycle{'' if glance.whole_cycles == 1 else 's'}"


def _enough(glance: Analysis | None) -> tuple[float, str]:
    """How well the duty is known, 0…1 of the way to ±5 %, and in words."""
    if glance is None:
        return 0.0, "Too little seen yet: give it a minute."
    if glance.pattern in ("steady", "modulating"):
        hours = glance.covered_s / 3600
        need = 2.0 if glance.pattern == "steady" else 24.0
        left = max(0.0, need - hours)
        words = f"{hours_text(left)} more make grade A." if left else "Long enough for grade A."
        return min(1.0, hours / need), f"It never rests. {words}"
    if glance.duty is None or not glance.whole_cycles or glance.period_s is None:
        return 0.05, "No complete cycle yet: wait for a second start."
    cycles = Cycles.of(glance.duty, glance.whole_cycles, glance.period_s / 60)
    known = glance.duty.spread * Z90 * 100
    need = max(cycles.more_cycles, ENOUGH_CYCLES - glance.whole_cycles)
    head = f"{_cycles(glance)} seen. Duty known to ±{known:.0f} %."
    if need <= 0:
        return 1.0, f"{head} Long enough for grade A."
    share = glance.whole_cycles / (glance.whole_cycles + need)
    hours = need * glance.period_s / 3600
    return share, f"{head} About {hours_text(hours)} more brings it to ±5 % and grade A."


def _clamped(session: Session, start_s: float) -> float:
    return clamp_inrush(session.line(), start_s, session.seed, session.whole_cable)


def _counter_words(session: Session, wh: float) -> str:
    if session.reset_s is None:
        return "It was not reset since somebody else used it: press Z, then let it count."
    error = count_error(wh, 10.0)
    if error == float("inf"):
        return "The counter's last digit has not moved yet."
    return f"Its last digit alone is ±{error * 100:.0f} %." if error > 0.05 else ""


def _tally_words(session: Session) -> str:
    if not session.tally:
        return "no moment noted"
    name, at = session.tally[-1]
    return f"{len(session.tally)} moments, last “{name}” at {hours_text(at / 3600, exact=True)}"
