"""The demo: Tern Point Animal Clinic and Quince Lane cider shed, made up for this project.

Each section is one function, so that later places add theirs. Grades are mixed on purpose: some
loads only have a label, some are well measured, and one set of readings contradicts itself.
"""

from __future__ import annotations

import uuid
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.contrib.auth import get_user_model
from django.db import transaction
from django.utils import timezone

from needle.decide.power_factor import correct
from needle.measure.capture import as_csv
from needle.standin.appliances import timeline
from needle.standin.meters import clamp_inrush, panel_logger, plug_meter
from needle.standin.run import StandinRun
from needle.standin.supplies import StandinSupply, standin_supply
from web.accounts.views import DEMO_NAME
from web.bench.actions import fill, keep, read_file, start_session
from web.bench.models import Capture, Session
from web.demo.pictures import meter_showing
from web.jobs.actions import add_job, save_new
from web.jobs.models import Job
from web.loads.actions import add_load, add_photo, add_reading, change_cord
from web.loads.models import Load
from web.matching.actions import add_correction
from web.matching.models import Correction
from web.meters.actions import add_meter, keep_comparison
from web.meters.models import Meter
from web.plans.actions import make_current, save_plan, save_source, use_load
from web.plans.models import Plan, PlanEntry, PlanSource
from web.supplies.actions import add_start_test, add_supply, add_test, save_part
from web.supplies.models import Input, Output, StartTest, Supply, SupplyTest
from web.trials.actions import check_in, end_trial, run_on, start_trial
from web.trials.models import CheckIn, Trial

#: The stand-ins behind the vaccine refrigerator, the wheeled cabinet and the shed bank.
FRIDGE_SEED = 11
CABINET_SEED, BANK_SEED = 17, 6
CLINIC = "Tern Point Animal Clinic"
USERNAME, PASSWORD = DEMO_NAME, "steady-needle-demo"
Readings = list[tuple[str, dict[str, Any], str]]


@transaction.atomic
def load_demo() -> bool:
    """Make the demo account and its jobs; False, and nothing done, where they exist."""
    users = get_user_model().objects
    if users.filter(username=USERNAME).exists():
        return False
    user = users.create_user(USERNAME, password=PASSWORD)
    meters(user)
    clinic(user)
    shed(user)
    return True


def meters(user: Any) -> None:
    """What the clinic measures with: two plug meters that were compared, and a clamp."""
    bench = add_meter(
        Meter(
            owner=user,
            name="Bench meter",
            kind="plug",
            limit=0.005,
            counts=2,
            step_w=0.1,
            note="Checked last spring.",
        )
    )
    blue = add_meter(
        Meter(
            owner=user,
            name="Blue plug meter",
            kind="plug",
            limit=0.02,
            counts=1,
            step_w=0.1,
            step_wh=10.0,
            most_a=13.0,
        )
    )
    keep_comparison(blue, bench, [[61.0, 60.2], [1496.0, 1474.0], [298.4, 294.9]])
    add_meter(
        Meter(
            owner=user,
            name="Yellow clamp",
            kind="clamp",
            limit=0.02,
            counts=5,
            fast_inrush=True,
            most_a=400.0,
        )
    )


@transaction.atomic
def remove_demo() -> None:
    """Remove the demo account with all that it owns."""
    get_user_model().objects.filter(username=USERNAME).delete()


def _tally(period_s: float, duty: float, cycles: int, wobble: tuple[float, ...]) -> dict[str, Any]:
    """On/off moments of a number of cycles, each stretched by a factor of the given wobble."""
    edges: list[list[Any]] = []
    at = 0.0
    for number in range(cycles):
        stretch = wobble[number % len(wobble)]
        edges += [["on", round(at)], ["off", round(at + period_s * duty * stretch)]]
        at += period_s * (0.6 + 0.4 * stretch)
    return {"edges": [*edges, ["on", round(at)]]}


def _add(job: Job, readings: Readings, **load: Any) -> Load:
    stored = add_load(Load(job=job, client_key=uuid.uuid4(), **load))
    begin = timezone.now() - timedelta(days=9)
    for number, (kind, data, note) in enumerate(readings):
        read_at = None if kind == "label" else begin + timedelta(hours=7 * number)
        add_reading(stored, kind, data, read_at=read_at, note=note)
    return stored


def _measured(standin: str, seed: int) -> Readings:
    """What a plug meter and a clamp show of a stand-in: readings that agree with one another."""
    line, meter = timeline(standin, seed), plug_meter(seed)
    start = line.starts_s()[3]

    def spot(state: str, at_s: float) -> dict[str, Any]:
        shown = meter.read(line, np.array([at_s]))
        return {
            "state": state,
            **{name: round(float(column[0]), 3) for name, column in shown.items()},
        }

    hours = 21.5
    return [
        ("spot", spot("running", start + 400), "needle steady"),
        ("spot", spot("resting", start - 200), ""),
        (
            "start",
            {
                "amps": clamp_inrush(line, start, seed),
                "volts": 229.0,
                "seconds": 0.3,
                "instrument": "clamp",
            },
            "inrush mode",
        ),
        (
            "energy",
            {
                "wh": meter.counter_wh(line, 0.0, hours * 3600),
                "hours": hours,
                "step_wh": 10.0,
                "room_c": 24.0,
            },
            "counter reset at the start",
        ),
    ]


def clinic_bench(loads: dict[str, Load]) -> None:
    """A capture that is evidence, one under preview, and a session that runs."""
    line, meter = timeline("cold-box", FRIDGE_SEED), plug_meter(FRIDGE_SEED)
    capture = Capture(
        load=loads["fridge"],
        name="A day and a half at the plug",
        source="file",
        room_c=24.0,
    )
    fill(capture, meter.capture(line, 0.0, 36 * 3600.0))
    capture.begins = timezone.now() - timedelta(days=2)
    save_new(loads["fridge"].job, capture, f"Read a capture of {loads['fridge'].name}")
    keep(capture)
    text = as_csv(panel_logger(4).capture(timeline("programme", 4), 0.0, 2 * 3600.0))
    read_file(
        Capture(
            load=loads["autoclave"],
            name="autoclave-panel.csv",
            instrument="logger",
            client_key=uuid.uuid4(),
        ),
        text.encode(),
    )
    put_to_work(loads["mat"].job)


def put_to_work(job: Job) -> None:
    """Put the clinic's heat mat on a meter; nothing in a job without one."""
    mat = job.loads.live().filter(name="Recovery heat mat").first()
    if mat is not None:
        start_session(
            Session(
                load=mat,
                standin="stepped",
                seed=2,
                speed=60,
                setting="mid",
                clock_s=2400.0,
                reset_s=0.0,
                room_c=21.0,
                client_key=uuid.uuid4(),
            )
        )


def clinic(user: Any) -> Job:
    """A small clinic on a tidal island whose causeway line fails in storms."""
    job = add_job(Job(owner=user, name=CLINIC, mains="230-50", tariff=0.31))
    loads = clinic_loads(job)
    clinic_years(loads)
    clinic_bench(loads)
    supplies = clinic_supplies(job)
    add_clinic_supply_tests(job, loads, supplies)
    plans = clinic_plans(job, loads, supplies)
    clinic_trials(job, plans, supplies)
    return job


def clinic_loads(job: Job) -> dict[str, Load]:
    """Twelve loads of the clinic, by a short name."""
    wobble = (1.0, 1.06, 0.93, 1.02, 0.97)
    return {
        "fridge": _add(
            job,
            [
                ("label", {"watts": 160.0, "volts": 230.0, "amps": 1.1, "kwh_per_year": 310.0}, ""),
                *_measured("cold-box", FRIDGE_SEED),
            ],
            name="Vaccine refrigerator",
            kind="compressor-fixed",
            priority="must",
            cares="cold",
            set_c=4.0,
            note="Half full; opened about eight times a day.",
        ),
        "incubator": _add(
            job,
            [
                ("label", {"watts": 150.0}, ""),
                (
                    "spot",
                    {
                        "state": "running",
                        "watts": 147.0,
                        "volts": 230.4,
                        "amps": 0.64,
                        "va": 147.0,
                        "pf": 1.0,
                    },
                    "",
                ),
                ("spot", {"state": "resting", "watts": 2.6}, "controller only"),
                ("energy", {"wh": 1470.0, "hours": 25.5, "step_wh": 10.0, "room_c": 22.0}, ""),
            ],
            name="Wildlife incubator",
            kind="thermostat-heat",
            priority="must",
            cares="life",
            set_c=33.0,
        ),
        "mat": _add(
            job,
            [
                ("spot", {"state": "running", "watts": 31.0, "setting": "low"}, ""),
                ("spot", {"state": "running", "watts": 63.5, "setting": "mid"}, ""),
                ("spot", {"state": "running", "watts": 64.1, "setting": "mid"}, ""),
                ("spot", {"state": "resting", "watts": 0.9}, ""),
                ("tally", {**_tally(8 * 60, 0.65, 4, wobble), "setting": "mid"}, "by the lamp"),
            ],
            name="Recovery heat mat",
            kind="thermostat-heat",
            priority="should",
            cares="life",
            setting="mid",
            note="Three settings; the high one is not measured yet.",
        ),
        "oxygen": _add(
            job,
            [
                ("label", {"watts": 350.0, "amps": 1.9}, ""),
                (
                    "spot",
                    {
                        "state": "running",
                        "watts": 288.0,
                        "volts": 229.8,
                        "amps": 1.77,
                        "va": 406.0,
                        "pf": 0.71,
                        "instrument": "plug",
                        "meter": "Blue plug meter",
                    },
                    "",
                ),
                (
                    "start",
                    {
                        "amps": 6.4,
                        "volts": 230.0,
                        "seconds": 0.4,
                        "instrument": "clamp",
                        "meter": "Yellow clamp",
                    },
                    "",
                ),
            ],
            name="Oxygen concentrator",
            kind="induction-motor",
            priority="must",
            cares="life",
            hours_per_day=3.0,
        ),
        "autoclave": _add(
            job,
            [
                ("label", {"watts": 1500.0}, ""),
                (
                    "spot",
                    {
                        "state": "heating",
                        "watts": 1480.0,
                        "volts": 229.1,
                        "amps": 6.47,
                        "va": 1482.0,
                        "pf": 1.0,
                    },
                    "fill and heat",
                ),
                ("spot", {"state": "dry", "watts": 300.0}, ""),
                ("task", {"wh": 612.0, "minutes": 47.0, "pieces": 14.0}, "14 packs"),
                ("task", {"wh": 604.0, "minutes": 46.0, "pieces": 14.0}, ""),
            ],
            name="Autoclave",
            kind="resistive-heat",
            priority="nice",
        ),
        "suction": _add(
            job,
            [
                ("label", {"horsepower": 0.33, "volts": 230.0}, ""),
                (
                    "spot",
                    {
                        "state": "running",
                        "watts": 263.0,
                        "volts": 230.5,
                        "amps": 2.07,
                        "va": 477.0,
                        "pf": 0.72,
                    },
                    "PF read in a hurry",
                ),
                (
                    "start",
                    {"amps": 10.2, "volts": 230.0, "seconds": 0.2, "instrument": "clamp"},
                    "",
                ),
            ],
            name="Suction pump",
            kind="induction-motor",
            priority="should",
            hours_per_day=0.5,
            note="Short bursts. The readings do not agree: PF was misread.",
        ),
        "centrifuge": _add(
            job,
            [("label", {"watts": 400.0, "volts": 230.0}, "")],
            name="Centrifuge",
            kind="induction-motor",
            priority="nice",
            hours_per_day=0.4,
        ),
        "lamp": _add(
            job,
            [
                (
                    "spot",
                    {
                        "state": "running",
                        "watts": 38.0,
                        "volts": 230.9,
                        "amps": 0.18,
                        "va": 41.0,
                        "pf": 0.93,
                    },
                    "",
                ),
                ("energy", {"wh": 280.0, "hours": 7.4, "step_wh": 10.0}, "left on for a day"),
            ],
            name="Exam lamp",
            kind="led",
            priority="should",
            hours_per_day=6.5,
        ),
        "router": _add(
            job,
            [
                ("energy", {"wh": 340.0, "hours": 24.3, "step_wh": 10.0}, "both on one strip"),
                ("spot", {"state": "running", "watts": 14.1, "va": 24.0, "pf": 0.58}, ""),
            ],
            name="Router and phones",
            kind="electronics",
            priority="must",
            can_dc=True,
        ),
        "printer": _add(
            job,
            [("label", {"watts": 60.0}, "")],
            name="Label printer",
            kind="electronics",
            priority="nice",
            hours_per_day=0.3,
            put_off="lent to a neighbour until January",
        ),
        "pump": _add(
            job,
            [("label", {"watts": 25.0}, "on the plug")],
            name="Aquarium pump",
            kind="electronics",
            priority="should",
            note="Small, but always on.",
        ),
        "laptop": _add(
            job,
            [
                ("label", {"amps": 1.2, "volts": 230.0}, "power pack, upper bound"),
                ("task", {"wh": 61.0, "minutes": 95.0}, "one fill from a fifth"),
            ],
            name="Laptop charging",
            kind="electronics",
            priority="should",
            hours_per_day=1.6,
            can_dc=True,
        ),
    }


def clinic_years(loads: dict[str, Load]) -> None:
    """A reading from before the refrigerator's seal wore, and a photo beside one of this week."""
    long_ago = timezone.now() - timedelta(days=430)
    add_reading(
        loads["fridge"],
        "energy",
        {"wh": 400.0, "hours": 24.0, "step_wh": 10.0, "room_c": 24.0},
        read_at=long_ago,
        note="with the door seal still new",
    )
    oxygen = loads["oxygen"].readings.get(type="spot")
    add_photo(oxygen, meter_showing(("288.0 W", "1.77 A", "0.71")))


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


def _add_supply_test(supply: Supply, kind: str, days_ago: int, note: str = "", **data: Any) -> None:
    moment = timezone.now() - timedelta(days=days_ago)
    add_test(SupplyTest(supply=supply, type=kind, data=data, tested_at=moment, note=note))


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
    _add_supply_test(
        cabinet,
        "idle",
        60,
        "over a night and a day in autumn",
        output="ac",
        **{"from": 1.0, "to": twin.display(0.0, hours), "hours": hours},
    )
    _add_supply_test(
        cabinet,
        "efficiency",
        12,
        "shunt and plug meter, lamps and heaters",
        pairs=[list(pair) for pair in twin.paired()],
    )
    _add_supply_test(
        cabinet,
        "idle",
        11,
        "read on the shunt",
        output="dc12",
        watts=round(twin.drain_w(0.0, "dc12"), 1),
    )
    router_w, hours = 14.0, 24.0
    wh = router_w * hours
    _add_supply_test(
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
    _add_supply_test(
        supplies["old"],
        "capacity",
        820,
        "when it came from the yacht",
        wh=2300.0,
        hours=19.0,
        counted="battery",
        to=0.48,
    )
    _add_supply_test(supplies["old"], "capacity", 30, "stopped at 40 % to spare it", log=log)
    _add_supply_test(
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


def _next(weekday: int, hour: int) -> datetime:
    """The coming such weekday (Monday is 0) at a whole hour."""
    now = timezone.localtime().replace(hour=hour, minute=0, second=0, microsecond=0)
    return now + timedelta(days=(weekday - now.weekday()) % 7 or 7)


def _use(
    plan: Plan,
    load: Load,
    windows: list[list[str]] | None = None,
    taken: bool = True,
    **more: Any,
) -> None:
    use_load(PlanEntry(plan=plan, load=load, windows=windows or [], taken_in=taken, **more))


def _panels(plan: Plan, clouds: float) -> None:
    """Four panels of 180 W on the clinic's roof."""
    save_source(
        PlanSource(
            plan=plan,
            kind="sun",
            name="Roof panels",
            data={
                "input": "sun",
                "rated_w": 720.0,
                "yield": 0.72,
                "latitude": 14.2,
                "longitude": -16.5,
                "tilt": 15.0,
                "azimuth": 180.0,
                "clouds": clouds,
            },
        )
    )


def clinic_plans(job: Job, loads: dict[str, Load], supplies: dict[str, Supply]) -> dict[str, Plan]:
    """Storm night, three grey days, a harbour visit day, and a night on the old box."""
    storm = save_plan(
        Plan(
            job=job,
            name="Storm night",
            supply=supplies["cabinet"],
            start=_next(1, 18),
            needed_hours=24.0,
            room_c=24.0,
        )
    )
    _use(storm, loads["oxygen"], [["21:00", "01:00"]])
    _use(
        storm,
        loads["autoclave"],
        moments=["19:30"],
        flexible=[["07:00", "22:00"]],
        steps=[
            {"watts": 1480.0, "minutes": 12.0, "duty": 1.0},
            {"watts": 1480.0, "minutes": 20.0, "duty": 0.4},
            {"watts": 300.0, "minutes": 15.0, "duty": 1.0},
        ],
    )
    _use(storm, loads["suction"], [["09:00", "09:20"]])
    _use(storm, loads["lamp"], [["18:00", "22:30"], ["07:00", "09:00"]])
    _use(
        storm,
        loads["laptop"],
        moments=["19:00"],
        charge={"pack_wh": 52.0, "missing": 0.8, "watts": 45.0},
    )
    _use(storm, loads["centrifuge"], taken=False)
    _use(storm, loads["printer"], taken=False)
    _panels(storm, 0.95)
    save_source(
        PlanSource(
            plan=storm,
            kind="window",
            name="Petrol generator",
            data={
                "input": "mains",
                "watts": 900.0,
                "between": [["06:30", "07:00"]],
                "litres_per_kwh": 0.55,
            },
        )
    )
    grey = save_plan(
        Plan(
            job=job,
            name="Three grey days",
            supply=supplies["cabinet"],
            start=_next(4, 8),
            needed_hours=72.0,
            room_c=29.0,
            room_swing_c=3.0,
            note="The hot week: what must run, and nothing else.",
        )
    )
    kept = ("fridge", "router")
    for name, load in loads.items():
        _use(grey, load, taken=name in kept, route="dc12" if name == "router" else "")
    _panels(grey, 0.6)
    visit = save_plan(
        Plan(
            job=job,
            name="Harbour visit day",
            supply=supplies["case"],
            start=_next(5, 9),
            needed_hours=8.0,
        )
    )
    taken = {
        "oxygen": [["09:30", "10:00"]],
        "suction": [["10:00", "10:20"]],
        "lamp": [["09:00", "15:00"]],
        "printer": [["10:00", "10:30"]],
        "centrifuge": [["10:10", "10:30"]],
    }
    for name, load in loads.items():
        _use(visit, load, taken.get(name), taken=name in taken)
    autoclave = visit.entries.get(load=loads["autoclave"])
    autoclave.taken_in, autoclave.moments = True, ["13:00"]
    use_load(autoclave)
    spare = save_plan(
        Plan(
            job=job,
            name="Night on the old box",
            supply=supplies["old"],
            start=_next(2, 18),
            needed_hours=8.0,
            room_c=20.0,
            note="If the cabinet is away: what would it carry?",
        )
    )
    old = {"fridge": None, "oxygen": [["21:00", "23:00"]], "suction": [["20:00", "20:15"]]}
    for name, load in loads.items():
        _use(spare, load, old.get(name), taken=name in old)
    autoclave = spare.entries.get(load=loads["autoclave"])
    autoclave.taken_in, autoclave.moments = True, ["19:30"]
    use_load(autoclave)
    make_current(storm)
    return {"storm": storm, "grey": grey, "visit": visit}


def _seen(trial: Trial, run: StandinRun, hours: list[float], leg: dict[int, str]) -> None:
    """Check-ins at these hours, as the stand-in shows them; ``leg`` names what changed at one."""
    for number, hour in enumerate(hours):
        data = run.seen(hour) | ({"leg": leg[number]} if number in leg else {})
        moment = trial.started_at + timedelta(hours=hour)
        check_in(CheckIn(trial=trial, at=moment, data=data))


def clinic_trials(job: Job, plans: dict[str, Plan], supplies: dict[str, Supply]) -> None:
    """A worn battery found out, a run in two legs, and a rehearsal that is under way."""
    now = timezone.now()
    old = start_trial(
        Trial(
            job=job,
            name="Old box on the refrigerator",
            supply=supplies["old"],
            start_charge=1.0,
            stop_at=0.4,
            started_at=now - timedelta(days=21),
            room_c=19.0,
            note="What would it carry if the cabinet is away?",
        ),
        ticked={job.loads.get(name=name).pk for name in ("Vaccine refrigerator", "Aquarium pump")},
    )
    worn = StandinSupply(
        held_wh=3500.0,
        idle_w=11.0,
        efficiency=0.86,
        square_per_w=2e-5,
        output_idle_w=0.0,
        output_efficiency=1.0,
        continuous_w=800.0,
        seed=9,
        knee=0.17,
    )
    run = run_on(worn, old, 4)
    stop_h = run.stop_h(0.4)
    _seen(old, run, [0.15 * stop_h, 0.37 * stop_h, 0.6 * stop_h, 0.8 * stop_h, 0.93 * stop_h], {})
    end_trial(old, old.started_at + timedelta(hours=stop_h), "floor")
    legs = start_trial(
        Trial(
            job=job,
            name="Cabinet overnight",
            supply=supplies["cabinet"],
            stop_at=0.1,
            room_c=22.0,
            started_at=now - timedelta(days=9),
            contents="mat on mid, then on low",
            expected={"value": 240.0, "spread": 0.15},
        )
    )
    twin = standin_supply(supplies["cabinet"].to_core(), CABINET_SEED)
    run = StandinRun(twin, tuple([250.0] * 6 + [170.0] * 40), 6)
    stop_h = run.stop_h(0.1)
    later = [6.0 + share * (stop_h - 6.0) for share in (0.15, 0.35, 0.6, 0.8, 0.93)]
    _seen(legs, run, [2.1, 4.0, 6.0, *later], {2: "heat mat to low"})
    end_trial(legs, legs.started_at + timedelta(hours=stop_h), "floor")
    storm = start_trial(
        Trial(
            job=job,
            name="Storm night rehearsal",
            plan=plans["storm"],
            supply=supplies["cabinet"],
            stop_at=0.1,
            started_at=now - timedelta(hours=7.4),
            room_c=24.0,
            contents="box half full",
        )
    )
    run = run_on(twin, storm, 11)
    _seen(storm, run, [1.0, 2.5, 4.2, 5.6, 6.9], {})


def shed(user: Any) -> Job:
    """A cider shed on split-phase mains: motors, and a press pump on 240 V."""
    job = add_job(Job(owner=user, name="Quince Lane cider shed", mains="120-240-60"))
    mill = _add(
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
    press = _add(
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
        cares="wired",
    )
    bottling = _add(
        job,
        [("label", {"watts": 450.0}, "")],
        name="Bottling line",
        kind="induction-motor",
        priority="should",
    )
    pasteuriser = _add(
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
    _add(
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
            start=_next(5, 8),
            needed_hours=9.0,
        )
    )
    _use(plan, mill, [["08:30", "11:00"]])
    _use(plan, press, [["10:00", "12:30"]])
    _use(plan, bottling, [["14:00", "16:00"]])
    _use(plan, pasteuriser, taken=False)
    return job


def add_shed_supply_tests(mill: Load, press: Load, bank: Supply) -> None:
    """An efficiency test of the bank, a capacitor tried on the press pump, a cord to the mill."""
    twin = standin_supply(bank.to_core(), seed=BANK_SEED)
    _add_supply_test(
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
