"""How a job's plans held: the ranges said before its runs, and what follows for its ranges now."""

from __future__ import annotations

from needle.trial.honesty import Honesty, honesty
from web.jobs.models import Job
from web.plans.runs import ended_trials


def honesty_of(job: Job) -> Honesty:
    """How the ranges said before the job's finished runs held; fetched once per request."""
    if job.cache.honesty is None:
        foretold = [trial.foretold() for trial in ended_trials(job)]
        job.cache.honesty = honesty([run for run in foretold if run is not None])
    found: Honesty = job.cache.honesty
    return found


def spread_factor_of(job: Job) -> float:
    """By what the ranges of the job's plans are scaled; 1 if that is switched off."""
    return honesty_of(job).factor if job.follows_runs else 1.0
