"""What a link shows: a sheet, a card, or a list, and nothing else of its job."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from web.loads.models import Photo
from web.plans.draft import draft_of
from web.plans.models import Plan
from web.plans.outcomes import current_plan
from web.plans.page import view_of
from web.share.models import ShareLink
from web.sheets.sheet import sheet_of


def plan_of(link: ShareLink) -> Plan:
    """The plan that a link shows: its own, or the job's current one."""
    plan: Plan = link.plan or current_plan(link.job)
    plan.job = link.job
    return plan


def sheet_context(link: ShareLink, token: str, wait_s: float) -> dict[str, Any]:
    """Variables of the sheet for a reader: without links to pages that need an account."""
    job = link.job
    sheet = sheet_of(job, plan_of(link), job.owner.get_username(), wait_s, link.photos, link.card)
    lines = [replace(line, url="") for line in sheet.lines]
    shown = replace(sheet, lines=lines, rests=None)
    return {"job": job, "sheet": shown, "view": view_of(sheet.answer), "token": token}


def photo_of(link: ShareLink, pk: int) -> Photo | None:
    """A photo that a link shows: of a reading of a load that its plan counts."""
    if link.shows != "sheet" or not link.photos:
        return None
    loads = [used.load for used in draft_of(plan_of(link)).used if used.counted]
    photos = Photo.objects.live().filter(reading__removed_at=None, reading__load__in=loads)
    return photos.filter(pk=pk).first()
