"""The demo's documents with their headless answers, kept so that a change of any figure is seen.

``python -m tests.demo_answers`` keeps the answers of the kept documents anew;
with ``--documents`` it takes the documents from the site's database, a fresh demo, first.
"""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import Any

KEPT = Path(__file__).parent / "core" / "data" / "demo_answers.json"


def answer(kind: str, document: dict[str, Any]) -> dict[str, Any]:
    """What the headless command says to a document."""
    from needle.plan.documents.parse import parse_plan
    from needle.plan.documents.report import as_document as plan_document
    from needle.plan.energy.simulate import simulate
    from needle.profile.document import as_document as profile_document
    from needle.profile.document import parse_load
    from needle.profile.profile import derive
    from needle.trial.forecast import forecast
    from needle.trial.prediction import as_document as forecast_document
    from needle.trial.trial import parse_trial
    from needle.words import worded

    if kind == "load":
        told = profile_document(derive(parse_load(document)))
    elif kind == "trial":
        told = forecast_document(forecast(parse_trial(document)))
    else:
        told = plan_document(simulate(parse_plan(document), draws=60))
    # What an answer rests on is tested by itself.
    return worded({key: value for key, value in told.items() if key != "ledger"})


def rounded(value: Any) -> Any:
    """Figures to six digits: what another build of a library may change is behind them."""
    if isinstance(value, float):
        return float(f"{value:.6g}")
    if isinstance(value, dict):
        return {key: rounded(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [rounded(item) for item in value]
    return value


def kept() -> list[dict[str, Any]]:
    return json.loads(KEPT.read_text())


def _documents() -> list[dict[str, Any]]:
    """Every load, plan and trial of the demo as the document that the site answers."""
    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.settings")
    django.setup()
    from web.jobs.models import Job
    from web.plans.draft import document, draft_of
    from web.sheets.documents import load_document

    taken: list[dict[str, Any]] = []
    for job in Job.objects.order_by("pk"):
        taken += [{"kind": "load", "document": load_document(load)} for load in job.loads.live()]
        taken += [
            {"kind": "plan", "document": document(draft_of(plan))} for plan in job.plans.live()
        ]
        taken += [{"kind": "trial", "document": trial.to_document()} for trial in job.trials.live()]
    return taken


def main() -> None:
    documents = _documents() if "--documents" in sys.argv else kept()
    for item in documents:
        item["answer"] = rounded(answer(item["kind"], item["document"]))
    KEPT.write_text(
        "[\n" + ",\n".join(json.dumps(item, sort_keys=True) for item in documents) + "\n]\n"
    )


if __name__ == "__main__":
    main()
