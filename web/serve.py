"""Serve the site with Waitress: ``python -m web.serve``.

Imports are inside functions: worker processes import this module too, and do not need the site.
"""

from __future__ import annotations

import contextlib
import gc
import multiprocessing
import signal
import socket
import sys
import threading

#: Requests that are answered at the same time, and connections that may be open.
THREADS, CONNECTIONS = 16, 1000
#: How long a connection may be silent, or take to send its request, s.
SILENT_S = 30


def is_free(host: str, port: int) -> bool:
    """Whether a port is free."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError:
            return False
    return True


def refuse_if_taken(host: str, port: int) -> None:
    """Exit with a message if the port is in use."""
    if not is_free(host, port):
        sys.exit(
            f"Port {port} of {host} is in use. Stop what runs there, or set STEADY_PORT to "
            "another one: STEADY_PORT=8001 make demo"
        )


def settle_memory() -> None:
    """Leave what is loaded out of later collections, each of which stops every request.

    A page makes and drops some hundred thousand objects: the youngest are looked through more
    seldom than Python's 700 would have it.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 20)


def make_ready() -> None:
    """Load what the first pages would wait for, and have copies of a demo ready for visitors."""
    from django.conf import settings
    from django.template.loader import get_template
    from django.urls import NoReverseMatch, get_resolver, reverse
    from django.utils.formats import get_format

    from needle.plan.sources import sun
    from web.background import asking
    from web.common.version import core_version, version
    from web.first_start import BASE

    asking.warm_up()
    sun.warm_up()
    # Imports every view. The addresses of each app are read when one of them is first asked for.
    for app in get_resolver().namespace_dict:
        with contextlib.suppress(NoReverseMatch):
            reverse(f"{app}:none")
    get_format("DATE_FORMAT")
    version()
    core_version()
    templates = BASE / "web" / "templates"
    for page in templates.rglob("*.html"):
        get_template(str(page.relative_to(templates)))
    settle_memory()
    if settings.DEMO:
        from web.demo.stock import restock_soon

        restock_soon()


def stop_workers() -> None:
    """End this server's own workers, whatever they work at: it is asked for again."""
    from web.background import asking

    asking.close()
    for worker in multiprocessing.active_children():
        worker.terminate()


def main() -> None:
    """Serve until stopped."""
    import waitress
    from django.conf import settings

    from web.common.bodies import MOST_BYTES
    from web.wsgi import application

    refuse_if_taken(settings.HOST, settings.PORT)
    print(f"Steady Needle is at http://{settings.HOST}:{settings.PORT}/", flush=True)
    if settings.DEMO:
        from web.demo.scenario import PASSWORD, USERNAME

        print(f"Sign in as “{USERNAME}” with password “{PASSWORD}”, or press “Look around”.")
    print("Stop it with Ctrl+C.", flush=True)
    # As Ctrl+C does: what is being answered has five seconds to end.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit())
    # Takes some seconds: not while somebody waits for a page.
    threading.Thread(target=make_ready, daemon=True).start()
    waitress.serve(
        application,
        host=settings.HOST,
        port=settings.PORT,
        threads=THREADS,
        connection_limit=CONNECTIONS,
        channel_timeout=SILENT_S,
        cleanup_interval=5,
        # More than a thousand connections need poll.
        asyncore_use_poll=True,
        max_request_body_size=MOST_BYTES,
        # Headers of proxies are judged by web.common.proxies, under any server.
        clear_untrusted_proxy_headers=False,
    )
    stop_workers()


if __name__ == "__main__":
    main()
