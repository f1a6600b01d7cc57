"""Plan documents in which nothing is uncertain, for answers that are known in closed form."""

from __future__ import annotations

from typing import Any


def exact(document: dict[str, Any]) -> dict[str, Any]:
    """A plan document whose figures are what they say, but for spreads that it states."""
    supply = exact_supply(document["supply"]) if "supply" in document else {}
    loads = [
        load if "profile" in load else {"spread": 0.0, **load} for load in document.get("loads", ())
    ]
    return {**document, "supply": supply, "loads": loads}


def exact_supply(document: dict[str, Any]) -> dict[str, Any]:
    supply = {
        **document,
        "battery": {
            "ohm_spread": 0.0,
            "peukert_spread": 0.0,
            "cold_spread": 0.0,
            "taper_spread": 0.0,
            **document["battery"],
        },
    }
    if "inverter" in document:
        supply["inverter"] = {
            "idle_spread": 0.0,
            "efficiency_spread": 0.0,
            "square_spread": 0.0,
            **document["inverter"],
        }
    if "outputs" in document:
        supply["outputs"] = [
            {"idle_spread": 0.0, "efficiency_spread": 0.0, **output}
            for output in document["outputs"]
        ]
    return supply
