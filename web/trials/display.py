"""What a supply's display means, by its finished runs."""

from __future__ import annotations

from dataclasses import dataclass

from needle.trial.finished_run import display_seen
from needle.trial.observations import true_charges
from web.supplies.models import Supply
from web.trials.models import Trial

#: Charges shown for which the true one is given, and those that earlier runs give at the most.
SHOWN, MOST_SEEN = (0.8, 0.6, 0.4, 0.2, 0.1), 60


@dataclass(frozen=True)
class DisplayRow:
    """A charge shown, and the true one behind it: low, likely, high (shares)."""

    shown: float
    low: float
    mid: float
    high: float


def seen_before(supply: Supply, trial: Trial | None = None) -> list[list[float]]:
    """Charges that a supply's display showed in finished runs, each with the true one (shares).

    ``trial`` is one that is left out. The newest runs come first.
    """
    ended = (
        Trial.objects.live()
        .with_check_ins()
        .filter(supply=supply, counts=True, simulated_seed=None)
    )
    runs = [run for run in ended.filter(ended_at__isnull=False) if trial is None or run != trial]
    return [list(pair) for run in runs for pair in display_seen(run.to_core())][:MOST_SEEN]


def display_rows(supply: Supply) -> list[DisplayRow]:
    """What is truly left where the display shows some charges; empty without such a run."""
    known = [(shown, true) for shown, true in seen_before(supply)]
    if not known:
        return []
    return [
        DisplayRow(shown, *values)
        for shown, values in zip(SHOWN, true_charges(known, SHOWN), strict=True)
    ]
