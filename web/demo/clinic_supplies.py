"""The clinic's supplies and what was tested on them."""

from __future__ import annotations

from datetime import timedelta

from django.utils import timezone

from needle.standin.supplies import StandinSupply, standin_supply
from web.demo.making import (
    CABINET_SEED,
    add_supply_test,
)
from web.jobs.models import Job
from web.loads.actions import change_cord
from web.loads.models import Load
from web.supplies.actions import add_start_test, add_supply, save_part
from web.supplies.models import Input, Output, StartTest, Supply


def clinic_supplies(job: Job) -> dict[str, Supply]:
    """The cabinet, the old box, the visit case and a pocket bank."""
    return {
        "cabinet": add_supply(
            Supply(
                job=job,
                name="Wheeled cabinet",
                chemistry="lfp",
                nominal_wh=5120.0,
                volts=51.2,
                floor=0.10,
                continuous_w=3000.0,
                surge_va=6000.0,
                surge_s=5.0,
                overload_ratio=1.15,
                overload_s=60.0,
                waveform="sine",
                total_max_w=3200.0,
                note="On wheels, in the corridor.",
            )
        ),
        "old": add_supply(
            Supply(
                job=job,
                name="Old lead-acid box",
                build="bank",
                chemistry="lead",
                nominal_wh=2640.0,
                volts=24.0,
                parallel=2,
                internal_ohm=0.06,
                cutoff_v=21.6,
                continuous_w=800.0,
                surge_va=1600.0,
                surge_s=3.0,
                waveform="stepped",
                note="2 × 110 Ah, nine years old.",
            )
        ),
        "case": add_supply(
            Supply(
                job=job,
                name="Visit case",
                chemistry="lithium",
                nominal_wh=1020.0,
                volts=14.8,
                continuous_w=1000.0,
                surge_va=1800.0,
                surge_s=2.0,
                waveform="sine",
            )
        ),
        "bank": add_supply(
            Supply(
                job=job,
                name="Pocket bank",
                build="usb",
                chemistry="usb",
                nominal_wh=86.4,
                volts=3.6,
                note="24 Ah at the cell's 3.6 V.",
            )
        ),
    }


def add_clinic_supply_tests(job: Job, loads: dict[str, Load], supplies: dict[str, Supply]) -> None:
    """Outputs and inputs, tests of the supplies, starts that were tried, a cord."""
    for part in (
        Output(supply=supplies["cabinet"], name="dc12", volts=12.0, max_a=20.0),
        Output(supply=supplies["case"], name="dc12", volts=12.0, max_a=10.0),
        Output(supply=supplies["case"], name="usb-c", max_w=60.0),
        Output(
            supply=supplies["bank"], name="usb", volts=5.0, max_a=3.0, efficiency=0.87, idle_w=0.1
        ),
        Input(supply=supplies["cabinet"], name="sun", max_w=1200.0, controller_a=40.0),
        Input(supply=supplies["cabinet"], name="mains", max_w=900.0),
        Input(supply=supplies["old"], name="charger", max_a=15.0, volts=24.0),
        Input(supply=supplies["case"], name="car", volts=12.0, max_a=8.0),
    ):
        save_part(part)
    cabinet, case = supplies["cabinet"], supplies["case"]
    twin = standin_supply(cabinet.to_core(), seed=CABINET_SEED)
    hours = 30.0
    add_supply_test(
        cabinet,
        "idle",
        60,
        "over a night and a day in autumn",
        output="ac",
        **{"from": 1.0, "to": twin.display(0.0, hours), "hours": hours},
    )
    add_supply_test(
        cabinet,
        "efficiency",
        12,
        "shunt and plug meter, lamps and heaters",
        pairs=[list(pair) for pair in twin.paired()],
    )
    add_supply_test(
        cabinet,
        "idle",
        11,
        "read on the shunt",
        output="dc12",
        watts=round(twin.drain_w(0.0, "dc12"), 1),
    )
    router_w, hours = 14.0, 24.0
    wh = router_w * hours
    add_supply_test(
        cabinet,
        "route",
        10,
        "the router's own 12 V plug",
        load=loads["router"].name,
        output="dc12",
        hours=hours,
        ac={"load_wh": wh, "to": twin.display(router_w, hours)},
        dc={"load_wh": wh, "to": twin.display(router_w, hours, "dc12")},
    )
    old = StandinSupply(
        held_wh=3800.0,
        idle_w=11.0,
        efficiency=0.86,
        square_per_w=2e-5,
        output_idle_w=0.0,
        output_efficiency=1.0,
        continuous_w=800.0,
        seed=9,
    )
    log = [[hour, shown, wh] for hour, shown, wh in old.drain_log(120.0, 0.4)]
    add_supply_test(
        supplies["old"],
        "capacity",
        820,
        "when it came from the yacht",
        wh=2300.0,
        hours=19.0,
        counted="battery",
        to=0.48,
    )
    add_supply_test(supplies["old"], "capacity", 30, "stopped at 40 % to spare it", log=log)
    add_supply_test(
        case,
        "idle",
        5,
        "a morning on the bench",
        output="ac",
        **{"from": 1.0, "to": 0.91, "hours": 6.0},
    )
    begin = timezone.now() - timedelta(days=4)
    for load, supply, result, times, beside, order, note in (
        ("oxygen", "case", "held", 3, ("lamp",), "", "the voltage dipped"),
        ("suction", "old", "complained", 2, (), "on-first", "hummed for a second"),
        ("centrifuge", "old", "tripped", 1, ("fridge",), "", ""),
    ):
        ran = [loads[key] for key in beside]
        watts = [profile.running_w.value for other in ran if (profile := other.profile())]
        add_start_test(
            StartTest(
                load=loads[load],
                supply=supplies[supply],
                result=result,
                times=times,
                order=order,
                note=note,
                tested_at=begin,
                beside=[other.name for other in ran],
                beside_w=round(sum(watts), 1),
            )
        )
    loads["suction"].cord_m, loads["suction"].cord_size = 30.0, "1.5 mm²"
    change_cord(loads["suction"])
