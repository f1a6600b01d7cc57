"""Suggested check-ins as a calendar file."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from icalendar import Alarm, Calendar, Event

from web.trials.models import Trial


def calendar_of(trial: Trial, moments: Sequence[datetime], url: str) -> bytes:
    """An iCalendar file (RFC 5545) with an event and an alarm at each moment."""
    calendar = Calendar()
    calendar.add("prodid", "-//Steady Needle//trials//EN")
    calendar.add("version", "2.0")
    for number, moment in enumerate(moments):
        event = Event()
        event.add("uid", f"{trial.client_key}-{number}@steady-needle")
        event.add("dtstamp", trial.changed_at)
        event.add("dtstart", moment)
        event.add("dtend", moment + timedelta(minutes=5))
        event.add("summary", f"Check in on {trial.name}")
        event.add("url", url)
        alarm = Alarm()
        alarm.add("action", "DISPLAY")
        alarm.add("description", f"Check in on {trial.name}")
        alarm.add("trigger", timedelta(0))
        event.add_component(alarm)
        calendar.add_component(event)
    return bytes(calendar.to_ical())
