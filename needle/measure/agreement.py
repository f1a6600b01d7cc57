"""Consistency of volts, amps, watts, VA and power factor read at one moment.

The five over-determine three unknowns (volts, amps, power factor). They are fitted by weighted
least squares on logarithms, where V·I = VA and W = VA·PF are linear. Each residual is divided by
its own standard deviation (the w-test of W. Baarda, "A testing procedure for use in geodetic
networks", 1968); above 3 the set is inconsistent.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from needle import electrical
from needle.document import DocumentError
from needle.measure.instruments import DEFAULT, Instrument

KEYS = ("volts", "amps", "watts", "va", "pf")
NAMES = {"volts": "V", "amps": "A", "watts": "W", "va": "VA", "pf": "PF"}

#: Rows of the logarithmic model; columns are log volts, log amps, log power factor.
_MODEL = {
    "volts": (1.0, 0.0, 0.0),
    "amps": (0.0, 1.0, 0.0),
    "watts": (1.0, 1.0, 1.0),
    "va": (1.0, 1.0, 0.0),
    "pf": (0.0, 0.0, 1.0),
}
BEYOND = 3.0


@dataclass(frozen=True)
class Agreement:
    """The result of checking simultaneous readings.

    Attributes
    ----------
    consistent : bool
        Whether all readings agree within the instrument's accuracy.
    suspect : str or None
        The reading without which the rest agree; None if all agree or no single one can be named.
    volts, amps, watts, va, power_factor, nonactive_va : float or None
        As read if read and not suspect, else computed from the others (V, A, W, VA, share, VA).
    residuals : dict
        Absolute normalised residual of each reading that others can check.
    usable : bool
        False for an impossible set (W above VA) without a single suspect.
    message : str
        The verdict in words.
    """

    consistent: bool
    suspect: str | None
    volts: float | None
    amps: float | None
    watts: float | None
    va: float | None
    power_factor: float | None
    nonactive_va: float | None
    residuals: dict[str, float]
    usable: bool
    message: str


def agree(read: Mapping[str, float], instrument: Instrument = DEFAULT) -> Agreement:
    """Check the readings of one moment against one another.

    Parameters
    ----------
    read : mapping
        Any of ``volts`` (V), ``amps`` (A), ``watts`` (W), ``va`` (VA), ``pf`` (0…1).
    instrument : Instrument
        Instrument, whose accuracy gives the weights.

    Raises
    ------
    DocumentError
        Nothing was read, a value is not finite or is negative, or a power factor is above 1.
    """
    values = {key: float(read[key]) for key in KEYS if read.get(key) is not None}
    _validate(values)
    residuals = _residuals(values, instrument)
    consistent = all(abs(residual) <= BEYOND for residual in residuals.values())
    suspect = None if consistent else _suspect(values, residuals, instrument)
    kept = {key: value for key, value in values.items() if key != suspect}
    filled = _fill(kept)
    impossible = not consistent and suspect is None
    return Agreement(
        consistent=consistent,
        suspect=suspect,
        residuals={key: round(value, 2) for key, value in residuals.items()},
        usable=not impossible,
        message=_message(values, filled, consistent, suspect),
        **filled,
    )


def _validate(values: Mapping[str, float]) -> None:
    if not values:
        raise DocumentError("", "Give at least one of volts, amps, watts, va, pf.")
    for key, value in values.items():
        if not np.isfinite(value) or value < 0:
            raise DocumentError(key, f"{value:g} must be a finite number of at least 0")
    if values.get("pf", 0.0) > 1:
        raise DocumentError("pf", f"{values['pf']:g} cannot be above 1 (write 0.62, not 62)")


def _residuals(values: Mapping[str, float], instrument: Instrument) -> dict[str, float]:
    """Normalised residual of each reading that another reading, or PF ≤ 1, can check."""
    read = {key: values[key] for key in KEYS if values.get(key, 0.0) > 0}
    if not (_checks_itself(read) or read.get("watts", 0.0) > _va(read)):
        return {}
    return {
        key: abs(float(value))
        for key, value in zip(read, _solution(read, instrument), strict=False)
        if np.isfinite(value)
    }


def _solution(read: Mapping[str, float], instrument: Instrument) -> np.ndarray:
    """Normalised residuals of a fit to the readings, in their order."""
    model = np.array([_MODEL[key] for key in read])
    logs = np.log(list(read.values()))
    sigma = np.array([instrument.relative_sd(key, value) for key, value in read.items()])
    solution, log_pf = _normalised(model, logs, sigma)
    if log_pf > 1e-9 and "watts" in read:
        # W above VA: hold the fit to PF = 1, which then leaves a residual to judge.
        model = np.vstack((model, _MODEL["pf"]))
        solution, _ = _normalised(model, np.append(logs, 0.0), np.append(sigma, 1e-4))
    return solution


def _normalised(model: np.ndarray, logs: np.ndarray, sigma: np.ndarray) -> tuple[np.ndarray, float]:
    """Residuals over their own deviation (NaN if nothing checks them), and the fitted log PF."""
    weighted, target = model / sigma[:, None], logs / sigma
    normal_matrix = weighted.T @ weighted
    # A ridge of no weight keeps what was not read, and so is not determined, from being singular.
    ridge = 1e-9 * normal_matrix.trace()
    normal = np.linalg.inv(normal_matrix + ridge * np.eye(3))
    fit = normal @ weighted.T @ target
    free = 1.0 - np.einsum("ij,jk,ik->i", weighted, normal, weighted)
    left = target - weighted @ fit
    checked = free > 1e-6
    return np.where(checked, left / np.sqrt(np.where(checked, free, 1.0)), np.nan), float(fit[2])


def _suspect(
    values: Mapping[str, float], residuals: Mapping[str, float], instrument: Instrument
) -> str | None:
    """The single reading without which the others agree; None if there is none, or any would do.

    W and PF (or V and A) can replace each other: then it is the less precise one.
    """
    candidates = []
    for key in residuals:
        rest = {name: value for name, value in values.items() if name != key}
        left = _residuals(rest, instrument)
        if left and all(abs(residual) <= BEYOND for residual in left.values()):
            candidates.append((-instrument.relative_sd(key, values[key]), key))
    return min(candidates)[1] if candidates else None


def _va(values: Mapping[str, float]) -> float:
    if "va" in values:
        return values["va"]
    if "volts" in values and "amps" in values:
        return electrical.apparent_va(values["volts"], values["amps"])
    return float("inf")


def _fill(kept: Mapping[str, float]) -> dict[str, float | None]:
    """Values as read, with missing ones computed from the others."""
    volts, amps, watts, va, pf = (kept.get(key) for key in KEYS)
    if va is None and volts is not None and amps is not None:
        va = electrical.apparent_va(volts, amps)
    if va is None and watts is not None and pf:
        va = watts / pf
    if watts is None and va is not None and pf is not None:
        watts = va * pf
    if amps is None and va is not None and volts:
        amps = va / volts
    if volts is None and va is not None and amps:
        volts = va / amps
    if watts is not None and va:
        pf = min(1.0, watts / va)
    nonactive = None if watts is None or va is None else electrical.nonactive_va(watts, va)
    return {
        "volts": volts,
        "amps": amps,
        "watts": watts,
        "va": va,
        "power_factor": pf,
        "nonactive_va": nonactive,
    }


def _message(
    values: Mapping[str, float],
    filled: Mapping[str, float | None],
    consistent: bool,
    suspect: str | None,
) -> str:
    facts = []
    if "volts" in values and "amps" in values:
        volts, amps = values["volts"], values["amps"]
        facts.append(f"{volts:g} V × {amps:g} A = {volts * amps:.4g} VA")
    if "watts" in values and values.get("va"):
        facts.append(
            f"{values['watts']:g} W ÷ {values['va']:g} VA = {values['watts'] / values['va']:.3g}"
        )
    checks = ". ".join(facts)
    if suspect == "pf":
        ratio = filled["power_factor"] or 0.0
        return (
            f"W ÷ VA is {ratio:.2f} but PF was read as {values['pf']:.2f}: one of them was "
            f"misread; the others support {ratio:.2f}."
        )
    if suspect is not None:
        name = {"power_factor": "pf"}.get(suspect, suspect)
        better = filled["power_factor" if name == "pf" else name]
        supports = f"; the others support {better:.4g}" if better is not None else ""
        return f"{NAMES[name]} was read as {values[name]:g}, which does not fit the rest{supports}."
    if not consistent and values.get("watts", 0.0) > _va(values):
        return (
            f"{values['watts']:g} W cannot exceed {_va(values):.4g} VA: one of them was misread. "
            "Kept, but not used as evidence; read them again."
        )
    if not consistent:
        return (
            f"{checks}. These do not agree, and which one is wrong cannot be told: read them again."
        )
    if not _checks_itself(values):
        alone = f"{checks}. " if checks else ""
        return f"{alone}Nothing here checks another reading; add volts and amps, VA or PF."
    return f"{checks}. The readings agree." if checks else "The readings agree."


def _checks_itself(values: Mapping[str, float]) -> bool:
    """Whether any reading can be computed from the others: VA from V and A, W from VA and PF."""
    known = values.keys()
    from_label = {"volts", "amps"} <= known
    return (from_label and "va" in known) or (
        {"watts", "pf"} <= known and ("va" in known or from_label)
    )
