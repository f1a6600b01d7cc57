"""The clinic's loads, their readings over the years, and its bench."""

from __future__ import annotations

import uuid
from datetime import timedelta

from django.utils import timezone

from needle.measure.capture import as_csv
from needle.standin.appliances import timeline
from needle.standin.meters import panel_logger, plug_meter
from web.bench.actions import fill, keep, read_file, start_session
from web.bench.models import Capture, Session
from web.demo.making import (
    FRIDGE_SEED,
    add_with_readings,
    measured_readings,
    tally_of,
)
from web.demo.pictures import meter_showing
from web.jobs.actions import save_new
from web.jobs.models import Job
from web.loads.actions import add_photo, add_reading
from web.loads.models import Load


def clinic_loads(job: Job) -> dict[str, Load]:
    """Twelve loads of the clinic, by a short name."""
    wobble = (1.0, 1.06, 0.93, 1.02, 0.97)
    return {
        "fridge": add_with_readings(
            job,
            [
                ("label", {"watts": 160.0, "volts": 230.0, "amps": 1.1, "kwh_per_year": 310.0}, ""),
                *measured_readings("cold-box", FRIDGE_SEED),
            ],
            name="Vaccine refrigerator",
            kind="compressor-fixed",
            priority="must",
            cares="cold",
            set_c=4.0,
            note="Half full; opened about eight times a day.",
        ),
        "incubator": add_with_readings(
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
        "mat": add_with_readings(
            job,
            [
                ("spot", {"state": "running", "watts": 31.0, "setting": "low"}, ""),
                ("spot", {"state": "running", "watts": 63.5, "setting": "mid"}, ""),
                ("spot", {"state": "running", "watts": 64.1, "setting": "mid"}, ""),
                ("spot", {"state": "resting", "watts": 0.9}, ""),
                ("tally", {**tally_of(8 * 60, 0.65, 4, wobble), "setting": "mid"}, "by the lamp"),
            ],
            name="Recovery heat mat",
            kind="thermostat-heat",
            priority="should",
            cares="life",
            setting="mid",
            note="Three settings; the high one is not measured yet.",
        ),
        "oxygen": add_with_readings(
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
        "autoclave": add_with_readings(
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
        "suction": add_with_readings(
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
        "centrifuge": add_with_readings(
            job,
            [("label", {"watts": 400.0, "volts": 230.0}, "")],
            name="Centrifuge",
            kind="induction-motor",
            priority="nice",
            hours_per_day=0.4,
        ),
        "lamp": add_with_readings(
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
        "router": add_with_readings(
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
        "printer": add_with_readings(
            job,
            [("label", {"watts": 60.0}, "")],
            name="Label printer",
            kind="electronics",
            priority="nice",
            hours_per_day=0.3,
            put_off="lent to a neighbour until January",
        ),
        "pump": add_with_readings(
            job,
            [("label", {"watts": 25.0}, "on the plug")],
            name="Aquarium pump",
            kind="electronics",
            priority="should",
            note="Small, but always on.",
        ),
        "laptop": add_with_readings(
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
