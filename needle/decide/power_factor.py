"""Power-factor correction of a single induction motor by a parallel capacitor.

A capacitor draws Q = 2π·f·C·V² var of leading current, which cancels as much of the motor's lagging
non-active power N = √(S² − P²) (IEEE Std 1459-2010, sinusoidal case). It does not correct
distortion, so callers refuse electronic loads and drives.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

from needle.document import DocumentError
from needle.electrical import nonactive_va
from needle.message import Message, message
from needle.supply.inverter import Inverter, dc_w

#: Usual target; beyond 1 the current leads, which upsets inverters.
TARGET = 0.95
#: Motor-run values commonly in stock, µF.
STOCK_UF = (4.0, 5.0, 8.0, 10.0, 12.0, 16.0, 20.0, 25.0, 30.0)
CAUTION = message("capacitor-caution")


@dataclass(frozen=True)
class Correction:
    """Effect of a capacitor.

    Attributes
    ----------
    nonactive_va : float
        Non-active power without a capacitor, VA (var).
    to_unity_uf, to_target_uf : float
        Capacitance to a power factor of 1 and to the target, µF.
    choose_uf : float or None
        Largest stock value, or parallel pair, up to the target; None if there is none.
    choose_from : tuple of float
        The values that it consists of.
    power_factor_before, power_factor_after : float
        Power factor before, and after (with the fitted capacitor, else with the chosen one).
    amps_before, amps_after : float
        Line current, A.
    missing_uf : float
        Capacitance still missing to the target, µF.
    warnings : tuple of str
    """

    nonactive_va: float
    to_unity_uf: float
    to_target_uf: float
    choose_uf: float | None
    choose_from: tuple[float, ...]
    power_factor_before: float
    power_factor_after: float
    amps_before: float
    amps_after: float
    missing_uf: float
    warnings: tuple[Message, ...]


def capacitance_uf(var: float, volts: float, hertz: float) -> float:
    """Capacitance that draws a number of var, µF: C = Q / (2π·f·V²)."""
    return var / (2 * math.pi * hertz * volts**2) * 1e6


def leading_var(uf: float, volts: float, hertz: float) -> float:
    """var that a capacitance draws."""
    return 2 * math.pi * hertz * uf * 1e-6 * volts**2


def choose(target_uf: float, stock_uf: Sequence[float]) -> tuple[float, ...]:
    """The largest stock value or parallel pair up to a capacitance, one part before two."""
    options: list[tuple[float, ...]] = [(value_uf,) for value_uf in stock_uf]
    options += list(itertools.combinations_with_replacement(sorted(stock_uf, reverse=True), 2))
    fitting = [option for option in options if sum(option) <= target_uf + 1e-9]
    return max(fitting, key=lambda option: (round(sum(option), 9), -len(option)), default=())


def correct(
    watts: float,
    va: float,
    volts: float,
    hertz: float,
    target: float = TARGET,
    fitted_uf: float | None = None,
    stock_uf: Sequence[float] = STOCK_UF,
) -> Correction:
    """Return the correction of a motor's power factor.

    Parameters
    ----------
    watts, va : float
        Running W and VA, without a capacitor.
    volts, hertz : float
        Mains voltage and frequency.
    target : float
        Power factor wanted, above 0, at most 1.
    fitted_uf : float or None
        Capacitor already fitted, µF.
    stock_uf : sequence of float
        Available values, µF.

    Raises
    ------
    DocumentError
        A figure is impossible.
    """
    _validate(watts, va, volts, hertz, target, fitted_uf, stock_uf)
    lagging = nonactive_va(watts, va)
    unity = capacitance_uf(lagging, volts, hertz)
    allowed = watts * math.tan(math.acos(target))
    to_target = max(0.0, capacitance_uf(lagging - allowed, volts, hertz))
    chosen = choose(to_target, stock_uf)
    used = fitted_uf if fitted_uf is not None else sum(chosen)
    after_va = math.hypot(watts, lagging - leading_var(used, volts, hertz))
    return Correction(
        nonactive_va=lagging,
        to_unity_uf=unity,
        to_target_uf=to_target,
        choose_uf=sum(chosen) if chosen else None,
        choose_from=chosen,
        power_factor_before=watts / va,
        power_factor_after=watts / after_va,
        amps_before=va / volts,
        amps_after=after_va / volts,
        missing_uf=max(0.0, to_target - used),
        warnings=_warnings(watts / va, target, used, unity, to_target, chosen),
    )


def _is_positive(value: float) -> bool:
    return math.isfinite(value) and value > 0


def _validate(
    watts: float,
    va: float,
    volts: float,
    hertz: float,
    target: float,
    fitted_uf: float | None,
    stock_uf: Sequence[float],
) -> None:
    for name, value in (("watts", watts), ("va", va), ("volts", volts), ("hertz", hertz)):
        if not _is_positive(value):
            raise DocumentError(name, f"{value:g} must be a finite number above 0")
    if watts > va:
        raise DocumentError("watts", f"{watts:g} W cannot exceed {va:g} VA: read them again")
    if not 0 < target <= 1:
        raise DocumentError("target", f"{target:g} must be above 0 and at most 1")
    if fitted_uf and not _is_positive(fitted_uf):
        raise DocumentError("fitted_uf", f"{fitted_uf:g} must be a finite number of at least 0")
    if not all(map(_is_positive, stock_uf)):
        raise DocumentError("stock", "values must be finite and above 0, such as 4,5,8")


def _warnings(
    before: float,
    target: float,
    used_uf: float,
    unity_uf: float,
    target_uf: float,
    chosen: Sequence[float],
) -> tuple[Message, ...]:
    warnings = []
    if before >= target:
        warnings.append(message("pf-good-already", power_factor=before))
    elif not chosen:
        warnings.append(message("no-stock-value", target_uf=target_uf))
    if used_uf > unity_uf + 1e-9:
        warnings.append(message("beyond-unity", used_uf=used_uf, unity_uf=unity_uf))
    return (*warnings, CAUTION)


#: Largest relative difference between fitted plus missing and the first estimate that passes.
SANE_WITHIN = 0.15


@dataclass(frozen=True)
class Sanity:
    """Fitted plus missing capacitance against the first estimate, to a power factor of 1, µF."""

    first_uf: float
    fitted_uf: float
    missing_uf: float
    off: float
    agrees: bool
    verdict: Message


def sanity(
    before: tuple[float, float],
    after: tuple[float, float],
    fitted_uf: float,
    volts: float,
    hertz: float,
) -> Sanity:
    """Whether readings with a capacitor fitted confirm those without.

    Parameters
    ----------
    before, after : (W, VA)
        Without and with the capacitor.
    fitted_uf : float
        Capacitor fitted, µF.
    volts, hertz : float
        Mains voltage and frequency.

    Raises
    ------
    DocumentError
        A figure is impossible.
    """
    for watts, va in (before, after):
        _validate(watts, va, volts, hertz, TARGET, fitted_uf, ())
    first = capacitance_uf(nonactive_va(*before), volts, hertz)
    left = capacitance_uf(nonactive_va(*after), volts, hertz)
    # Beyond unity the same VA lies on the leading side: more is fitted than was missing.
    missing = left if abs(fitted_uf + left - first) <= abs(fitted_uf - left - first) else -left
    off = (fitted_uf + missing - first) / first if first > 0 else 0.0
    agrees = abs(off) <= SANE_WITHIN
    verdict = message(
        "capacitance-agrees" if agrees else "capacitance-differs",
        fitted_uf=fitted_uf,
        missing_uf=missing,
        first_uf=first,
    )
    return Sanity(first, fitted_uf, missing, off, agrees, verdict)


def battery_saving_w(watts: float, before_va: float, after_va: float, inverter: Inverter) -> float:
    """Power at the battery that the smaller current saves in the inverter's square loss, W.

    The square loss was fitted at power factor 1, where W are VA: it is a loss of the current.
    Without a known square loss the result is zero.
    """
    figures = (inverter.idle_w.value, inverter.efficiency.value)
    square = inverter.square_per_w.value
    plain = float(dc_w(watts, *figures))
    return (plain + square * before_va**2) - (plain + square * after_va**2)
