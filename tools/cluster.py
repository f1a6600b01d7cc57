"""A site of several machines on one: database, Redis, two servers, a proxy, two workers."""

from __future__ import annotations

import contextlib
import os
import socket
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from tools.servers import PYTHON, Server, answers, free_port, gunicorn, running

_PROXY = """
{user}
pid {folder}/nginx.pid;
error_log {folder}/nginx.log;
daemon off;
events {{ worker_connections 2000; }}
http {{
  access_log off;
  client_body_temp_path {folder}; proxy_temp_path {folder};
  fastcgi_temp_path {folder}; uwsgi_temp_path {folder}; scgi_temp_path {folder};
  upstream site {{
    server 127.0.0.1:{first} max_fails=1 fail_timeout=5s;
    server 127.0.0.1:{second} max_fails=1 fail_timeout=5s;
    keepalive 32;
  }}
  server {{
    listen 127.0.0.1:{port};
    client_max_body_size 130m;
    location / {{
      proxy_pass http://site;
      proxy_http_version 1.1;
      proxy_set_header Connection "";
      proxy_set_header Host $host;
      proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
      proxy_set_header X-Forwarded-Proto $scheme;
      proxy_connect_timeout 2s;
      proxy_read_timeout 120s;
      proxy_next_upstream error timeout http_502 http_503;
      proxy_next_upstream_tries 2;
    }}
  }}
}}
"""


@dataclass
class Cluster:
    """What runs, by its part, and the address of the proxy."""

    address: str
    redis: Server
    servers: list[Server]
    workers: list[Server]


@contextmanager
def cluster(env: dict[str, str], folder: Path) -> Iterator[Cluster]:
    """The parts of a large site around a database that ``env`` names; all stopped at the end."""
    redis_port = free_port()
    env = {**env, "STEADY_QUEUE_URL": f"redis://127.0.0.1:{redis_port}/0"}
    with ExitStack() as stack:

        def begin(name: str, *command: str) -> Server:
            return stack.enter_context(running(list(command), env, folder / f"{name}.log"))

        store = ["--dir", str(folder), "--save", "", "--bind", "127.0.0.1"]
        redis = begin("redis", "redis-server", "--port", str(redis_port), *store)
        redis.wait_for(lambda: _listens(redis_port))
        celery = [PYTHON, "-m", "celery", "-A", "web.background.worker", "worker"]
        workers = [
            begin(name, *celery, "--concurrency", "1", "--hostname", f"{name}@%h")
            for name in ("one", "two")
        ]
        ports = [free_port(), free_port()]
        servers = [begin(f"site-{port}", *gunicorn(port, 2)) for port in ports]
        for server, port in zip(servers, ports, strict=True):
            server.wait_for(partial(answers, f"http://127.0.0.1:{port}"))
        port = free_port()
        settings = folder / "nginx.conf"
        settings.write_text(
            _PROXY.format(
                user="user root;" if os.getuid() == 0 else "",
                folder=folder,
                first=ports[0],
                second=ports[1],
                port=port,
            )
        )
        proxy = begin("proxy", "/usr/sbin/nginx", "-c", str(settings), "-p", str(folder))
        address = f"http://127.0.0.1:{port}"
        proxy.wait_for(lambda: answers(address))
        yield Cluster(address, redis, servers, workers)


def _listens(port: int) -> bool:
    with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
        return True
    return False
