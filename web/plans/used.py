"""One load as a plan uses it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from needle.profile.profile import Profile
from needle.usage.schedule import text_of_use
from web.loads.models import Load
from web.plans.models import PlanEntry


@dataclass(frozen=True)
class UsedLoad:
    """One load as a plan uses it.

    ``use`` and ``steps`` are as the open document has them, ``route`` is one that the supply has,
    ``can`` others that the load could take; ``assumed`` says what had to be assumed. Where its use
    is not known it is not counted.
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

    @property
    def counted(self) -> bool:
        """Whether the plan counts it: taken in, with evidence, and its use known."""
        return self.entry.taken_in and self.profile is not None and self.use_known

    @property
    def name(self) -> str:
        return self.load.name

    @property
    def use_text(self) -> str:
        """When it is counted as used, as people write it."""
        return text_of_use(self.use) or "always"

    @property
    def setting(self) -> str:
        """The setting that it is counted in; empty where it has only one."""
        return self.profile.setting if self.profile else ""
