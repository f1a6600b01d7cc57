"""What changes supplies."""

from __future__ import annotations

from web.jobs.actions import remove, save_change, save_new
from web.supplies.models import Supply


def add_supply(supply: Supply) -> Supply:
    return save_new(supply.job, supply, f"Added {supply.name}")[0]


def change_supply(supply: Supply) -> None:
    save_change(supply.job, supply, f"Changed {supply.name}")


def remove_supply(supply: Supply) -> None:
    remove(supply.job, supply, f"Removed {supply.name}")
