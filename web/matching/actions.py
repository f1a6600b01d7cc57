"""All changes of corrections."""

from __future__ import annotations

from web.jobs.actions import remove, save_new
from web.matching.models import Correction


def add_correction(correction: Correction) -> Correction:
    return save_new(correction.load.job, correction, f"Kept: {correction}")[0]


def remove_correction(correction: Correction) -> None:
    remove(correction.load.job, correction, f"Removed: {correction}")
