"""Search results: the user's records, pages, and terms of the glossary."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from django.db.models import Case, QuerySet, Value, When
from django.urls import reverse

from web.bench.models import Capture
from web.common.glossary import GLOSSARY, anchor
from web.jobs.access import may_open
from web.jobs.models import Job
from web.loads.models import Load
from web.meters.models import Meter
from web.plans.models import Plan
from web.supplies.models import Supply
from web.trials.models import Trial

#: Letters that are looked at, and things of one sort that are shown.
MOST_LETTERS, MOST = 80, 6
#: Pages of a job: words, name of the address, and other words they are looked for by.
JOB_PAGES = (
    ("Survey", "loads:survey", "loads appliances"),
    ("Add a load", "loads:add", "new appliance"),
    ("Loads of other jobs", "loads:shelf", "take along copy"),
    ("The whole house", "house:index", "utility smart meter interval file base load"),
    ("Bench", "bench:index", "measure meter reading capture"),
    ("Loggers", "bench:loggers", "mqtt send samples"),
    ("A measuring round", "rounds:index", "visit meters order what to measure"),
    ("Supplies", "supplies:list", "battery inverter"),
    ("Add a supply", "supplies:add", "new battery inverter"),
    ("Will it start?", "matching:starts", "surge inrush trip order"),
    ("Each load alone", "plans:alone", "hours one by one"),
    ("Compare loads", "matching:compare", "cheaper boxes side by side"),
    ("Day plan", "plans:current", "hours runtime schedule sources panels"),
    ("New plan", "plans:add", "day"),
    ("Trials", "trials:index", "rehearsal run check in"),
    ("Start a trial", "trials:start", "rehearsal"),
    ("Sheet", "sheets:sheet", "print pdf hand over"),
    ("Links for clients", "share:links", "share send card list inbox"),
    ("People", "jobs:people", "invite members owner measurer viewer leave"),
    ("Changes", "jobs:changes", "who did history undo"),
    ("Programs", "api:programs", "tokens scripts interface api"),
    ("Out to the house", "outward:index", "mqtt broker webhook notify"),
    ("Job details", "jobs:edit", "mains volts tariff currency zone"),
)
PAGES = (
    ("Jobs", "jobs:list", "home all new import bin"),
    ("My meters", "meters:list", "accuracy instruments"),
    ("Practice", "practice:index", "drills learn exercise"),
    ("Words", "common:glossary", "glossary terms meaning"),
    ("Your account", "accounts:account", "password units"),
)


@dataclass(frozen=True)
class Hit:
    """A search result: its type, name, context, and link."""

    sort: str
    name: str
    where: str
    url: str


def hits(user: Any, job: Job | None, text: str) -> list[Hit]:
    """Results for a text, of the open job first; without text, the job's pages."""
    wanted = text.strip()[:MOST_LETTERS]
    pages = list(_pages(job, wanted.casefold()))
    if not wanted:
        return pages
    return [*_things(user, job, wanted), *pages, *_words(wanted.casefold())]


def _things(user: Any, job: Job | None, wanted: str) -> Iterator[Hit]:
    jobs = Job.objects.visible_to(user)
    for record in jobs.filter(name__icontains=wanted)[:MOST]:
        yield Hit("job", record.name, "", reverse("loads:survey", args=[record.pk]))
    loads = Load.objects.live()
    sorts: tuple[tuple[str, QuerySet[Any], str, Callable[[Any], str]], ...] = (
        ("load", loads, "job", lambda load: reverse("loads:load", args=[load.job_id, load.pk])),
        (
            "supply",
            Supply.objects.live(),
            "job",
            lambda supply: reverse("supplies:supply", args=[supply.job_id, supply.pk]),
        ),
        (
            "plan",
            Plan.objects.live(),
            "job",
            lambda plan: reverse("plans:plan", args=[plan.job_id, plan.pk]),
        ),
        (
            "trial",
            Trial.objects.live(),
            "job",
            lambda trial: reverse("trials:trial", args=[trial.job_id, trial.pk]),
        ),
        (
            "capture",
            Capture.objects.live().filter(load__in=loads).defer("raw", "packed"),
            "load__job",
            lambda capture: reverse("bench:capture", args=[capture.load.job_id, capture.pk]),
        ),
    )
    for sort, records, path, url in sorts:
        mine = records.filter(**{f"{path}__in": jobs, "name__icontains": wanted})
        here = Case(When(**{path: job}, then=Value(0)), default=Value(1)) if job else Value(0)
        for record in mine.select_related(path).order_by(here, "name")[:MOST]:
            owner = record.load.job if path == "load__job" else record.job
            yield Hit(sort, record.name, "" if job == owner else owner.name, url(record))
    for meter in Meter.objects.filter(owner=user, name__icontains=wanted)[:MOST]:
        yield Hit("meter", meter.name, "", reverse("meters:list"))


def _pages(job: Job | None, wanted: str) -> Iterator[Hit]:
    """Pages whose name or keywords begin with the text."""
    of_job = [(name, page, also, [job.pk]) for name, page, also in JOB_PAGES] if job else []
    for name, page, also, args in [*of_job, *((*page, []) for page in PAGES)]:
        if not may_open(reverse(page, args=args)):
            continue
        if any(word.startswith(wanted) for word in f"{name} {also}".casefold().split()) or (
            wanted in name.casefold()
        ):
            yield Hit("page", name, "", reverse(page, args=args))


def _words(wanted: str) -> Iterator[Hit]:
    """Terms of the glossary, those that begin with the text first."""
    fitting = [word for word in GLOSSARY if wanted in word.casefold()]
    fitting.sort(key=lambda word: (not word.casefold().startswith(wanted), word.casefold()))
    for word in fitting[:MOST]:
        yield Hit("word", word, GLOSSARY[word], f"{reverse('common:glossary')}#{anchor(word)}")
