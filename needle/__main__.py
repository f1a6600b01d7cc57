"""Headless commands: one JSON object on standard output, or one line on standard error.

``python -m needle VERB …``; see ``docs/formats.md``. Exit 0 when answered, 2 for input that
cannot be used. Each verb imports what it needs itself, so that a quick one starts quickly.
"""

from __future__ import annotations

import argparse
import dataclasses
import json
import math
import os
import sys
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Any, NoReturn
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from needle.document import DocumentError, parse_json
from needle.message import AsText

MOST_BYTES = 500_000_000
#: Files for which another process is worth its start.
LEAST_FILES = 3


class _Parser(argparse.ArgumentParser):
    """An argument parser whose errors are one line."""

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
    return parse_json(_bytes(path), path)


def _document(args: argparse.Namespace, name: str, of_site: str) -> Any:
    """A document: of a file, or by its number from a job's site (``of_site`` is its path there)."""
    if args.site is None:
        document = _load(name)
        if isinstance(document, dict):
            _take_captures(document, Path(name))
            _take_plan_captures(document, Path(name))
            _take_plan_captures(document.get("plan"), Path(name))
        return document
    from needle.from_site import Site

    if args.token_file is None:
        raise DocumentError("--token-file", "is needed: a file with the token of the job")
    token = _bytes(args.token_file).decode(errors="replace").strip()
    if not token.isascii() or not token or any(letter.isspace() for letter in token):
        raise DocumentError("--token-file", f"{args.token_file} holds no token")
    return Site(args.site, token).document(of_site.format(name))


def _quantity(args: argparse.Namespace) -> dict[str, Any]:
    from needle import quantity

    try:
        parsed = dataclasses.asdict(quantity.parse(args.text, args.unit))
    except quantity.QuantityError as error:
        raise DocumentError("", str(error)) from None
    return {key: value for key, value in parsed.items() if value != ""}


def _agree(args: argparse.Namespace) -> dict[str, Any]:
    from needle.measure.agreement import KEYS, agree
    from needle.measure.instruments import INSTRUMENTS, get

    if args.instrument not in INSTRUMENTS:
        known = ", ".join(sorted(INSTRUMENTS))
        raise DocumentError("--instrument", f"“{args.instrument[:40]}” is none of {known}")
    read = {key: value for key in KEYS if (value := getattr(args, key)) is not None}
    return dataclasses.asdict(agree(read, get(args.instrument)))


def _profile(args: argparse.Namespace) -> dict[str, Any]:
    from needle.profile.document import as_document, parse_load
    from needle.profile.ledger import ledger_of
    from needle.profile.profile import derive

    data = _document(args, args.file, "loads/{}/")
    return as_document(derive(parse_load(data)), ledger_of(data))


def _take_captures(load: dict[str, Any], beside: Path) -> None:
    """Replace file names of captures in a load by their analyses."""
    if isinstance(load.get("readings"), list):
        load["readings"] = [
            _with_capture(reading, index, beside) for index, reading in enumerate(load["readings"])
        ]


def _with_capture(reading: Any, index: int, load: Path) -> Any:
    """Replace a reading that names a capture's file by the capture's analysis."""
    from needle.measure.analysis import analyse, as_reading
    from needle.measure.capture import read_capture

    if not isinstance(reading, dict) or "file" not in reading or reading.get("type") != "capture":
        return reading
    name = reading["file"]
    if not isinstance(name, str):
        raise DocumentError(f"readings[{index}].file", "must be a file's name")
    capture = read_capture(_bytes(str(load.parent / name)))
    rest = {key: value for key, value in reading.items() if key != "file"}
    return {**rest, **as_reading(analyse(capture), capture.interval_s())}


def _analyse(args: argparse.Namespace) -> dict[str, Any]:
    from needle.measure.analysis import analyse, as_document
    from needle.measure.capture import read_capture

    zone = _zone(args.zone) if args.zone else None
    capture = read_capture(_bytes(args.file), zone=zone)
    return as_document(analyse(capture, args.volts))


def _house(args: argparse.Namespace) -> dict[str, Any]:
    from needle.measure.interval_file import read_intervals
    from needle.profile.whole_house import as_document, whole_house

    return as_document(whole_house(read_intervals(_bytes(args.file)), _zone(args.zone)))


def _zone(name: str | None) -> ZoneInfo:
    try:
        return ZoneInfo(name or "UTC")
    except (ZoneInfoNotFoundError, ValueError):
        raise DocumentError("--zone", f"“{str(name)[:40]}” is not a time zone") from None


def _capacitor(args: argparse.Namespace) -> dict[str, Any]:
    from needle.decide.power_factor import STOCK_UF, TARGET, correct

    target = TARGET if args.target is None else args.target
    va = args.va
    if va is None and args.amps is not None:
        va = args.amps * args.volts
    if va is None and args.pf:
        va = args.watts / args.pf
    if va is None:
        raise DocumentError("--va", "is needed, or --amps, or --pf")
    try:
        stock = [float(value) for value in args.stock.split(",")] if args.stock else STOCK_UF
    except ValueError:
        raise DocumentError("--stock", f"“{args.stock[:40]}” is not like 4,5,8") from None
    found = correct(args.watts, va, args.volts, args.hertz, target, args.fitted_uf, stock)
    return {**vars(found), "warnings": [AsText(warning) for warning in found.warnings]}


def _plan(args: argparse.Namespace) -> Any:
    if not args.files and args.site is None:
        raise DocumentError("PLAN.json", "is needed: at least one file")
    args.files = args.files or ["current"]
    if len(args.files) == 1:
        return _planned(args, args.files[0])
    workers = min(os.cpu_count() or 1, len(args.files) // LEAST_FILES)
    if workers < 2:
        return [_planned_or_error(args, file) for file in args.files]
    from concurrent.futures import ProcessPoolExecutor

    with ProcessPoolExecutor(workers) as pool:
        return list(pool.map(partial(_planned_or_error, args), args.files))


def _planned(args: argparse.Namespace, file: str) -> dict[str, Any]:
    from needle.plan.advice import alone
    from needle.plan.documents.ledger import ledger_of
    from needle.plan.documents.parse import parse_plan
    from needle.plan.energy.simulate import simulate
    from needle.words.answer import answer_document

    document = _document(args, file, "plans/{}/")
    plan = parse_plan(document)
    outcome = simulate(plan, draws=args.draws, seed=args.seed)
    if args.alone:
        answer = alone.as_document(alone.alone(plan, args.draws, args.seed))
        return {**answer, "ledger": ledger_of(document, outcome)}
    return answer_document(document, outcome, only_verdict=args.only == "verdict")


def _take_plan_captures(plan: Any, beside: Path) -> None:
    """Replace file names of captures in a plan's loads by their analyses."""
    loads = plan.get("loads") if isinstance(plan, dict) else None
    for load in loads if isinstance(loads, list) else []:
        if isinstance(load, dict) and isinstance(load.get("profile"), dict):
            _take_captures(load["profile"], beside)


def _planned_or_error(args: argparse.Namespace, file: str) -> dict[str, Any]:
    try:
        return _planned(args, file)
    except DocumentError as error:
        return {"file": file, "error": str(error)}
    except _NO_FIGURE:
        return {"file": file, "error": _NO_ANSWER}
    except Exception as error:  # a fault of ours must not take the other files' answers away
        return {"file": file, "error": f"{_FAULT} ({type(error).__name__}: {str(error)[:200]})"}


def _round(args: argparse.Namespace) -> dict[str, Any]:
    from needle.plan.answering import work_out
    from needle.plan.documents.ledger import ledger_of
    from needle.round.planning import plan_round
    from needle.round.report import as_document
    from needle.round.visit import Visit, carried, clock_of

    document = _load(args.file)
    _take_plan_captures(document, Path(args.file))
    outcome = work_out(document, advice=False).outcome
    begins = clock_of(args.begins, "--from", outcome.plan.start)
    names = [load.name for load in outcome.plan.loads]
    kept = [load.name for load in outcome.plan.loads if load.safety_class == "life"]
    for name in (*args.keep_plugged, *args.may_unplug):
        if name not in names:
            raise DocumentError("--keep-plugged", f"“{name[:60]}” is no load of the plan")
    visit = Visit(
        begins=begins,
        ends=clock_of(args.until, "--until", begins),
        meters=carried(args.meters.split(",")),
        keep_plugged=frozenset([*kept, *args.keep_plugged]) - frozenset(args.may_unplug),
        qualified=args.qualified,
        target="grades" if args.grades else "plan",
    )
    answer = as_document(plan_round(outcome, visit))
    return {**answer, "ledger": ledger_of(document, outcome)}


def _drill(args: argparse.Namespace) -> dict[str, Any]:
    from needle.drill import play
    from needle.drill.answer import answered, by_label
    from needle.drill.drill import parse_drill
    from needle.drill.judge import as_document, judged, parse_answer, readings_document
    from needle.drill.session import played
    from needle.drill.shipped import DRILLS

    shipped = {str(number): drill for number, drill in enumerate(DRILLS, 1)}
    drill = parse_drill(shipped[args.file] if args.file in shipped else _load(args.file))
    drill = drill if args.seed is None else drill.like_it(args.seed)
    if args.play:
        strategy = play.careful if args.play == "careful" else play.careless
        session = played(drill, strategy(drill))
        own = answered(session) if args.play == "careful" else by_label(drill, session)
        return readings_document(session) | as_document(judged(session, own), drill)
    session = played(drill, _load(args.doings) if args.doings else [])
    told = readings_document(session)
    if args.answer is None:
        return told
    return told | as_document(judged(session, parse_answer(_load(args.answer))), drill)


def _forecast(args: argparse.Namespace) -> dict[str, Any]:
    from needle.trial.forecast import forecast
    from needle.trial.prediction import as_document
    from needle.trial.trial import parse_trial

    document = _document(args, args.file, "trials/{}/")
    return as_document(forecast(parse_trial(document), args.seed, args.draws))


def _watch(args: argparse.Namespace) -> dict[str, Any]:
    from needle.trial.trial import parse_trial
    from needle.watch.report import as_document
    from needle.watch.watch import Watch

    document = _document(args, args.file, "trials/{}/")
    trial = parse_trial(document)
    last_h = max((check_in.h for check_in in trial.check_ins), default=0.0)
    needed = (
        args.needed if args.needed is not None or trial.plan is None else trial.plan.needed_hours
    )
    return as_document(
        Watch(trial, last_h if args.at is None else args.at, needed or 0.0, args.seed)
    )


def _package(args: argparse.Namespace) -> dict[str, Any]:
    from needle.package import check

    checked = check(_bytes(args.file))
    if not args.check and not checked["valid"]:
        raise DocumentError(args.file, checked["errors"][0])
    return checked


def _number(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise argparse.ArgumentTypeError(f"{text} is not a finite number")
    return value


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
    verb = verbs.add_parser("quantity", help="read a quantity as people write it")
    verb.add_argument("text")
    verb.add_argument("--as", dest="unit", required=True, metavar="UNIT")
    verb.set_defaults(run=_quantity)
    verb = verbs.add_parser("agree", help="check readings of one moment against one another")
    for key in ("volts", "amps", "watts", "va", "pf"):
        verb.add_argument(f"--{key}", type=_number)
    verb.add_argument("--instrument", default="plug")
    verb.set_defaults(run=_agree)
    verb = verbs.add_parser("profile", help="derive a load's profile from its readings")
    verb.add_argument("file", metavar="LOAD.json")
    _add_site(verb)
    verb.set_defaults(run=_profile)
    verb = verbs.add_parser("analyse", help="say what a capture shows")
    verb.add_argument("file", metavar="FILE.csv")
    verb.add_argument("--volts", type=_number, help="stands in where only amps were logged")
    verb.add_argument("--zone", help="time zone of times without an offset, such as Europe/London")
    verb.set_defaults(run=_analyse)
    verb = verbs.add_parser("house", help="a whole house by its utility's interval file")
    verb.add_argument("file", metavar="FILE.xml")
    verb.add_argument("--zone", help="time zone of the house, such as Europe/London")
    verb.set_defaults(run=_house)
    verb = verbs.add_parser("capacitor", help="power-factor correction of a motor")
    for key in ("watts", "volts", "hertz"):
        verb.add_argument(f"--{key}", type=_number, required=True)
    for key in ("va", "amps", "pf", "fitted-uf"):
        verb.add_argument(f"--{key}", type=_number)
    verb.add_argument("--target", type=_number)
    verb.add_argument("--stock", help="values in µF, such as 4,5,8,10")
    verb.set_defaults(run=_capacitor)
    _add_plan_verbs(verbs)
    return parser


def _add_site(verb: argparse.ArgumentParser) -> None:
    """Let a verb read a job of a site, by the number of what it reads."""
    verb.add_argument("--from", dest="site", metavar="URL", help="a site: name numbers, not files")
    verb.add_argument("--token-file", metavar="FILE", help="with a token of the job")


def _add_plan_verbs(verbs: Any) -> None:
    """Add the verbs for plans, rounds, forecasts and drills."""
    verb = verbs.add_parser("plan", help="how long a supply runs the loads")
    verb.add_argument("files", metavar="PLAN.json", nargs="*")
    _add_site(verb)
    verb.add_argument("--draws", type=_whole(1, 20_000), default=400)
    verb.add_argument("--seed", type=_whole(0, 2**32 - 1), default=1)
    verb.add_argument("--alone", action="store_true", help="each load by itself, on each route")
    verb.add_argument("--only", choices=("verdict",), help="no helps, sizes or measurements")
    verb.set_defaults(run=_plan)
    verb = verbs.add_parser("round", help="what to measure in a visit, in which order")
    verb.add_argument("file", metavar="PLAN.json")
    verb.add_argument("--meters", required=True, help="classes at hand, such as plug,plug,clamp")
    verb.add_argument("--from", dest="begins", required=True, metavar="MOMENT")
    verb.add_argument("--until", required=True, metavar="MOMENT")
    verb.add_argument("--keep-plugged", action="append", default=[], metavar="LOAD")
    verb.add_argument("--may-unplug", action="append", default=[], metavar="LOAD")
    verb.add_argument("--qualified", action="store_true", help="a panel may be opened")
    verb.add_argument("--grades", action="store_true", help="every load to grade B")
    verb.set_defaults(run=_round)
    verb = verbs.add_parser("drill", help="measure a simulated job, and be judged")
    verb.add_argument("file", metavar="DRILL.json|1…9")
    verb.add_argument("--seed", type=_whole(0, 1_000_000), help="another one like it")
    verb.add_argument("--doings", metavar="DOINGS.json", help="what is done, in order")
    verb.add_argument("--answer", metavar="ANSWER.json", help="low, high, yes")
    verb.add_argument("--play", choices=("careful", "careless"))
    verb.set_defaults(run=_drill)
    verb = verbs.add_parser("forecast", help="when a trial will stop, or what it proved")
    verb.add_argument("file", metavar="TRIAL.json")
    _add_site(verb)
    verb.add_argument("--draws", type=_whole(1, 20_000), default=400)
    verb.add_argument("--seed", type=_whole(0, 2**32 - 1), default=1)
    verb.set_defaults(run=_forecast)
    verb = verbs.add_parser("watch", help="what to do in an outage that is under way")
    verb.add_argument("file", metavar="TRIAL.json")
    _add_site(verb)
    verb.add_argument("--at", type=_number, metavar="H", help="now, hours since it began")
    verb.add_argument("--needed", type=_number, metavar="H", help="needed until, likewise")
    verb.add_argument("--seed", type=_whole(0, 2**32 - 1), default=1)
    verb.set_defaults(run=_watch)
    verb = verbs.add_parser("package", help="check a job's data package")
    verb.add_argument("file", metavar="JOB.zip")
    verb.add_argument("--check", action="store_true", help="say what is wrong, and exit 0")
    verb.set_defaults(run=_package)


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command; return the exit status."""
    from needle.words import worded

    args = _arguments().parse_args(argv)
    try:
        answer = args.run(args)
        several = answer if isinstance(answer, list) else [answer]
        lines = [json.dumps(worded(part), ensure_ascii=False, allow_nan=False) for part in several]
    except DocumentError as error:
        return _refused(str(error))
    except _NO_FIGURE:
        return _refused(_NO_ANSWER)
    try:
        print("\n".join(lines), flush=True)
    except BrokenPipeError:
        # Whoever reads has seen enough (`… | head`); the interpreter must not flush once more.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    failed = [answer for answer in several if "error" in answer and "file" in answer]
    return _refused(f"{len(failed)} of {len(several)} files were refused") if failed else 0


#: Errors of figures without a usable result, and the refusal for them.
_NO_FIGURE = (ValueError, OverflowError, FloatingPointError, ZeroDivisionError)
_NO_ANSWER = "the figures given lead to no finite answer: check their size and units"
_FAULT = "a fault of this program, not of the file"


def _refused(why: str) -> int:
    print(f"needle: {' '.join(why.split())}", file=sys.stderr)
    return 2


if __name__ == "__main__":
    sys.exit(main())
