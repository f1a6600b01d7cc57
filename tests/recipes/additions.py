"""What each recipe of ``docs/how_to_add.md`` puts into which file, on an example."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Insertion:
    """Text that goes into a file before a line; into a new file where ``before`` is empty."""

    file: str
    before: str
    text: str

    def make(self, tree: Path) -> None:
        path = tree / self.file
        if not self.before:
            assert not path.exists(), f"{self.file} exists already"
            path.write_text(self.text, "utf-8")
            return
        content = path.read_text("utf-8")
        assert content.count(self.before) == 1, f"{self.file}: {self.before!r} is not there once"
        path.write_text(content.replace(self.before, self.text + self.before), "utf-8")


KIND = (
    Insertion(
        "needle/profile/kinds.py",
        """    Kind(
        "led",
""",
        """    Kind(
        "stirrer",
        "stirrer with a drive",
        "stirrer",
        (0.5, 0.6, 0.9),
        (1, 1.5, 3),
        None,
        0.2,
        by_use=True,
        electronic=True,
        no_capacitor="A drive shapes its own current.",
        usual_w=(10, 300),
    ),
""",
    ),
    Insertion(
        "needle/profile/appliances.py",
        '    Appliance("lamp",',
        '    Appliance("stirrer", "Stirrer", "Stirrer", "stirrer"),\n',
    ),
)

CHEMISTRY = (
    Insertion(
        "needle/supply/chemistry.py",
        """        Chemistry(
            "lead",
""",
        """        Chemistry(
            "sodium",
            "sodium ion",
            floor=0.10,
            peukert_n=1.02,
            charge_efficiency=0.92,
            cell_v=3.1,
            cutoff_v=2.0,
            ohm_ah=0.10,
            open_circuit=((0.0, 2.0), (0.5, 3.0), (1.0, 3.8)),
            yearly_loss=(0.03, 0.02),
            least_charge_c=-10.0,
        ),
""",
    ),
)

SOURCE = (
    Insertion(
        "needle/plan/sources/pedal.py",
        "",
        '''"""A generator that is pedalled: watts for some hours of each day."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, tzinfo

import numpy as np

from needle.document import Reader
from needle.fields import Number
from needle.plan.sources.source import Source


@dataclass(frozen=True)
class Pedal(Source):
    """A pedalled generator: W while somebody pedals, and hours from eight in the morning."""

    TITLE = "a pedalled generator"
    ABOUT = ("Pedalling", "A fit person keeps up about 75 W for an hour.")
    FIELDS = {
        "watts": Number("power", label="Gives", unit="W", most=400, above=True, needed=True),
        "hours": Number("hours a day", label="For", unit="h", most=12, needed=True),
    }

    watts: float
    hours: float

    @classmethod
    def read(cls, reader: Reader, name: str, limit_w: float, zone: tzinfo | None) -> Pedal:
        return cls(name, limit_w, reader.number("watts"), reader.number("hours"))

    @property
    def rated_most_w(self) -> float:
        return self.watts

    def power_w(self, start: datetime, minutes: int) -> np.ndarray:
        clock = (start.hour * 60 + start.minute + np.arange(minutes)) % 1440
        return np.where((clock >= 480) & (clock < 480 + 60 * self.hours), self.most_w, 0.0)
''',
    ),
    Insertion(
        "needle/plan/sources/registry.py",
        "from needle.plan.sources.source import Source, same_each_day\n",
        "from needle.plan.sources.pedal import Pedal\n",
    ),
    Insertion("needle/plan/sources/registry.py", '    "wind": Wind,\n', '    "pedal": Pedal,\n'),
)

READING = (
    Insertion(
        "needle/measure/readings.py",
        "@dataclass(frozen=True)\nclass Tally:",
        '''@dataclass(frozen=True)
class Daily:
    """Wh of a whole day, as a smart plug's own page shows them."""

    wh: float
    context: Context = Context()

    def as_run(self) -> EnergyRun:
        """The same as a counter's run of a day."""
        return EnergyRun(self.wh, 24.0, context=self.context)


''',
    ),
    Insertion(
        "needle/measure/readings.py",
        "    Label | Spot | Start",
        "    Daily |\n",
    ),
    Insertion(
        "needle/measure/readings.py",
        "@dataclass(frozen=True)\nclass ReadingType:",
        """_DAILY_FIELDS: Fields = {
    "wh": Number("energy of a whole day", unit="Wh", most=MOST_WH, needed=True),
}


def _daily(reader: Reader) -> Daily:
    return Daily(reader.number("wh"), _context(reader))


""",
    ),
    Insertion(
        "needle/measure/readings.py",
        '    "start": ReadingType(',
        '    "daily": ReadingType("Wh of a day", _DAILY_FIELDS, _daily),\n',
    ),
    Insertion(
        "needle/profile/evidence.py",
        "    EnergyRun,\n",
        "    Daily,\n",
    ),
    Insertion(
        "needle/profile/evidence.py",
        "        return energy.without_read_on(self.of(EnergyRun))\n",
        """        if days := [daily.as_run() for daily in self.of(Daily)]:
            return energy.without_read_on(self.of(EnergyRun) + days)
""",
    ),
    Insertion(
        "web/loads/reading_forms.py",
        "class TallyForm(ReadingForm):",
        """class DailyForm(ReadingForm):
    type = "daily"
    wh = QuantityField("Wh", label="A day", most=MOST_WH)
    instrument = _instrument("plug")


""",
    ),
    Insertion("web/loads/reading_forms.py", "        TallyForm,\n", "        DailyForm,\n"),
    Insertion("web/loads/words.py", "    EnergyRun,\n", "    Daily,\n"),
    Insertion(
        "web/loads/words.py",
        "@_sentence.register\ndef _tally(",
        """@_sentence.register
def _daily(core: Daily) -> str:
    return f"{as_read(core.wh, 'Wh')} in a day"


""",
    ),
)

MEASUREMENT = (
    Insertion(
        "needle/round/candidate.py",
        "IDLE, IDLE_DROP, EFFICIENCY, DRAIN =",
        'REMOTE = "remote count"\n',
    ),
    Insertion(
        "needle/round/candidate.py",
        "_OF_IDLE = (",
        "OF_THE_MEAN = (*OF_THE_MEAN, REMOTE)\n",
    ),
    Insertion("needle/round/of_load.py", "    COUNTER,\n", "    REMOTE,\n"),
    Insertion(
        "needle/round/of_load.py",
        "            for hours in sorted({*_COUNTER_H",
        "            yield socket.remote()\n",
    ),
    Insertion(
        "needle/round/of_load.py",
        "    def task(self) -> Iterator[Candidate]:",
        '''    def remote(self) -> Candidate:
        """A count of a day whose end is read from afar: nobody comes back for it."""
        leaves = _mean_left(self.load, self.spreads, self._counted(24.0), self.watched.span(24.0))
        return self._made(REMOTE, PUT_IN_MIN, PUT_IN_MIN, 0.0, leaves)

''',
    ),
    Insertion(
        "needle/words/round.py",
        '    "spot": "{meter} to',
        '    "remote-count": "{meter} to {subject}: leave it in, read it tomorrow from afar",\n',
    ),
    Insertion(
        "needle/words/round.py",
        '    "task": "read {meter} at',
        '    "remote-count": "read the count of {subject} from afar",\n',
    ),
    Insertion("web/rounds/page.py", '    "spot": "spot",\n', '    "remote count": "energy",\n'),
)

DRILL = (
    Insertion(
        "needle/drill/shipped.py",
        """    {
        "name": "A counter from yesterday",
""",
        """    {
        "name": "Two lamps",
        "ask": "day",
        "limit": 100,
        "minutes": 120,
        "meters": ["plug"],
        "lesson": "A lamp is steady: one look is enough.",
        "question": "Does the lamp take more than 100 Wh a day?",
        "loads": [{"name": "Lamp", "standin": "led", "label_factor": 1.3}],
    },
""",
    ),
)

PAGE = (
    Insertion(
        "web/loads/urls.py",
        '    path("loads/shelf/"',
        '    path("loads/heaviest/", views.heaviest, name="heaviest"),\n',
    ),
    Insertion(
        "web/loads/views.py",
        "#: Loads that are taken along at once.",
        '''@require_GET
@of_job
def heaviest(request: HtmxRequest, job: Job) -> HttpResponse:
    """Names of the job's loads, the heaviest first."""
    return render(request, "loads/heaviest.html", {"job": job, "rows": heaviest_of(job)})


''',
    ),
    Insertion(
        "web/loads/views.py",
        "from web.loads.reading_forms import",
        "from web.loads.page import heaviest_of\n",
    ),
    Insertion(
        "web/loads/page.py",
        "from web.loads.models import CombinedReading, Load, Photo\n",
        "from web.jobs.models import Job\n",
    ),
    Insertion(
        "web/loads/page.py",
        "def page_of(",
        '''def heaviest_of(job: Job) -> list[tuple[str, float]]:
    """Names and mean W of the loads that are known, the heaviest first."""
    profiles = [(load.name, load.profile()) for load in job.loads.live().with_readings()]
    known = [(name, profile.mean_w.value) for name, profile in profiles if profile]
    return sorted(known, key=lambda row: -row[1])


''',
    ),
    Insertion(
        "web/templates/loads/heaviest.html",
        "",
        """{% extends "base_job.html" %}
{% load words %}
{% block title %}Heaviest loads{% endblock title %}
{% block work %}
  <h1>Heaviest loads</h1>
  <ol>{% for name, watts in rows %}<li>{{ name }}: {{ watts|quantity:"W" }}</li>{% endfor %}</ol>
{% endblock work %}
""",
    ),
)

#: Recipes by their heading on the page.
RECIPES = {
    "a kind of load": KIND,
    "a chemistry": CHEMISTRY,
    "a source": SOURCE,
    "a reading": READING,
    "a measurement of the round": MEASUREMENT,
    "a drill, or something amiss in one": DRILL,
    "a page": PAGE,
}


def all_insertions() -> Iterator[Insertion]:
    for insertions in RECIPES.values():
        yield from insertions
