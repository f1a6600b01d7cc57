"""A server that is killed in the middle of a save leaves nothing half-written."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import TestCase

ROOT = Path(__file__).resolve().parent.parent.parent
#: Adds a load with its label, and dies when the load is stored and its reading is not.
DYING = """
import os, sys, uuid
import django
django.setup()
from django.contrib.auth import get_user_model
from django.core.management import call_command
call_command("migrate", verbosity=0)
from web.jobs.models import Job
from web.loads import actions
from web.loads.models import Load
user = get_user_model().objects.create_user("ada")
job = Job.objects.create(owner=user, name="Home")
def die(*args, **kwargs):
    assert Load.objects.count() == 1
    os._exit(9)
actions.add_reading = die
actions.add_load(Load(job=job, name="Box", kind="led", client_key=uuid.uuid4()), {"watts": 5.0})
"""
COUNTING = """
import django
django.setup()
from web.jobs.models import Change, Job
from web.loads.models import Load, Reading
print(Job.objects.count(), Load.objects.count(), Reading.objects.count(), Change.objects.count())
"""


class KillTest(TestCase):
    def run_script(self, script: str, folder: str) -> subprocess.CompletedProcess:
        env = {
            **os.environ,
            "DJANGO_SETTINGS_MODULE": "web.settings",
            "STEADY_DATA": folder,
            "STEADY_SECRET_KEY": "only-for-tests",
        }
        return subprocess.run(
            [sys.executable, "-c", script],
            cwd=ROOT,
            env=env,
            capture_output=True,
            text=True,
            check=False,
        )

    def test_half_a_load_is_no_load(self):
        with tempfile.TemporaryDirectory() as folder:
            died = self.run_script(DYING, folder)
            self.assertEqual(died.returncode, 9, died.stderr)
            counted = self.run_script(COUNTING, folder)
            self.assertEqual(counted.stdout.split(), ["1", "0", "0", "0"], counted.stderr)
