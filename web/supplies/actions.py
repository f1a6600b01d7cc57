"""All changes of supplies, their parts and tests."""

from __future__ import annotations

from needle.supply.supply import parse_supply
from web.jobs.actions import remove, save_change, save_new
from web.jobs.renaming import save_renamed
from web.supplies.models import Input, Output, StartTest, Supply, SupplyTest

Part = Output | Input


def add_supply(supply: Supply) -> Supply:
    return save_new(supply.job, supply, f"Added {supply.name}")[0]


def change_supply(supply: Supply) -> None:
    save_change(supply.job, supply, f"Changed {supply.name}")


def remove_supply(supply: Supply) -> None:
    remove(supply.job, supply, f"Removed {supply.name}")


def save_part(part: Part) -> None:
    """Store a new or changed output or input."""
    if part.pk:
        save_renamed(part.supply.job, part, f"Changed {part}")
    else:
        save_new(part.supply.job, part, f"Added {part}")


def remove_part(part: Part) -> None:
    remove(part.supply.job, part, f"Removed {part}")


def add_test(test: SupplyTest) -> SupplyTest:
    """Store a test of a supply.

    Raises
    ------
    needle.document.DocumentError
        The core refuses it.
    """
    document = test.supply.to_document()
    parse_supply({**document, "tests": [*document.get("tests", []), test.to_document()]})
    return save_new(test.supply.job, test, f"Kept: {test}")[0]


def remove_test(test: SupplyTest) -> None:
    remove(test.supply.job, test, f"Removed: {test}")


def add_start_test(test: StartTest) -> StartTest:
    return save_new(test.supply.job, test, f"Kept: start of {test}")[0]


def remove_start_test(test: StartTest) -> None:
    remove(test.supply.job, test, f"Removed: start of {test}")
