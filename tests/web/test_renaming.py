"""Everything gets another name, and the answers stay equal."""

from django.db import IntegrityError, transaction
from django.test import TestCase

from needle.trial.forecast import forecast
from tests.demo_data import load_demo
from tests.few_draws import FewDraws
from tests.web.base import SiteTest, clear_caches, make_load, make_supply
from web.jobs.actions import latest_change, save_change, undo
from web.jobs.models import Job
from web.loads.actions import change_load
from web.meters.actions import change_meter
from web.plans.draft import draft_of
from web.plans.models import PlanEntry
from web.plans.outcomes import LONG_WAIT_S, answer_of
from web.plans.rests import rests_of
from web.rounds.models import MeasuringRound
from web.supplies.actions import add_test, change_supply, save_part
from web.supplies.models import Input, Output, SupplyTest
from web.trials.actions import change_trial
from web.trials.models import Trial


def answers(job):
    """All that a job's plans and trials come to."""
    job = Job.objects.get(pk=job.pk)
    found = {}
    for plan in job.plans.live():
        plan.job = job
        answer = answer_of(plan, LONG_WAIT_S)
        draft = draft_of(plan)
        found["plan", plan.pk] = (
            [rounded(end) for end in answer.outcome.runtime],
            rounded(answer.outcome.chance),
            [(run.document is not None, run.why_not) for run in draft.runs],
            sorted(line.used for line in rests_of(draft).lines),
            sorted(rounded(wh) for wh in answer.outcome.likely.energy_wh["loads"].values()),
            sorted(rounded(start.verdict.chance or 0) for start in answer.outcome.starts),
        )
    for trial in job.trials.live():
        trial.job = job
        expected = forecast(trial.to_core()).stop_h
        found["trial", trial.pk] = ([rounded(end) for end in expected], trial.carried)
    return found


def rounded(value):
    """Loads are summed in another order after a renaming: the last digits may differ."""
    return value if value is None else float(f"{value:.6g}")


class RenamingTest(FewDraws, TestCase):
    def test_everything_in_the_demo_is_renamed(self):
        load_demo()
        for job in Job.objects.filter(
            name__in=("Tern Point Animal Clinic", "Quince Lane cider shed")
        ):
            clear_caches()
            before = answers(job)
            self.rename(job)
            clear_caches()
            self.assertEqual(answers(job), before)

    def rename(self, job):
        for number, meter in enumerate(job.owner.meters.all()):
            meter.name = f"meter {9 - number} called otherwise"
            change_meter(meter)
        for number, load in enumerate(job.loads.live()):
            load.name = f"{chr(122 - number)}: load called otherwise"
            change_load(load)
        for supply in job.supplies.live():
            for part in (*supply.outputs.live(), *supply.inputs.live()):
                part.name = f"x{part.pk} {type(part).__name__}"
                save_part(part)
            supply.refresh_from_db()
            supply.name = f"supply {supply.pk}"
            change_supply(supply)
        for plan in job.plans.live():
            plan.name = f"plan {plan.pk}"
            save_change(job, plan, "")
            for source in plan.sources.live():
                source.name = f"source {source.pk}"
                save_change(job, source, "")
        for trial in job.trials.live():
            trial.name = f"trial {trial.pk}"
            change_trial(trial)


class FollowingTest(SiteTest):
    def setUp(self):
        super().setUp()
        self.box, self.lamp = make_load(self.job, "Box"), make_load(self.job, "Lamp", 20.0)
        self.supply = make_supply(self.job)
        self.output = Output.objects.create(supply=self.supply, name="dc12", volts=12)
        self.test = add_test(
            SupplyTest(
                supply=self.supply,
                type="together",
                data={"wh": 300.0, "hours": 6.0, "loads": ["Box", "Lamp"]},
            )
        )

    def test_what_names_a_load_follows_and_one_undo_takes_all_of_it_back(self):
        self.box.name = "Larder"
        change_load(self.box)
        self.test.refresh_from_db()
        self.assertEqual(self.test.data["loads"], ["Larder", "Lamp"])
        self.assertIsNotNone(undo(self.job, latest_change(self.job).pk))
        self.test.refresh_from_db()
        self.box.refresh_from_db()
        self.assertEqual((self.test.data["loads"], self.box.name), (["Box", "Lamp"], "Box"))

    def test_what_names_an_output_or_an_input_follows(self):
        plan = self.job.plans.create(name="Night", supply=self.supply)
        entry = PlanEntry.objects.create(plan=plan, load=self.lamp, route="dc12")
        sun = Input.objects.create(supply=self.supply, name="sun")
        source = plan.sources.create(
            kind="window",
            name="Mains",
            data={"watts": 100.0, "between": [["18:00", "20:00"]], "input": "sun"},
        )
        self.output.name, sun.name = "left socket", "MC4"
        save_part(self.output)
        save_part(sun)
        entry.refresh_from_db()
        source.refresh_from_db()
        self.assertEqual((entry.route, source.data["input"]), ("left socket", "MC4"))

    def test_a_round_follows(self):
        record = MeasuringRound(
            job=self.job,
            keep_plugged=["Lamp"],
            begins="2026-11-29T10:00Z",
            ends="2026-11-29T12:00Z",
            steps=[{"key": "counter: Box", "load": "Box", "loads": []}],
        )
        self.assertTrue(record.rename(Loadlike("Larder"), "Box"))
        self.assertEqual(record.steps[0]["key"], "counter: Larder")
        self.assertFalse(record.rename(Loadlike("Fan"), "Pump"))

    def test_what_ran_in_a_trial_follows(self):
        trial = Trial(ran={"loads": [{"name": "Box", "route": "dc12"}]})
        self.box.name = "Larder"
        self.assertTrue(trial.rename(self.box, "Box"))
        self.assertEqual(trial.ran["loads"][0]["name"], "Larder")

    def test_names_are_unique_among_what_is_there(self):
        for again in (
            lambda: make_load(self.job, "Box"),
            lambda: Output.objects.create(supply=self.supply, name="dc12"),
        ):
            with self.assertRaises(IntegrityError), transaction.atomic():
                again()
        self.client.post(self.url("loads:remove", self.box.pk))
        self.assertEqual(make_load(self.job, "Box").name, "Box")


class Loadlike:
    def __init__(self, name):
        self.name = name
