"""All changes of captures and sessions."""

from __future__ import annotations

import gzip
import uuid
from typing import Any
from zoneinfo import ZoneInfo

from django.db import transaction
from django.utils import timezone

from needle.document import DocumentError
from needle.measure.analysis import as_reading
from needle.measure.capture import Capture as CoreCapture
from needle.measure.capture import header_of, read_capture
from needle.message import as_stored, message
from web.bench.models import Capture, Session, pack, unpack
from web.jobs.actions import remove, save_change, save_new
from web.loads.actions import add_reading, change_reading
from web.loads.models import Reading

#: What a person can mend by saying what the columns mean.
CORRECTABLE = ("time", "columns")


def _mains(capture: Capture) -> float | None:
    """The job's mains voltage, for files with amps only."""
    core = unpack(bytes(capture.packed))
    has_power = {"watts", "va", "wh"} & set(core.columns)
    alone = "amps" in core.columns and "volts" not in core.columns and not has_power
    return capture.load.mains_v if alone else None


def fill(capture: Capture, core: CoreCapture) -> None:
    """Set a row's fields from a parsed capture, without saving; refuses what cannot be analysed.

    Raises
    ------
    DocumentError
    """
    capture.packed = pack(core)
    capture.begins = core.start
    capture.rows = len(core.time_s)
    capture.interval_s = core.interval_s()
    capture.notices = [as_stored(notice) for notice in core.notices]


def read_file(capture: Capture, content: bytes) -> Capture:
    """Parse an uploaded file into a capture under preview.

    Raises
    ------
    DocumentError
        It cannot be parsed; nothing is stored.
    """
    capture.header = header_of(content)
    try:
        fill(capture, read_capture(content, capture.meanings))
        capture.volts = capture.volts or _mains(capture)
    except DocumentError as error:
        if error.path not in CORRECTABLE:
            raise
        # Kept under preview, so that the columns can be given their meaning.
        capture.packed, capture.notices = b"", [as_stored(message("refused", why=str(error)))]
    capture.raw = gzip.compress(content, 1)
    capture.make_room()
    capture.client_key = capture.client_key or uuid.uuid4()
    return save_new(capture.load.job, capture, f"Read a capture of {capture.load.name}")[0]


def correct(capture: Capture) -> None:
    """Parse the file of a capture under preview again, with its corrections.

    Raises
    ------
    DocumentError
    """
    zone = ZoneInfo(capture.zone) if capture.zone else capture.load.job.clock
    content = gzip.decompress(bytes(capture.raw))
    fill(capture, read_capture(content, capture.meanings, zone))
    save_change(capture.load.job, capture, f"Corrected {capture.name}")


def evidence(capture: Capture) -> dict[str, Any]:
    """The reading document of a capture."""
    reading = as_reading(capture.analysis(), capture.interval_s)
    reading.pop("type")
    context = {
        "setting": capture.setting,
        "room_c": capture.room_c,
        "instrument": capture.instrument,
    }
    return reading | {key: value for key, value in context.items() if value not in (None, "")}


def keep(capture: Capture) -> Reading:
    """Make a capture evidence of its load, once.

    Raises
    ------
    DocumentError
    """
    with transaction.atomic():
        stored: Capture = Capture.objects.select_for_update().get(pk=capture.pk)
        if stored.kept and stored.reading is not None:
            return stored.reading
        data = evidence(capture)
        reading = add_reading(
            capture.load, "capture", data, read_at=capture.begins, note=capture.name
        )
        Capture.objects.filter(pk=capture.pk).update(
            kept=True, reading=reading, raw=b"", removed_at=None
        )
    capture.refresh_from_db()
    return reading


def correct_levels(capture: Capture) -> None:
    """Store corrected boundaries and names, and update the evidence.

    Raises
    ------
    DocumentError
    """
    data = evidence(capture)
    with transaction.atomic():
        save_change(capture.load.job, capture, f"Corrected the levels of {capture.name}")
        if capture.reading is not None:
            reading = capture.reading
            change_reading(reading, data, reading.read_at, reading.note)


def discard(capture: Capture) -> None:
    """Remove a capture and its evidence."""
    with transaction.atomic():
        if capture.reading is not None:
            remove(capture.load.job, capture.reading, f"Removed {capture.name}")
        else:
            remove(capture.load.job, capture, f"Removed {capture.name}")


def start_session(session: Session) -> Session:
    return save_new(session.load.job, session, f"Put {session} to work")[0]


def change_speed(session: Session, speed: int) -> None:
    """Continue the clock from its present time at another speed."""
    session.clock_s, session.clock_at, session.speed = session.now_s(), timezone.now(), speed
    session.save(update_fields=["clock_s", "clock_at", "speed"])


def reset_counter(session: Session) -> None:
    """Set the session's energy counter to zero."""
    session.reset_s = session.now_s()
    session.save(update_fields=["reset_s"])


def keep_counter(session: Session, data: dict[str, Any]) -> None:
    """Store the counter as an energy run; before a reset, a later one replaces an earlier one.

    Raises
    ------
    DocumentError
    """
    key = uuid.uuid5(session.client_key, f"counter {session.reset_s}")
    with transaction.atomic():
        kept = session.load.readings.filter(client_key=key).first()
        if kept is None:
            add_reading(session.load, "energy", data, client_key=key)
        else:
            kept.removed_at = None
            change_reading(kept, data, kept.read_at, kept.note)


def tally(session: Session) -> str:
    """Record the next on or off moment; return which it was."""
    with transaction.atomic():
        edges = Session.objects.select_for_update().get(pk=session.pk).tally
        name = "off" if edges and edges[-1][0] == "on" else "on"
        session.tally = [*edges, [name, round(session.now_s(), 1)]]
        session.save(update_fields=["tally"])
    return name


def keep_tally(session: Session) -> Reading:
    """Store the recorded moments as a reading, once.

    Raises
    ------
    DocumentError
        There are fewer than three.
    """
    with transaction.atomic():
        edges = Session.objects.select_for_update().get(pk=session.pk).tally
        reading = add_reading(session.load, "tally", {"edges": edges, **_without_meter(session)})
        session.tally = []
        session.save(update_fields=["tally"])
    return reading


def _without_meter(session: Session) -> dict[str, Any]:
    conditions = session.conditions()
    conditions.pop("instrument", None)
    return conditions


def stop_session(session: Session, name: str) -> Capture | None:
    """Stop a session; its recording becomes a capture and evidence. None if it is too short.

    Atomic: after a kill the session is still running.
    """
    with transaction.atomic():
        stored = Session.objects.select_for_update().get(pk=session.pk)
        if stored.stopped:
            return session.load.captures.filter(client_key=stored.client_key).first()
        end = session.now_s()
        session.clock_s, session.stopped = end, True
        session.save(update_fields=["clock_s", "stopped"])
        meter = session.core_meter()
        if end < 3 * meter.interval_s:
            return None
        core = meter.capture(session.line(), 0.0, end)
        capture = Capture(
            load=session.load,
            name=name[:80] or str(session),
            source="bench",
            instrument=session.meter,
            setting=session.setting,
            room_c=session.room_c,
            client_key=session.client_key,
        )
        fill(capture, core)
        save_new(session.load.job, capture, f"Recorded {session.load.name}")
        try:
            keep(capture)
        except DocumentError:
            return capture
    return capture
