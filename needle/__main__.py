"""Headless commands: one JSON object on standard output, or one line on standard error.

``python -m needle VERB …``; see ``docs/formats.md``. Exit 0 when answered, 2 for input that
cannot be used.
"""

from __future__ import annotations

import argparse
import dataclasses
import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NoReturn
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from needle import quantity
from needle.decide.power_factor import STOCK_UF, TARGET, correct
from needle.document import DocumentError
from needle.measure.agreement import agree
from needle.measure.analysis import analyse, as_reading
from needle.measure.analysis import as_document as analysis_document
from needle.measure.capture import read_capture
from needle.measure.instruments import INSTRUMENTS, get
from needle.package import check
from needle.plan.plan import parse_plan
from needle.plan.report import as_document as plan_document
from needle.plan.simulate import simulate
from needle.profile.profile import as_document as profile_document
from needle.profile.profile import derive, parse_load
from needle.trial.forecast import as_document as forecast_document
from needle.trial.forecast import forecast
from needle.trial.trial import parse_trial

MOST_BYTES = 500_000_000


class _Parser(argparse.ArgumentParser):
    """An argument parser whose complaints are one line."""

    def error(self, message: str) -> NoReturn:
        self.exit(2, f"needle: {message}\n")


def _bytes(path: str) -> bytes:
    try:
        file = Path(path)
        if file.stat().st_size > MOST_BYTES:
            raise DocumentError(path, f"larger than {MOST_BYTES // 1_000_000} MB")
        return file.read_bytes()
    except (OSError, ValueError) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise DocumentError(path, f"cannot be read: {why}") from None


def _load(path: str) -> Any:
    try:
        return json.loads(_bytes(path).decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise DocumentError(path, "is not UTF-8 text") from None
    except RecursionError:
        raise DocumentError(path, "is nested too deeply") from None
    except json.JSONDecodeError as error:
        raise DocumentError(
            path, f"line {error.lineno}: not JSON ({error.msg}); check commas and quotes"
        ) from None


def _quantity(args: argparse.Namespace) -> dict[str, Any]:
    return dataclasses.asdict(quantity.parse(args.text, args.unit))


def _agree(args: argparse.Namespace) -> dict[str, Any]:
    read = {key: getattr(args, key) for key in ("volts", "amps", "watts", "va", "pf")}
    found = dataclasses.asdict(
        agree(
            {key: value for key, value in read.items() if value is not None}, get(args.instrument)
        )
    )
    return found


def _profile(args: argparse.Namespace) -> dict[str, Any]:
    data = _load(args.file)
    if isinstance(data, dict) and isinstance(data.get("readings"), list):
        data["readings"] = [
            _with_capture(one, index, Path(args.file)) for index, one in enumerate(data["readings"])
        ]
    return profile_document(derive(parse_load(data)))


def _with_capture(reading: Any, index: int, load: Path) -> Any:
    """A reading that names a capture's file becomes what the capture says."""
    if not isinstance(reading, dict) or "file" not in reading or reading.get("type") != "capture":
        return reading
    name = reading["file"]
    if not isinstance(name, str):
        raise DocumentError(f"readings[{index}].file", "must be a file's name")
    capture = read_capture(_bytes(str(load.parent / name)))
    rest = {key: value for key, value in reading.items() if key != "file"}
    return {**rest, **as_reading(analyse(capture), capture.interval_s())}


def _analyse(args: argparse.Namespace) -> dict[str, Any]:
    zone = None
    if args.zone:
        try:
            zone = ZoneInfo(args.zone)
        except (ZoneInfoNotFoundError, ValueError):
            raise DocumentError("--zone", f"“{args.zone[:40]}” is not a time zone") from None
    capture = read_capture(_bytes(args.file), zone=zone)
    return analysis_document(analyse(capture, args.volts))


def _capacitor(args: argparse.Namespace) -> dict[str, Any]:
    va = args.va
    if va is None and args.amps is not None:
        va = args.amps * args.volts
    if va is None and args.pf:
        va = args.watts / args.pf
    if va is None:
        raise DocumentError("--va", "is needed, or --amps, or --pf")
    try:
        stock = [float(one) for one in args.stock.split(",")] if args.stock else STOCK_UF
    except ValueError:
        raise DocumentError("--stock", f"“{args.stock[:40]}” is not like 4,5,8") from None
    return dataclasses.asdict(
        correct(args.watts, va, args.volts, args.hertz, args.target, args.fitted_uf, stock)
    )


def _plan(args: argparse.Namespace) -> dict[str, Any]:
    return plan_document(simulate(parse_plan(_load(args.file)), draws=args.draws, seed=args.seed))


def _forecast(args: argparse.Namespace) -> dict[str, Any]:
    return forecast_document(forecast(parse_trial(_load(args.file)), args.seed))


def _package(args: argparse.Namespace) -> dict[str, Any]:
    found = check(_bytes(args.file))
    if not args.check and not found["valid"]:
        raise DocumentError(args.file, found["errors"][0])
    return found


def _whole(least: int, most: int) -> Any:
    def read(text: str) -> int:
        value = int(text)
        if not least <= value <= most:
            raise argparse.ArgumentTypeError(f"{value} must be between {least} and {most}")
        return value

    return read


def _arguments() -> argparse.ArgumentParser:
    parser = _Parser(prog="needle", description=__doc__)
    verbs = parser.add_subparsers(dest="verb", required=True, parser_class=_Parser)
    one = verbs.add_parser("quantity", help="read a quantity as people write it")
    one.add_argument("text")
    one.add_argument("--as", dest="unit", required=True, metavar="UNIT")
    one.set_defaults(run=_quantity)
    one = verbs.add_parser("agree", help="check readings of one moment against one another")
    for key in ("volts", "amps", "watts", "va", "pf"):
        one.add_argument(f"--{key}", type=float)
    one.add_argument("--instrument", choices=sorted(INSTRUMENTS), default="plug")
    one.set_defaults(run=_agree)
    one = verbs.add_parser("profile", help="derive a load's profile from its readings")
    one.add_argument("file", metavar="LOAD.json")
    one.set_defaults(run=_profile)
    one = verbs.add_parser("analyse", help="say what a capture shows")
    one.add_argument("file", metavar="FILE.csv")
    one.add_argument("--volts", type=float, help="stands in where only amps were logged")
    one.add_argument("--zone", help="time zone of times without an offset, such as Europe/London")
    one.set_defaults(run=_analyse)
    one = verbs.add_parser("capacitor", help="power-factor correction of a motor")
    for key in ("watts", "volts", "hertz"):
        one.add_argument(f"--{key}", type=float, required=True)
    for key in ("va", "amps", "pf", "fitted-uf"):
        one.add_argument(f"--{key}", type=float)
    one.add_argument("--target", type=float, default=TARGET)
    one.add_argument("--stock", help="values in µF, such as 4,5,8,10")
    one.set_defaults(run=_capacitor)
    one = verbs.add_parser("plan", help="how long a supply runs the loads")
    one.add_argument("file", metavar="PLAN.json")
    one.add_argument("--draws", type=_whole(1, 20_000), default=400)
    one.add_argument("--seed", type=_whole(0, 2**32 - 1), default=1)
    one.set_defaults(run=_plan)
    one = verbs.add_parser("forecast", help="when a trial will stop, or what it proved")
    one.add_argument("file", metavar="TRIAL.json")
    one.add_argument("--seed", type=_whole(0, 2**32 - 1), default=1)
    one.set_defaults(run=_forecast)
    one = verbs.add_parser("package", help="check a job's data package")
    one.add_argument("file", metavar="JOB.zip")
    one.add_argument("--check", action="store_true", help="say what is wrong, and exit 0")
    one.set_defaults(run=_package)
    return parser


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    args = _arguments().parse_args(argv)
    try:
        answer = args.run(args)
    except (DocumentError, quantity.QuantityError) as error:
        print(f"needle: {' '.join(str(error).split())}", file=sys.stderr)
        return 2
    print(json.dumps(answer, ensure_ascii=False, allow_nan=False))
    return 0


if __name__ == "__main__":
    sys.exit(main())
