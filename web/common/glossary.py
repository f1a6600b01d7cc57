"""Glossary of the terms that the site uses."""

from __future__ import annotations

from django.utils.text import slugify

GLOSSARY = {
    "job": "One place or occasion: its mains, tariff and currency, its loads, supplies, plans and "
    "trials.",
    "load": "One appliance, as it is used here.",
    "state": "A way a load runs: resting, running, heating, defrost, boost. Each has its own watts "
    "and power factor.",
    "setting": "A choice that changes the draw: low or high, humidifier on, eco. Readings belong "
    "to a setting.",
    "W": "Watts: how fast energy is used, this moment. A rate.",
    "Wh": "Watt-hours: an amount of energy. 100 W for two hours are 200 Wh. Wh a day is a rate "
    "again.",
    "VA": "Volts times amps: what wires and inverters have to carry. Watts are at most as many.",
    "power factor": "Watts over volt-amperes, 0 to 1. Motors and power packs are below 1.",
    "resting": "What a load draws between its runs, or switched on with nothing to do.",
    "start": "The highest volt-amperes in the first moments after switching on; also called inrush "
    "or surge.",
    "duty": "The share of time in the running state: (mean − resting) ÷ (running − resting).",
    "mean": "Energy over time, in watts: what a battery has to give on and on.",
    "energy run": "A counter read at two times: energy over hours.",
    "task": "One unit of work: a load of washing, a kettle, a print; with its energy and length.",
    "tally": "On and off moments noted by ear or eye, without a recording meter.",
    "capture": "A recorded series of readings: from a file, a logger, or live.",
    "profile": "What the readings of a load add up to, each figure with its range and its proof.",
    "proof": "How well a figure is known. A: recorded long enough. B: metered, but short. C: label "
    "and measured time. D: label or guess.",
    "range": "From the 10th to the 90th percentile: the truth lies in it eight times in ten.",
    "supply": "Battery, inverter, DC and USB outputs, charge inputs; or any part of these.",
    "floor": "The charge that is left in the battery, to spare it.",
    "idle draw": "What an inverter or output takes with nothing plugged in, hour by hour.",
    "efficiency": "Of an inverter: what comes out over what goes in beyond its idle draw. One "
    "percentage alone hides the idle draw.",
    "route": "How a load is fed: AC through the inverter, a DC output, USB.",
    "source": "What charges: sun, mains, a generator, another battery.",
    "day plan": "Loads and sources laid out over hours, on a supply, in given conditions.",
    "odds": "In how many of all simulated runs a plan holds.",
    "trial": "A real run of a supply from charged to a stop, with check-ins.",
    "check-in": "What is seen in the middle of a trial: charge, watts, volts, a note.",
    "leg": "A part of a trial with conditions of its own.",
    "cycle": "From one start of a load to the next.",
    "pull-down": "The one-time energy that brings warm contents to the set point.",
    "modified sine": "A stepped wave in place of a sine: motors run hotter on it, some electronics "
    "refuse it.",
    "sheet": "The printable result.",
}


def anchor(term: str) -> str:
    """HTML id of a term on the glossary page."""
    return f"word-{slugify(term)}"
