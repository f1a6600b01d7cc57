"""A server that is killed in the middle of a save leaves nothing half-written."""

import http.client
import http.cookiejar
import io
import json
import os
import random
import re
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import threading
import urllib.error
import urllib.parse
import urllib.request
import uuid
from pathlib import Path
from unittest import TestCase

from tests.demo_data import DATABASE, empty_database
from web.jobs.actions import KEPT_CHANGES

ROOT = Path(__file__).resolve().parent.parent.parent
#: Adds a load with its label, and dies when the load is stored and its reading is not.
DYING = """
import os, sys, uuid
import django
django.setup()
from django.contrib.auth import get_user_model
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
            "STEADY_DATABASE_URL": "",
            "STEADY_FILES_URL": "",
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
            empty_database(Path(folder))
            died = self.run_script(DYING, folder)
            self.assertEqual(died.returncode, 9, died.stderr)
            counted = self.run_script(COUNTING, folder)
            self.assertEqual(counted.stdout.split(), ["1", "0", "0", "0"], counted.stderr)


#: A user with a job and a running trial, and the job as a package; prints where they are.
PREPARING = """
import os, sys
import django
django.setup()
from django.contrib.auth import get_user_model
from django.core.management import call_command
call_command("collectstatic", interactive=False, verbosity=0)
from datetime import timedelta
from django.utils import timezone
from web.bench.loggers import add_logger
from web.jobs.models import Job
from web.loads.models import Load
from web.sheets.exchange import export_job
from web.supplies.models import Supply
from web.trials.actions import start_trial
from web.trials.models import Trial
user = get_user_model().objects.create_user("ada", password="a-long-secret")
job = Job.objects.create(owner=user, name="Home")
for number in range(60):
    load = Load.objects.create(job=job, name=f"Load {number}", kind="led")
    load.readings.create(type="spot", data={"state": "running", "watts": 9.0})
supply = Supply.objects.create(job=job, name="Box", chemistry="lfp", nominal_wh=1000.0)
trial = start_trial(Trial(job=job, name="Run", supply=supply, expected={"value": 40.0},
                          started_at=timezone.now() - timedelta(hours=2)), None)
open(os.path.join(os.environ["STEADY_DATA"], "job.zip"), "wb").write(export_job(job))
_, token = add_logger(load, "logger")
print(job.pk, trial.pk, load.pk, token)
"""
SERVING = """
import sys
import django
django.setup()
import waitress
from web.wsgi import application
waitress.serve(application, host="127.0.0.1", port=int(sys.argv[1]), threads=4)
"""
#: What a client sees of a server that is gone.
GONE = (urllib.error.URLError, OSError, http.client.HTTPException)
#: Kills of the server during check-ins and during imports, and of the backup command; `make
#: harden` asks for many more.
KILLS = int(os.environ.get("STEADY_KILLS", "1"))
BACKUPS = KILLS


class ServerKillTest(TestCase):
    """A real server is killed in the middle of its work, again and again."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        empty_database(self.folder)
        self.env = {
            **os.environ,
            "DJANGO_SETTINGS_MODULE": "web.settings",
            "STEADY_DATA": folder.name,
            "STEADY_SECRET_KEY": "only-for-tests",
            "STEADY_DEMO": "false",
            "STEADY_DATABASE_URL": "",
            "STEADY_FILES_URL": "",
            "STEADY_ANSWER_WORKERS": "0",
        }
        done = subprocess.run(
            [sys.executable, "-c", PREPARING],
            cwd=ROOT,
            env=self.env,
            check=True,
            capture_output=True,
            text=True,
        )
        self.job, self.trial, self.load, self.logger = done.stdout.split()
        self.database = self.folder / DATABASE
        self.random = random.Random(7)
        self.server = None
        self.addCleanup(self.kill)

    def serve(self):
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.server = subprocess.Popen(
            [sys.executable, "-c", SERVING, str(self.port)],
            cwd=ROOT,
            env=self.env,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        self.opener = urllib.request.build_opener(
            urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar())
        )
        for _ in range(600):
            try:
                page = self.get("/sign-in/")
                break
            except urllib.error.HTTPError:
                raise
            except urllib.error.URLError:
                self.assertIsNone(self.server.poll(), "the server did not start")
                threading.Event().wait(0.05)
        self.token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page)[1]
        self.post("/sign-in/", username="ada", password="a-long-secret")
        page = self.get("/import/")
        self.token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page)[1]

    def kill(self):
        if self.server is not None and self.server.poll() is None:
            self.server.send_signal(signal.SIGKILL)
            self.server.wait()

    def get(self, path):
        with self.opener.open(f"http://127.0.0.1:{self.port}{path}", timeout=30) as answer:
            return answer.read().decode()

    def post(self, path, body=None, kind=None, **fields):
        fields = {"csrfmiddlewaretoken": self.token, **fields}
        data = body or urllib.parse.urlencode(fields).encode()
        request = urllib.request.Request(
            f"http://127.0.0.1:{self.port}{path}", data, {"Content-Type": kind} if kind else {}
        )
        with self.opener.open(request, timeout=30) as answer:
            return answer.read().decode()

    def kill_soon(self, most_s):
        timer = threading.Timer(self.random.uniform(0.0, most_s), self.kill)
        timer.start()
        return timer

    def rows(self, query):
        connection = sqlite3.connect(self.database)
        try:
            self.assertEqual(connection.execute("PRAGMA integrity_check").fetchone(), ("ok",))
            return connection.execute(query).fetchall()
        finally:
            connection.close()

    def test_readings_check_ins_samples_imports_and_backups(self):
        kept = self.while_sending()
        for kind, query in (
            ("check-in", "SELECT data FROM trials_checkin"),
            (
                "reading",
                f"SELECT note FROM loads_reading WHERE load_id = {self.load} AND note != ''",
            ),
        ):
            stored = [row[0] for row in self.rows(query)]
            notes = [json.loads(text)["note"] if kind == "check-in" else text for text in stored]
            self.assertLessEqual(kept[kind], set(notes), f"an acknowledged {kind} is lost")
            self.assertEqual(len(notes), len(set(notes)), f"a {kind} is there twice")
            model = {"check-in": "trials.CheckIn", "reading": "loads.Reading"}[kind]
            table = query.split(" FROM ")[1].split()[0]
            without_undo = self.rows(
                f"SELECT count(*) FROM ({query.replace('SELECT', 'SELECT id,')}) WHERE id NOT IN "
                f"(SELECT record FROM jobs_change WHERE model = '{model}')"
            )
            # Undo goes back a limited number of changes; older ones cannot be undone.
            (all_changes,) = self.rows("SELECT count(*) FROM jobs_change")
            if all_changes[0] < KEPT_CHANGES:
                self.assertEqual(without_undo, [(0,)], f"a {kind} and its undo belong together")
            undo_of_nothing = self.rows(
                f"SELECT count(*) FROM jobs_change WHERE model = '{model}' "
                f"AND record NOT IN (SELECT id FROM {table})"
            )
            self.assertEqual(undo_of_nothing, [(0,)], f"an undo without its {kind}")
        (rows,) = self.rows("SELECT count(*), count(DISTINCT digest), sum(rows) FROM bench_chunk")
        self.assertEqual(rows[0], rows[1], "samples are there twice")
        self.assertGreaterEqual(rows[0], len(kept["samples"]), "acknowledged samples are lost")
        self.while_importing()
        for count, name in self.rows(
            "SELECT (SELECT count(*) FROM loads_load WHERE job_id = jobs_job.id), name "
            "FROM jobs_job"
        ):
            self.assertEqual((count, name), (60, "Home"), "half a job was taken in")
        self.while_backing_up()
        for copy in self.folder.glob("copy-*.sqlite3"):
            with sqlite3.connect(copy) as connection:
                self.assertEqual(connection.execute("PRAGMA integrity_check").fetchone(), ("ok",))
        self.assertEqual(self.rows("PRAGMA integrity_check"), [("ok",)])

    def while_sending(self):
        """Send until killed, so many times, every second thing twice; what was acknowledged."""
        kept = {"check-in": set(), "reading": set(), "samples": set()}
        job = f"/jobs/{self.job}"
        for _ in range(KILLS):
            self.serve()
            timer, acknowledged = None, 0
            try:
                while True:
                    # However slow the machine, some are acknowledged before the kill.
                    if timer is None and acknowledged >= 2:
                        timer = self.kill_soon(0.3)
                    kind, note, key = self.random.choice(list(kept)), uuid.uuid4().hex, uuid.uuid4()
                    for _ in range(self.random.choice((1, 2))):
                        if kind == "check-in":
                            self.post(
                                f"{job}/trials/{self.trial}/check-in/", note=note, client_key=key
                            )
                        elif kind == "reading":
                            self.post(
                                f"{job}/loads/{self.load}/readings/spot/",
                                watts="9 W",
                                state="running",
                                note=note,
                                client_key=key,
                            )
                        else:
                            self.send_samples(int(note[:7], 16))
                    kept[kind].add(note)
                    acknowledged += 1
            except GONE as error:
                self.assertNotIsInstance(error, urllib.error.HTTPError)
                timer.join()
        self.assertTrue(any(kept.values()))
        return kept

    def send_samples(self, first_s):
        lines = [json.dumps({"time": 1_700_000_000 + first_s + n, "watts": 9}) for n in range(3)]
        request = urllib.request.Request(
            f"http://127.0.0.1:{self.port}/api/samples/",
            "\n".join(lines).encode(),
            {"Authorization": f"Bearer {self.logger}"},
        )
        with self.opener.open(request, timeout=30) as answer:
            self.assertEqual(answer.status, 200)

    def while_importing(self):
        content = (self.folder / "job.zip").read_bytes()
        for _ in range(KILLS):
            self.serve()
            try:
                page = self.upload(content)
                waiting = re.search(r'name="token" value="([^"]+)"', page)[1]
                timer = self.kill_soon(0.5)
                self.post("/import/confirm/", token=waiting)
            except GONE as error:
                self.assertNotIsInstance(error, urllib.error.HTTPError)
            timer.join()
            self.kill()

    def upload(self, content):
        mark = uuid.uuid4().hex
        body = io.BytesIO()
        for name, value in (("csrfmiddlewaretoken", self.token.encode()), ("file", content)):
            extra = '; filename="job.zip"' if name == "file" else ""
            body.write(
                f'--{mark}\r\nContent-Disposition: form-data; name="{name}"{extra}\r\n\r\n'.encode()
            )
            body.write(value + b"\r\n")
        body.write(f"--{mark}--\r\n".encode())
        return self.post("/import/", body.getvalue(), f"multipart/form-data; boundary={mark}")

    def while_backing_up(self):
        for number in range(BACKUPS):
            target = self.folder / f"copy-{number}.sqlite3"
            self.server = subprocess.Popen(
                [sys.executable, "manage.py", "backup", str(target)],
                cwd=ROOT,
                env=self.env,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            timer = self.kill_soon(1.6)
            self.server.wait()
            timer.cancel()
