"""Nine drills, from easy to hard, in the order of the trade."""

from __future__ import annotations

from typing import Any

_BOX = {
    "nominal_wh": 1024,
    "holds": 0.81,
    "continuous_w": 1000,
    "surge_va": 2000,
    "idle_w": 12,
    "efficiency": 0.9,
    "floor": 0.1,
}

DRILLS: tuple[dict[str, Any], ...] = (
    {
        "name": "A label that lies",
        "ask": "day",
        "limit": 400,
        "minutes": 180,
        "meters": ["plug"],
        "lesson": "A label is an upper limit; a counter measures.",
        "question": "The router on the shelf is labelled: does it take more than 400 Wh a day?",
        "loads": [{"name": "Router", "standin": "electronics", "label_factor": 2.6}],
    },
    {
        "name": "Complete cycles",
        "ask": "day",
        "limit": 900,
        "minutes": 480,
        "meters": ["plug"],
        "lesson": "A load that cycles is measured over complete cycles, not by one reading.",
        "question": "Does the cold box take more than 900 Wh a day?",
        "loads": [{"name": "Cold box", "standin": "cold-box", "label_factor": 1.9}],
    },
    {
        "name": "A counter from yesterday",
        "ask": "day",
        "limit": 2500,
        "minutes": 360,
        "meters": ["plug"],
        "lesson": "Reset the counter before you start the clock.",
        "question": "Does the incubator's heater take more than 2.5 kWh a day?",
        "loads": [
            {
                "name": "Incubator",
                "standin": "heater",
                "label_factor": 1.1,
                "quirks": ["counter not reset", "coarse counter"],
            }
        ],
    },
    {
        "name": "Will the pump start?",
        "ask": "start",
        "limit": 3000,
        "minutes": 240,
        "meters": ["plug", "clamp"],
        "lesson": "A clamp around one conductor catches a start.",
        "question": "The inverter gives 3 kVA for two seconds. Is the pump's start above that?",
        "loads": [{"name": "Pump", "standin": "pump", "label_factor": 1.2}],
    },
    {
        "name": "Which box costs less?",
        "ask": "difference",
        "limit": 0,
        "minutes": 1500,
        "meters": ["plug", "plug"],
        "lesson": "Compare over the same hours of the same day.",
        "question": "Two boxes do the same. Does the first take more a day than the second?",
        "loads": [
            {"name": "White box", "standin": "cold-box", "label_factor": 1.6},
            {"name": "Grey box", "standin": "cold-box", "label_factor": 2.8},
        ],
    },
    {
        "name": "Which capacitor?",
        "ask": "capacitor",
        "limit": 20,
        "minutes": 240,
        "meters": ["plug"],
        "lesson": "Watts and volt-amperes, read together, give the microfarads.",
        "question": "Does the pump need more than 20 µF to run at a power factor of 0.95?",
        "loads": [{"name": "Pump", "standin": "pump", "label_factor": 1.3}],
    },
    {
        "name": "Cups before noon",
        "ask": "tasks",
        "limit": 20,
        "minutes": 360,
        "within": 2,
        "meters": ["plug", "shunt"],
        "lesson": "Count many uses together and divide: it is more exact than one.",
        "question": "From ten to noon, with the inverter on: will the case boil 20 cups or more?",
        "loads": [{"name": "Kettle", "standin": "kettle", "label_factor": 1.15}],
        "supply": _BOX,
    },
    {
        "name": "Twelve hours of cold",
        "ask": "hours",
        "limit": 12,
        "minutes": 600,
        "meters": ["plug", "plug", "display"],
        "lesson": "A battery holds less than its label says.",
        "question": "Will the case run the cold box for 12 hours, and the router from 20:00 to "
        "23:00?",
        "loads": [
            {"name": "Cold box", "standin": "cold-box", "label_factor": 1.9},
            {
                "name": "Router",
                "standin": "electronics",
                "label_factor": 2.2,
                "between": [["20:00", "23:00"]],
            },
        ],
        "supply": {**_BOX, "quirks": ["display sticks"]},
    },
    {
        "name": "A night at the clinic",
        "ask": "hours",
        "limit": 8,
        "minutes": 600,
        "meters": ["plug", "plug", "shunt"],
        "lesson": "Measure longest what uses most energy.",
        "question": "Will the cabinet run all four until the morning, 8 hours?",
        "loads": [
            {"name": "Vaccine box", "standin": "cold-box", "label_factor": 1.7},
            {
                "name": "Incubator",
                "standin": "heater",
                "label_factor": 1.05,
                "quirks": ["counter not reset"],
            },
            {
                "name": "Heat mat",
                "standin": "stepped",
                "label_factor": 1.2,
                "quirks": ["slow meter"],
            },
            {"name": "Router", "standin": "electronics", "label_factor": 2.4},
        ],
        "supply": {
            **_BOX,
            "nominal_wh": 2560,
            "continuous_w": 2000,
            "surge_va": 4000,
            "idle_w": 22,
        },
    },
)
