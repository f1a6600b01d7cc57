"""Which loads run, where a change becomes known after later ones."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any


def with_earlier_change(
    before: Collection[str], after: Collection[str], later: Sequence[dict[str, Any]]
) -> list[dict[str, Any]]:
    """Figures of later check-ins after a change of what runs that is entered before them.

    Each check-in that changes what runs holds all loads that run from then on. A load that was
    switched earlier stays as switched, until a later check-in switches it itself.

    Parameters
    ----------
    before, after : collection of str
        Names of the loads that run before and after the change that is entered.
    later : sequence of dict
        Figures of the check-ins after it, in order of time.

    Returns
    -------
    list of dict
        The figures of ``later``, with loads that run (``on``) corrected.
    """
    switched = {name: name in after for name in set(before) ^ set(after)}
    ran, figures = set(before), []
    for data in later:
        if "leg" in data:
            # It names what runs anew, or goes back to a leg that was named.
            switched.clear()
        if not switched or "on" not in data:
            figures.append(data)
            continue
        on = set(data["on"])
        for name in set(switched) & (on ^ ran):
            del switched[name]
        figures.append({**data, "on": _switched(data["on"], switched)})
        ran = on
    return figures


def _switched(on: Sequence[str], switched: Mapping[str, bool]) -> list[str]:
    """Loads that are on, with some switched: in their order, then those that are new."""
    stay = [name for name in on if switched.get(name, True)]
    return [*stay, *sorted(name for name, is_on in switched.items() if is_on and name not in on)]
