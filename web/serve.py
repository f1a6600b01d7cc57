"""Serve the site with Waitress: ``python -m web.serve``."""

from __future__ import annotations

import waitress
from django.conf import settings

from web.wsgi import application


def main() -> None:
    address = f"http://{settings.HOST}:{settings.PORT}/"
    print(f"Steady Needle is at {address}", flush=True)
    if settings.DEMO:
        from web.demo.scenario import PASSWORD, USERNAME

        print(f"Sign in as “{USERNAME}” with password “{PASSWORD}”, or press “Look around”.")
    print("Stop it with Ctrl+C.", flush=True)
    waitress.serve(application, host=settings.HOST, port=settings.PORT, threads=8)


if __name__ == "__main__":
    main()
