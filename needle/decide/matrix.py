"""Every chosen load on every inverter: does it start, with all the others running?"""

from __future__ import annotations

from dataclasses import dataclass

from needle.decide.starting import RANK, Verdict, as_tested, holds_above, will_it_start
from needle.estimate import Estimate
from needle.profile.kinds import Kind
from needle.quantity import with_unit
from needle.supply.inverter import Inverter
from needle.supply.supply import Supply

#: A stepped wave's effect, by what a load is.
MOTOR_ON_STEPS = "runs hot on a stepped wave"
DRIVE_ON_STEPS = "may refuse a stepped wave"
#: Below this charge a start that is bound to fail is worth a word.
WORTH_A_WORD = 0.05


@dataclass(frozen=True)
class Contender:
    """A load as the matrix weighs it.

    Attributes
    ----------
    name : str
    kind : Kind
    running_w : float
        W of its highest state.
    start_va : Estimate
        VA in its first moments.
    start_s : float
        How long these last, s.
    count : int
        How many of them run.
    """

    name: str
    kind: Kind
    running_w: float
    start_va: Estimate
    start_s: float
    count: int = 1


@dataclass(frozen=True)
class Cell:
    """A load on an inverter.

    Attributes
    ----------
    verdict : Verdict
        With the test's word where it was tried.
    tested : bool
    alone : Verdict or None
        What it would do by itself, where all together are too much for the inverter anyway.
    doubt : str
        Empty, or what the far end of the start's range would do.
    warnings : tuple of str
        Of the waveform and of a battery near empty.
    """

    verdict: Verdict
    tested: bool
    alone: Verdict | None
    doubt: str
    warnings: tuple[str, ...]


def cell_of(load: Contender, others_w: float, supply: Supply, tested: str = "") -> Cell | None:
    """Judge one load on one supply; None for a supply without an inverter.

    Parameters
    ----------
    load : Contender
    others_w : float
        W of everything else that runs.
    supply : Supply
    tested : str
        Key of :data:`needle.decide.starting.TESTED`, or "".
    """
    inverter = supply.inverter
    if inverter is None:
        return None

    def judged(start_va: float, beside_w: float) -> Verdict:
        return will_it_start(start_va, load.start_s, load.running_w, beside_w, inverter)

    verdict = judged(load.start_va.value, others_w)
    far = judged(load.start_va.high, others_w)
    alone = None
    if others_w > 0 and not tested and not carries(inverter, others_w + load.running_w):
        alone = judged(load.start_va.value, 0.0)
    doubt = ""
    if not tested and RANK[far.verdict] > RANK[verdict.verdict]:
        word = "is grey" if far.verdict == "grey" else far.verdict
        doubt = f"it may start at up to {with_unit(load.start_va.high, 'VA')}, and then {word}"
    warnings = []
    if inverter.waveform == "stepped" and load.kind.motor:
        warnings.append(MOTOR_ON_STEPS)
    elif inverter.waveform == "stepped" and load.kind.electronic:
        warnings.append(DRIVE_ON_STEPS)
    beside = others_w if carries(inverter, others_w + load.running_w) else 0.0
    asked = (load.start_va.value, load.running_w, beside)
    least = holds_above(*asked, supply.battery, inverter)
    if least is not None and least > max(WORTH_A_WORD, supply.battery.floor):
        warnings.append(
            "the battery gives way at its start"
            if least >= 1.0
            else f"not below {least * 100:.0f} % charge: its start pulls the battery under cut-off"
        )
    if tested:
        verdict = as_tested(verdict, tested)
    return Cell(verdict, bool(tested), alone, doubt, tuple(warnings))


def carries(inverter: Inverter, running_w: float) -> bool:
    """Whether an inverter carries a running sum, W, for any time at all."""
    top = inverter.overload[-1][0] if inverter.overload else 1.0
    return running_w <= inverter.continuous_w * top
