"""Samples from loggers and scripts: tokens, posts, and captures."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import numpy as np
from django.db import transaction
from django.utils import timezone

from needle.document import DocumentError
from needle.measure.capture import COLUMNS, concatenate, read_capture
from needle.measure.capture import Capture as CoreCapture
from web.bench.actions import fill, keep
from web.bench.models import Capture, Chunk, Logger, pack, unpack
from web.common.rates import Rate
from web.common.tokens import digest_of, new_token
from web.jobs.actions import save_new
from web.loads.models import Load

#: Posts that one logger may send in a minute, and the most bytes of one.
POSTS_A_MINUTE = 120
POSTS = Rate("posts", POSTS_A_MINUTE, 60)
MOST_BYTES = 2_000_000
#: How long a logger may send a post again, s.
SENT_AGAIN_S = 7 * 86_400.0
#: Samples that wait to become a capture.
MOST_WAITING = 5_000_000


def add_logger(
    load: Load, name: str, instrument: str = "plug", **listened: str
) -> tuple[Logger, str]:
    """Store a new logger; return it and its token, which is not stored.

    ``listened``: ``topic``, ``json_key`` and ``time_key`` of one that publishes on a broker.
    """
    token, digest = new_token()
    logger = Logger(load=load, name=name, instrument=instrument, digest=digest, **listened)
    save_new(load.job, logger, f"Added a logger of {load.name}")
    return logger, token


def revoke(logger: Logger) -> None:
    """Revoke a logger's token permanently."""
    Logger.objects.filter(pk=logger.pk).update(revoked_at=timezone.now())


def logger_of(token: str) -> Logger | None:
    """The logger of a token; None for an invalid or revoked one."""
    return (
        Logger.objects.live()
        .select_related("load__job")
        .filter(digest=digest_of(token), revoked_at=None, load__removed_at=None)
        .filter(load__job__removed_at=None)
        .first()
    )


def too_fast(logger: Logger) -> bool:
    """Count a post; return whether it exceeds the limit per minute."""
    return POSTS.count(str(logger.pk))


def parse_post(body: bytes) -> CoreCapture:
    """Samples of one post, JSON lines or CSV, with times since 1970.

    Raises
    ------
    DocumentError
        The message names the line.
    """
    text = body.decode("utf-8", errors="replace")
    if text.lstrip().startswith("{"):
        text = _lines_as_csv(text)
    lines = [line for line in text.splitlines() if line.strip()]
    if len(lines) == 2:
        return _alone(*lines)
    return _since_1970(read_capture(text))


def _since_1970(capture: CoreCapture) -> CoreCapture:
    if capture.start is None:
        raise DocumentError("time", "must be seconds since 1970 or ISO 8601")
    return CoreCapture(
        capture.time_s + capture.start.timestamp(), capture.columns, None, capture.notices
    )


def _alone(header: str, row: str) -> CoreCapture:
    """A single row, parsed with a copy a second later, which is then dropped."""
    names = header.lower().split(",")
    cells = row.split(",")
    if "time" not in names or len(cells) != len(names):
        raise DocumentError("time", "a post wants a header with time, and a row")
    place = names.index("time")
    try:
        cells[place] = str(float(cells[place]) + 1)
        capture = _since_1970(read_capture(f"{header}\n{row}\n{','.join(cells)}\n"))
    except ValueError:
        raise DocumentError("time", "must be seconds since 1970 in a post of one row") from None
    first = {name: column[:1] for name, column in capture.columns.items()}
    return CoreCapture(capture.time_s[:1], first, None, capture.notices)


def _lines_as_csv(text: str) -> str:
    """JSON lines as CSV for the capture parser."""
    rows = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        try:
            row = json.loads(line)
        except (ValueError, RecursionError):
            raise DocumentError(f"line {number}", "is not a JSON object") from None
        if not isinstance(row, dict) or "time" not in row:
            raise DocumentError(f"line {number}", "must be an object with a time")
        unknown = set(row) - {"time", *COLUMNS}
        if unknown:
            known = ", ".join(("time", *COLUMNS))
            raise DocumentError(f"line {number}", f"“{min(unknown)[:30]}” is none of {known}")
        rows.append(row)
    if not rows:
        raise DocumentError("", "the post holds no sample")
    names = ["time", *(name for name in COLUMNS if any(name in row for row in rows))]
    return (
        "\n".join(
            [",".join(names), *(",".join(_cell(row.get(name)) for name in names) for row in rows)]
        )
        + "\n"
    )


def _cell(value: Any) -> str:
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        return ""
    return str(value).replace(",", " ")


def take(logger: Logger, body: bytes) -> int:
    """Store a post's samples once; return the number of new rows.

    Raises
    ------
    DocumentError
    """
    waiting = sum(logger.chunks.values_list("rows", flat=True))
    if waiting > MOST_WAITING:
        raise DocumentError("", "too many samples wait: make a capture of them first")
    core = parse_post(body)
    Chunk.quota_of(logger.load.job.owner).refuse_more(len(core.time_s))
    with transaction.atomic():
        _, created = Chunk.objects.get_or_create(
            logger=logger,
            digest=hashlib.sha256(body).hexdigest(),
            defaults={
                "packed": pack(core),
                "last_s": float(core.time_s[-1]),
                "rows": len(core.time_s),
            },
        )
        Logger.objects.filter(pk=logger.pk).update(heard_at=timezone.now())
    return len(core.time_s) if created else 0


def waiting(logger: Logger, seconds: float | None = None) -> CoreCapture | None:
    """Pending samples in order, without duplicates; the last ``seconds`` of them if given."""
    chunks = list(logger.chunks.filter(rows__gt=0))
    if not chunks:
        return None
    if seconds is not None:
        newest = max(chunk.last_s for chunk in chunks)
        chunks = [chunk for chunk in chunks if chunk.last_s >= newest - seconds]
    try:
        return concatenate([unpack(bytes(chunk.packed)) for chunk in chunks])
    except DocumentError:
        return None


def collect(logger: Logger, name: str) -> Capture | None:
    """Turn all pending samples into a capture and evidence; None if too few. Atomic."""
    with transaction.atomic():
        list(Logger.objects.select_for_update().filter(pk=logger.pk))
        core = waiting(logger)
        if core is None or len(core.time_s) < 3:
            return None
        capture = Capture(
            load=logger.load,
            name=name[:80] or logger.name,
            source="live",
            instrument=logger.instrument,
        )
        fill(capture, core)
        capture.make_room()
        save_new(logger.load.job, capture, f"Collected a capture of {logger.load.name}")
        # Their digests stay: a post that comes again after its capture counts once too.
        logger.chunks.update(packed=b"", rows=0)
        try:
            keep(capture)
        except DocumentError:
            return capture
    return capture


def forget_old_posts() -> None:
    """Delete what is left of posts whose samples became a capture, a week after them."""
    before = timezone.now().timestamp() - SENT_AGAIN_S
    Chunk.objects.filter(rows=0, last_s__lt=before).delete()


def watts_now(core: CoreCapture) -> float | None:
    """The last power that a logger sent, W; VA as a last resort."""
    try:
        watts, _ = core.watts()
    except DocumentError:
        return None
    usable = watts[np.isfinite(watts)]
    return float(usable[-1]) if len(usable) else None
