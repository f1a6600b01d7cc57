"""The whole house beside a survey's loads."""

from __future__ import annotations

from typing import Any

from django import template

from web.house.page import beside
from web.jobs.models import Job

register = template.Library()


@register.inclusion_tag("house/_beside.html")
def house_beside(job: Job) -> dict[str, Any]:
    """The newest meter of the house, with what it says of the loads; a way to give one."""
    return {"job": job, "sentences": beside(job)}
