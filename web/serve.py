"""Serve the site with Waitress: ``python -m web.serve``."""

from __future__ import annotations

import threading

import waitress
from django.conf import settings

from needle.plan.sources import warm_up
from web.wsgi import application


def main() -> None:
    address = f"http://{settings.HOST}:{settings.PORT}/"
    print(f"Steady Needle is at {address}", flush=True)
    if settings.DEMO:
        from web.demo.scenario import PASSWORD, USERNAME

        print(f"Sign in as “{USERNAME}” with password “{PASSWORD}”, or press “Look around”.")
    print("Stop it with Ctrl+C.", flush=True)
    # The sun's packages take two seconds to import: not while somebody waits for a page.
    threading.Thread(target=warm_up, daemon=True).start()
    waitress.serve(application, host=settings.HOST, port=settings.PORT, threads=8)


if __name__ == "__main__":
    main()
