"""A simulated logger that sends for real: ``python -m tools.send_samples ADDRESS TOKEN``."""

import json
import sys
import time
import urllib.request

from needle.standin.appliances import timeline
from needle.standin.meters import plug_meter


def main(address: str, token: str, posts: int = 60, rows: int = 10) -> None:
    """Send ``posts`` posts of ``rows`` seconds each, up to now."""
    line, meter, begin = timeline("cold-box", 3), plug_meter(3), time.time() - posts * rows
    for number in range(posts):
        capture = meter.capture(line, 300.0 + number * rows, 300.0 + (number + 1) * rows)
        lines = "\n".join(
            json.dumps({"time": begin + number * rows + float(at), "watts": float(watts)})
            for at, watts in zip(capture.time_s, capture.columns["watts"], strict=True)
        )
        request = urllib.request.Request(
            address,
            lines.encode(),
            {"Authorization": f"Bearer {token}", "Content-Type": "application/x-ndjson"},
        )
        with urllib.request.urlopen(request) as answer:
            print(answer.status, answer.read().decode())


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
