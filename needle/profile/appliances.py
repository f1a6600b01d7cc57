"""Household names of appliances, and the kind of load that each is."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Appliance:
    """A household appliance.

    Attributes
    ----------
    key, name : str
        Key in forms (never stored), and the name that people choose.
    short : str
        Default name of the load.
    kind : str
        Key of :data:`needle.profile.kinds.KINDS`.
    safety : str
        ``"life"`` if a person may depend on it, ``"none"`` if its kind usually keeps contents but
        this appliance does not; else "".
    """

    key: str
    name: str
    short: str
    kind: str
    safety: str = ""


_TABLE = (
    Appliance("fridge", "Fridge or freezer", "Fridge", "compressor-fixed"),
    Appliance("kettle", "Kettle, toaster, heater", "Kettle", "resistive-heat"),
    Appliance("router", "Router, charger, always-on box", "Router", "electronics"),
    Appliance("screen", "Screen, TV, computer, laptop", "Screen", "screen"),
    Appliance("sound", "Sound equipment", "Sound", "sound"),
    Appliance("lamp", "Lamp", "Lamp", "led"),
    Appliance(
        "float-pump", "Pump that starts by itself (float, pressure)", "Float pump", "float-pump"
    ),
    Appliance("pump", "Other pump", "Pump", "pump"),
    Appliance("water-tank", "Hot-water tank", "Hot water", "water-tank"),
    Appliance("cooker", "Microwave or induction hob", "Microwave", "induction-hob"),
    Appliance("oven", "Oven, iron, heater with thermostat, blanket", "Oven", "thermostat-heat"),
    Appliance("preheat", "Coffee machine, press: preheats, then holds", "Machine", "preheat"),
    Appliance("cool-box", "Cool box for 12 V", "Cool box", "cool-box"),
    Appliance("fan", "Fan", "Fan", "induction-motor"),
    Appliance("tool", "Tool, mixer, vacuum cleaner", "Tool", "universal-motor"),
    Appliance("motor", "Something else with a motor", "Motor", "induction-motor"),
    Appliance(
        "air-conditioner",
        "Air conditioner or heat pump",
        "Air conditioner",
        "compressor-variable",
        "none",
    ),
    Appliance(
        "bedside",
        "Something beside the bed (breathing, oxygen)",
        "Bedside machine",
        "bedside",
        "life",
    ),
)

#: Key → appliance, in the order in which they are offered.
APPLIANCES = {appliance.key: appliance for appliance in _TABLE}
