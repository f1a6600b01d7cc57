"""Contents of a load's power-factor page."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.utils.safestring import SafeString

from needle.decide.power_factor import (
    STOCK_UF,
    Correction,
    Sanity,
    battery_saving_w,
    correct,
    sanity,
)
from needle.electrical import nonactive_va
from needle.estimate import Z90, Estimate
from needle.profile.states import RESTING
from needle.quantity import hours_text, significant, with_unit
from needle.supply.inverter import dc_w
from needle.supply.supply import Supply as CoreSupply
from web.common.units import said
from web.drawing.triangle import TriangleSide, triangle
from web.loads.models import Load
from web.matching.models import Correction as Tried
from web.plans.outcomes import Answer, hours_gained_by

#: A meter's accuracy in each of two readings, for the range of their difference.
METER_SHARE = 0.01


@dataclass(frozen=True)
class Running:
    """W, VA and V of the running motor, their source, and the power factor's range."""

    watts: float
    va: float
    volts: float
    source: str
    factor: Estimate | None = None


@dataclass(frozen=True)
class Trial:
    """A capacitor that was tried: the stored readings and their result."""

    stored: Tried
    check: Sanity
    pf_without: float
    pf_with: float
    amps_without: float
    amps_with: float
    battery_a: tuple[float | None, float | None]
    saving: str


@dataclass(frozen=True)
class CorrectionPage:
    """A load's power-factor page. ``refused`` is why a correction does not apply, or empty."""

    load: Load
    refused: str
    running: Running | None
    correction: Correction | None
    uf_range: str
    drawing: SafeString | None
    battery: list[tuple[str, str, str]]
    saving: str
    trials: list[Trial]
    states: list[str]


def metered_states(load: Load) -> list[str]:
    """States with metered W and power factor, in the current setting."""
    profile = load.profile()
    states = profile.states if profile else ()
    return [
        state.name
        for state in states
        if state.power_factor is not None
        and state.watts.grade < "D"
        and state.setting in ("", profile.setting if profile else "")
        and state.name not in RESTING
    ]


def running_of(load: Load, wanted: str = "") -> Running | None:
    """Metered W and VA of a state, else of running; None with general values only."""
    profile, volts = load.profile(), load.volts() or load.mains_v
    if profile is not None and wanted in metered_states(load):
        state = next(state for state in profile.states if state.name == wanted)
        assert state.power_factor is not None
        va = state.watts.value / state.power_factor.value
        return Running(
            state.watts.value,
            va,
            volts,
            f"{state.name}: {said(state.power_factor.how[-1])}",
            state.power_factor,
        )
    if profile is None or profile.power_factor.grade == "D" or profile.running_w.grade == "D":
        return None
    va = profile.running_w.value / profile.power_factor.value
    source = said(profile.power_factor.how[-1])
    return Running(profile.running_w.value, va, volts, source, profile.power_factor)


def page_of(
    load: Load,
    running: Running | None,
    target: float,
    current: Answer,
    stock_uf: Sequence[float] = STOCK_UF,
) -> CorrectionPage:
    """Compute the page.

    Parameters
    ----------
    load : Load
    running : Running or None
        From the bench, or from its readings.
    target : float
        Target power factor.
    current : Answer
        Answer to the current plan: its supply, and hours gained by a saving.
    stock_uf : sequence of float
        Available values, µF.
    """
    trials = [_trial(load, correction, current) for correction in load.corrections.live()][::-1]
    refused = load.core_kind.no_capacitor
    if refused or running is None:
        return CorrectionPage(load, refused, running, None, "", None, [], "", trials, [])
    hertz = load.job.mains_hz
    tried = trials[0].stored if trials else None
    fitted = tried.fitted_uf if tried else None
    correction = correct(running.watts, running.va, running.volts, hertz, target, fitted, stock_uf)
    core = None if current.supply is None else current.supply.to_core()
    return CorrectionPage(
        load=load,
        refused="",
        running=running,
        correction=correction,
        uf_range=_uf_range(running, target, hertz),
        drawing=_triangle(running, correction, fitted),
        battery=_battery(running, correction, core),
        saving=_predicted(load, running, correction, core, current),
        trials=trials,
        states=metered_states(load),
    )


def _uf_range(running: Running, target: float, hertz: float) -> str:
    """µF to the target at both ends of the power factor's range."""
    if running.factor is None or running.factor.spread == 0:
        return ""
    ends = []
    for factor in (running.factor.high, running.factor.low):
        va = running.watts / min(1.0, factor)
        ends.append(correct(running.watts, va, running.volts, hertz, target).to_target_uf)
    return f"{significant(ends[0], 2)}–{significant(ends[1], 2)} µF"


def _triangle(running: Running, correction: Correction, fitted: float | None) -> SafeString:
    watts, lagging = running.watts, correction.nonactive_va
    used = fitted if fitted is not None else correction.choose_uf
    before = TriangleSide(
        watts, lagging, f"{with_unit(running.va, 'VA')}, PF {correction.power_factor_before:.2f}"
    )
    if not used:
        description = f"{with_unit(watts, 'W')}, {before.words}"
        return triangle(
            before,
            None,
            (with_unit(watts, "W"), with_unit(lagging, "var"), ""),
            "Power triangle",
            description,
        )
    after_va = correction.amps_after * running.volts
    left = nonactive_va(watts, after_va)
    after = TriangleSide(
        watts, left, f"{with_unit(after_va, 'VA')}, PF {correction.power_factor_after:.2f}"
    )
    taken = f"{with_unit(lagging - left, 'var')} by {used:g} µF"
    return triangle(
        before,
        after,
        (with_unit(watts, "W"), taken, f"{with_unit(left, 'var')} left"),
        "Power triangle without and with the capacitor",
        f"without {before.words}; with {after.words}",
    )


def _battery(
    running: Running, correction: Correction, core: CoreSupply | None
) -> list[tuple[str, str, str]]:
    """Rows of the table: figure, without, with."""
    rows = [
        (
            "power factor",
            f"{correction.power_factor_before:.2f}",
            f"{correction.power_factor_after:.2f}",
        ),
        ("AC amps", f"{correction.amps_before:.2f} A", f"{correction.amps_after:.2f} A"),
    ]
    if core is None or core.inverter is None or core.battery.volts is None:
        return rows
    inverter = core.inverter
    figures = (inverter.idle_w.value, inverter.efficiency.value)
    plain = float(dc_w(running.watts, *figures))
    square = inverter.square_per_w.value
    after_va = correction.amps_after * running.volts
    before, after = (plain + square * va**2 for va in (running.va, after_va))
    volts = core.battery.volts
    return [
        *rows,
        ("W at the battery", with_unit(before, "W"), with_unit(after, "W")),
        ("battery amps", f"{before / volts:.3g} A", f"{after / volts:.3g} A"),
    ]


def _predicted(
    load: Load, running: Running, correction: Correction, core: CoreSupply | None, current: Answer
) -> str:
    """Predicted saving at the battery, if the inverter's losses are known."""
    if core is None or core.inverter is None or correction.amps_after >= correction.amps_before:
        return ""
    inverter = core.inverter
    if inverter.square_per_w.value <= 0:
        return (
            "What it saves at the battery is not known: an efficiency test of the inverter shows "
            "how its losses grow with the current."
        )
    after_va = correction.amps_after * running.volts
    saved = battery_saving_w(running.watts, running.va, after_va, inverter)
    won = _hours_gained(load, current, power_factor=min(1.0, running.watts / after_va))
    return (
        f"About {with_unit(saved, 'W', 2)} less at the battery while it runs, by the inverter's "
        f"fitted losses.{won}"
    )


def _hours_gained(load: Load, current: Answer, **draw: Any) -> str:
    """Hours that a changed load gains in the current plan, as a sentence.

    ``draw`` are figures of :class:`needle.plan.load.LoadDraw`.
    """
    won = hours_gained_by(current, load, **draw)
    if won is None:
        return f" {load.name} is not in {current.plan.name}."
    low, value, high = (max(0.0, hours) for hours in won)
    if high * 60 < 1:
        return f" In {current.plan.name} that is less than a minute more."
    words = [hours_text(hours, exact=True) for hours in (value, low, high)]
    return f" In {current.plan.name} that is {words[0]} more ({words[1]} to {words[2]})."


def _trial(load: Load, tried: Tried, current: Answer) -> Trial:
    volts = load.volts() or load.mains_v
    before = (tried.watts_without, tried.va_without)
    after = (tried.watts_with, tried.va_with)
    check = sanity(before, after, tried.fitted_uf, volts, load.job.mains_hz)
    return Trial(
        stored=tried,
        check=check,
        pf_without=before[0] / before[1],
        pf_with=after[0] / after[1],
        amps_without=before[1] / volts,
        amps_with=after[1] / volts,
        battery_a=_battery_amps(tried, current),
        saving=_measured(load, tried, current),
    )


def _battery_amps(tried: Tried, current: Answer) -> tuple[float | None, float | None]:
    """Battery current from the W read there, at its nominal volts."""
    volts = None if current.supply is None else current.supply.to_core().battery.volts
    read = (tried.battery_w_without, tried.battery_w_with)
    without, with_it = (None if watts is None or not volts else watts / volts for watts in read)
    return without, with_it


def _measured(load: Load, tried: Tried, current: Answer) -> str:
    """Measured saving at the battery, with the meters' accuracy."""
    without, with_it = tried.battery_w_without, tried.battery_w_with
    if without is None or with_it is None:
        return "Read the watts at the battery too, and the saving is measured."
    saved = without - with_it
    doubt = METER_SHARE / 3**0.5 * (without**2 + with_it**2) ** 0.5
    saving = f"{with_unit(abs(saved), 'W', 2)} ± {with_unit(Z90 * doubt, 'W', 2)}"
    if abs(saved) < Z90 * doubt:
        return f"No saving at the battery that these meters could show ({saving})."
    word = "less" if saved > 0 else "more"
    efficiency = 0.9
    if current.supply is not None and (inverter := current.supply.to_core().inverter):
        efficiency = inverter.efficiency.value
    profile, won = load.profile(), ""
    if profile is not None and saved > 0:
        running_w = max(0.0, profile.running_w.value - saved * efficiency)
        won = _hours_gained(load, current, running_w=running_w)
    return f"{saving} {word} at the battery, as read.{won}"
