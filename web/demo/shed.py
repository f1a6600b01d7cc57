"""Quince Lane cider shed: a second job of the demo."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.utils import timezone

from needle.decide.power_factor import correct
from needle.standin.supplies import standin_supply
from web.demo.making import (
    BANK_SEED,
    add_supply_test,
    add_with_readings,
    coming,
    use_in_plan,
)
from web.jobs.actions import add_job
from web.jobs.models import Job
from web.loads.actions import change_cord
from web.loads.models import Load
from web.matching.actions import add_correction
from web.matching.models import Correction
from web.plans.actions import save_plan
from web.plans.models import Plan
from web.supplies.actions import add_supply
from web.supplies.models import Supply


def shed(user: Any) -> Job:
    """A cider shed on split-phase mains: motors, and a press pump on 240 V."""
    job = add_job(Job(owner=user, name="Quince Lane cider shed", mains="120-240-60"))
    mill = add_with_readings(
        job,
        [
            ("label", {"horsepower": 1.5, "volts": 120.0}, ""),
            (
                "spot",
                {
                    "state": "running",
                    "watts": 1395.0,
                    "volts": 119.2,
                    "amps": 15.6,
                    "va": 1860.0,
                    "pf": 0.75,
                },
                "half load",
            ),
            ("start", {"amps": 71.0, "volts": 117.0, "seconds": 0.4, "instrument": "clamp"}, ""),
        ],
        name="Apple mill",
        kind="induction-motor",
        priority="must",
    )
    press = add_with_readings(
        job,
        [
            (
                "spot",
                {
                    "state": "running",
                    "watts": 610.0,
                    "volts": 240.0,
                    "amps": 3.18,
                    "va": 763.0,
                    "pf": 0.8,
                },
                "on 240 V",
            ),
            ("start", {"amps": 14.0, "volts": 238.0, "seconds": 0.4, "instrument": "clamp"}, ""),
        ],
        name="Press pump",
        kind="pump",
        priority="must",
        wired=True,
        legs="both",
    )
    bottling = add_with_readings(
        job,
        [("label", {"watts": 450.0}, "")],
        name="Bottling line",
        kind="induction-motor",
        priority="should",
    )
    pasteuriser = add_with_readings(
        job,
        [
            ("label", {"watts": 1800.0}, ""),
            (
                "spot",
                {
                    "state": "running",
                    "watts": 1765.0,
                    "volts": 118.4,
                    "amps": 14.9,
                    "va": 1765.0,
                    "pf": 1.0,
                },
                "",
            ),
        ],
        name="Pasteuriser",
        kind="thermostat-heat",
        priority="nice",
    )
    add_with_readings(
        job,
        [
            ("label", {"kwh_per_year": 410.0, "watts": 180.0}, ""),
            ("energy", {"wh": 420.0, "hours": 9.0, "step_wh": 10.0, "room_c": 19.0}, ""),
        ],
        name="Cooler",
        kind="compressor-fixed",
        priority="must",
        set_c=5.0,
    )
    supply = add_supply(
        Supply(
            job=job,
            name="Shed bank",
            chemistry="lfp",
            nominal_wh=10_240.0,
            volts=51.2,
            build="bank",
            continuous_w=4000.0,
            surge_va=8000.0,
            surge_s=5.0,
            waveform="sine",
        )
    )
    add_shed_supply_tests(mill, press, supply)
    plan = save_plan(
        Plan(
            job=job,
            name="Pressing day",
            supply=supply,
            start=coming(5, 8),
            needed_hours=9.0,
        )
    )
    use_in_plan(plan, mill, [["08:30", "11:00"]])
    use_in_plan(plan, press, [["10:00", "12:30"]])
    use_in_plan(plan, bottling, [["14:00", "16:00"]])
    use_in_plan(plan, pasteuriser, taken=False)
    return job


def add_shed_supply_tests(mill: Load, press: Load, bank: Supply) -> None:
    """An efficiency test of the bank, a capacitor tried on the press pump, a cord to the mill."""
    twin = standin_supply(bank.to_core(), seed=BANK_SEED)
    add_supply_test(
        bank, "efficiency", 20, "shunt and plug meter", pairs=[list(p) for p in twin.paired()]
    )
    watts, volts, hertz, fitted = 610.0, 240.0, 60.0, 10.0
    after = correct(watts, 763.0, volts, hertz, fitted_uf=fitted).amps_after * volts
    # What the current costs in the inverter: the square term, by VA in place of W.
    taken = [twin.drain_w(watts) + twin.square_per_w * (va**2 - watts**2) for va in (763.0, after)]
    add_correction(
        Correction(
            load=press,
            fitted_uf=fitted,
            watts_without=watts,
            va_without=763.0,
            battery_w_without=round(taken[0]),
            watts_with=watts,
            va_with=round(after),
            battery_w_with=round(taken[1]),
            tested_at=timezone.now() - timedelta(days=6),
            note="fitted by the electrician, same must in the press",
        )
    )
    mill.cord_m, mill.cord_size = 25.0, "14 AWG"
    change_cord(mill)
