"""A load as a plan uses it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from needle.profile.profile import Profile
from needle.usage.schedule import AT_ANY_HOUR, text_of_use
from web.common.units import clocks
from web.loads.models import Load
from web.plans.models import PlanEntry


@dataclass(frozen=True)
class UsedLoad:
    """A load as a plan uses it.

    ``use`` and ``steps`` are as in the open document, ``route`` is one of the supply, ``can`` are
    other possible routes; ``assumed`` says what was assumed. A load with an unknown use is not
    counted. ``times_assumed``: only the number of its tasks per day is known.
    """

    load: Load
    profile: Profile | None
    entry: PlanEntry
    use: dict[str, Any]
    steps: list[dict[str, float]]
    route: str
    can: list[str]
    assumed: str
    use_known: bool = True
    times_assumed: bool = False

    @property
    def counted(self) -> bool:
        """Whether the plan counts it: included, with evidence, and with a known use."""
        return self.entry.taken_in and self.profile is not None and self.use_known

    @property
    def why_not_counted(self) -> str:
        """What it lacks to be counted where it is included; empty otherwise."""
        if self.counted or not self.entry.taken_in:
            return ""
        if self.profile is not None:
            return self.assumed or "it is not said when it is used"
        reason = self.load.why_unknown().rstrip(".")
        return reason[:1].lower() + reason[1:] or "nothing was read of it yet: give its label"

    @property
    def name(self) -> str:
        return self.load.name

    @property
    def use_text(self) -> str:
        """Its times of use as text."""
        if not self.use_known:
            return "not known yet"
        by_uses = self.profile is not None and self.profile.runs_by_uses
        return clocks(text_of_use(self.use)) or (AT_ANY_HOUR if by_uses else "always")

    @property
    def setting(self) -> str:
        """Its setting in the plan; empty if it has only one."""
        return self.profile.setting if self.profile else ""


def names_not_counted(loads: Iterable[UsedLoad]) -> list[str]:
    """Names of loads of a plan that its answer leaves out; first what a life depends on."""
    left_out = [used for used in loads if used.why_not_counted]
    return [
        used.name for used in sorted(left_out, key=lambda used: used.load.safety_class != "life")
    ]
