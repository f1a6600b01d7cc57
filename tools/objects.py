"""Photos, captures and uploads in a server of objects: moved there and back, and tests on it."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tools.servers import PYTHON, environment, free_port, prepare, run, running

BUCKET = "evidence"
#: Tests of all that stores bytes: they hold wherever these lie.
TESTS = [f"tests.web.test_{name}" for name in ("photos", "bench", "exchange", "share", "history")]
#: Prints a digest of all bytes that the site stores, and how many lie in the storage.
_DIGEST = """
import hashlib
import django
django.setup()
from web.common.stored_bytes import StoredBytes, bytes_fields
digest, beside, whole = hashlib.sha256(), 0, 0
for model, field in bytes_fields():
    for content in model._base_manager.order_by("pk").values_list(field, flat=True):
        if content:
            digest.update(bytes(content))
            whole, beside = whole + 1, beside + isinstance(content, StoredBytes)
print(digest.hexdigest()[:16], whole, beside)
"""


@contextmanager
def object_server(folder: Path) -> Iterator[str]:
    """A small server of objects with an empty bucket, all in memory; its ``STEADY_FILES_URL``."""
    import boto3
    from botocore.exceptions import BotoCoreError

    port = free_port()
    program = str(Path(sys.executable).with_name("moto_server"))
    command = [program, "-H", "127.0.0.1", "-p", str(port)]
    keys = {"aws_access_key_id": "key", "aws_secret_access_key": "secret"}
    client = boto3.client(
        "s3", endpoint_url=f"http://127.0.0.1:{port}", region_name="us-east-1", **keys
    )

    def has_bucket() -> bool:
        try:
            client.create_bucket(Bucket=BUCKET)
        except BotoCoreError:
            return False
        return True

    with running(command, dict(os.environ), folder / "objects.log") as server:
        server.wait_for(has_bucket)
        yield f"s3://key:secret@127.0.0.1:{port}/{BUCKET}?tls=no&region=us-east-1"


def _digest(env: dict[str, str]) -> list[str]:
    """Digest of all bytes; how many there are, and how many lie in the storage."""
    command = [PYTHON, "-c", _DIGEST]
    ended = subprocess.run(command, env=env, check=True, capture_output=True, text=True)
    return ended.stdout.split()


def objects_on(folder: Path) -> bool:
    """Move the demo's bytes into a server of objects and back, then test the site on it."""
    env = environment(folder)
    prepare(env)
    with object_server(folder) as url:
        beside = {**env, "STEADY_FILES_URL": url}
        before = _digest(beside)
        run(PYTHON, "manage.py", "move_bytes", env=beside)
        moved = _digest(beside)
        run(PYTHON, "manage.py", "move_bytes", "--back", env=beside)
        back = _digest(beside)
        print(f"  digest, fields with bytes, of these in the storage: {before}, {moved}, {back}")
        test = ["test", "--no-input", "--settings", "tests.settings", *TESTS]
        run(PYTHON, "manage.py", *test, env=beside)
    return before == back and before[0] == moved[0] and int(moved[2]) > 0
