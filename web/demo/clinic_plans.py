"""The clinic's plans and trials."""

from __future__ import annotations

from datetime import timedelta

from django.utils import timezone

from needle.standin.run import StandinRun
from needle.standin.supplies import StandinSupply, standin_supply
from web.demo.making import (
    CABINET_SEED,
    check_in_at,
    coming,
    use_in_plan,
)
from web.jobs.models import Job
from web.loads.models import Load
from web.plans.actions import make_current, save_plan, save_source, use_load
from web.plans.models import Plan, PlanSource
from web.supplies.models import Supply
from web.trials.actions import end_trial, run_on, start_trial
from web.trials.models import Trial


def clinic_plans(job: Job, loads: dict[str, Load], supplies: dict[str, Supply]) -> dict[str, Plan]:
    """Storm night, three grey days, a harbour visit day, and a night on the old box."""
    storm = save_plan(
        Plan(
            job=job,
            name="Storm night",
            supply=supplies["cabinet"],
            start=coming(1, 18),
            needed_hours=24.0,
            room_c=24.0,
        )
    )
    use_in_plan(storm, loads["oxygen"], [["21:00", "01:00"]])
    use_in_plan(
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
    use_in_plan(storm, loads["suction"], [["09:00", "09:20"]])
    use_in_plan(storm, loads["lamp"], [["18:00", "22:30"], ["07:00", "09:00"]])
    use_in_plan(
        storm,
        loads["laptop"],
        moments=["19:00"],
        charge={"pack_wh": 52.0, "missing": 0.8, "watts": 45.0},
    )
    use_in_plan(storm, loads["centrifuge"], taken=False)
    use_in_plan(storm, loads["printer"], taken=False)
    add_roof_panels(storm, 0.95)
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
            start=coming(4, 8),
            needed_hours=72.0,
            room_c=29.0,
            room_swing_c=3.0,
            note="The hot week: what must run, and nothing else.",
        )
    )
    kept = ("fridge", "router")
    for name, load in loads.items():
        use_in_plan(grey, load, taken=name in kept, route="dc12" if name == "router" else "")
    add_roof_panels(grey, 0.6)
    visit = save_plan(
        Plan(
            job=job,
            name="Harbour visit day",
            supply=supplies["case"],
            start=coming(5, 9),
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
        use_in_plan(visit, load, taken.get(name), taken=name in taken)
    autoclave = visit.entries.get(load=loads["autoclave"])
    autoclave.taken_in, autoclave.moments = True, ["13:00"]
    use_load(autoclave)
    spare = save_plan(
        Plan(
            job=job,
            name="Night on the old box",
            supply=supplies["old"],
            start=coming(2, 18),
            needed_hours=8.0,
            room_c=20.0,
            note="If the cabinet is away: what would it carry?",
        )
    )
    old = {"fridge": None, "oxygen": [["21:00", "23:00"]], "suction": [["20:00", "20:15"]]}
    for name, load in loads.items():
        use_in_plan(spare, load, old.get(name), taken=name in old)
    autoclave = spare.entries.get(load=loads["autoclave"])
    autoclave.taken_in, autoclave.moments = True, ["19:30"]
    use_load(autoclave)
    make_current(storm)
    return {"storm": storm, "grey": grey, "visit": visit}


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
    check_in_at(
        old, run, [0.15 * stop_h, 0.37 * stop_h, 0.6 * stop_h, 0.8 * stop_h, 0.93 * stop_h], {}
    )
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
    check_in_at(legs, run, [2.1, 4.0, 6.0, *later], {2: "heat mat to low"})
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
    check_in_at(storm, run, [1.0, 2.5, 4.2, 5.6, 6.9], {})


def add_roof_panels(plan: Plan, clouds: float) -> None:
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
