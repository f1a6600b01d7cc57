"""A load with all of its readings."""

from __future__ import annotations

from dataclasses import dataclass

from needle.document import DocumentError
from needle.electrical import MAINS_V
from needle.estimate import Estimate
from needle.measure.readings import Reading


@dataclass(frozen=True)
class LoadRecord:
    """A load with all of its readings.

    Attributes
    ----------
    name : str
    kind : str
        Key of :data:`needle.profile.kinds.KINDS`.
    readings : tuple of Reading
        In any order.
    mains_v : float
        Mains voltage, used for readings without volts, V.
    setting : str
        Setting of the profile; empty to choose the best measured one.
    hours_per_day : float or None
        Hours of use per day, for loads that run only when used.
    never_rarer : bool
        Whether it is known to have no rare state, such as a defrost.
    set_c : float or None
        Set point, °C.
    dc : bool
        Whether it runs on DC: volts times amps are then watts, and there is no power factor.
    in_panel : bool
        Whether it is hard-wired or on both legs of split mains: no plug meter fits it.
    legs_open : bool
        Whether its mains are split and nobody said if it is on one leg or on both.
    runs_by : str
        Who decides when it runs, a key of :data:`needle.profile.kinds.RUNS_BY`; empty if nobody
        said.
    uses_per_day : Estimate or None
        How often a day it is used, as people say.
    use_min : float or None
        How long each time, min, as people say.
    in_hours : bool
        Whether it is used for some hours of the day, which are known.
    """

    name: str
    kind: str
    readings: tuple[Reading, ...]
    mains_v: float = MAINS_V
    setting: str = ""
    hours_per_day: float | None = None
    never_rarer: bool = False
    set_c: float | None = None
    dc: bool = False
    in_panel: bool = False
    legs_open: bool = False
    runs_by: str = ""
    uses_per_day: Estimate | None = None
    use_min: float | None = None
    in_hours: bool = False


class NoEvidence(DocumentError):
    """Raised when no reading gives any power or energy."""
