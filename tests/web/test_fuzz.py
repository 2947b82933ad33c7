"""Definitions, readings, entries and documents spoilt at random: an answer or a refusal, never an exception; JSON without NaN.

The numbers are modest here; a thorough run multiplies them.
"""

import copy
import json
import random
from typing import Any
from uuid import UUID

from click.testing import CliRunner
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.cli import main
from cavrel.core import definition as definitions
from cavrel.core.errors import CavrelError
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from cavrel.store import courses
from cavrel.store import runs as run_store
from cavrel.store.pool import Pool, transaction
from tests.thorough import TIMES
from tests.web.http import entry, save, start

STAGES = ("measure", "fit", "result", "logbook")
TEXTS = [
    "", "0", "-1", "1e80", "1e-80", "1e299", "-0.0", "1,234", "12 %", "3 × 10⁸", "nan", "inf", "∞", "1e400", "0e400", "1(1)e400", "½", "٣", "²",
    "5 ± 5", "1 ± 0", "1 ± 1e80", "2x103", "60 rpm", "20 °C", "1:59.9", "31°24′ ± 1′", "(1 ± 2) × 10⁵", "\u2212", "±", "x" * 199, "9" * 80,
    "1 m", "1 kg/(m s^2)", "1 /mm", "5(", ")(", "4 ± -1", "1.2.3", "7.", ".5", "+3", "1e3 ± 2e-3", "10 ± 2 %",
]  # fmt: skip
VALUES: list[Any] = [None, "", 0, -1, 1e308, "1e400[m]", True, [], {}, "g_local", "pi", "x^12", "1/0", "2*N", "sqrt(-1)", "linspace(0, 1, 1e9)",
    "mean(x)", "°C", "dB", "m/s", "\u0000", "a" * 401, {"kind": {}}, ["a"], 3, "first(swings.L)", "0/0"]  # fmt: skip


def places(node: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """Every key of a document, as a path."""
    inside = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
    found = []
    for key, value in inside:
        found += [(*path, key), *places(value, (*path, key))]
    return found


def spoilt(document: Any, draw: random.Random, times: int = 2) -> Any:
    """The document with a few places replaced, taken away or copied."""
    body = copy.deepcopy(document)
    for _ in range(draw.randint(1, times)):
        path = draw.choice(places(body))
        node = body
        for key in path[:-1]:
            node = node[key]
        if draw.random() < 0.2 and isinstance(node, dict):
            del node[path[-1]]
        else:
            node[path[-1]] = copy.deepcopy(draw.choice(VALUES))
        if not places(body):
            return copy.deepcopy(document)
    return body


def good(client: FlaskClient, path: str) -> None:
    answer = client.get(path)
    assert answer.status_code == 200, path
    if path.endswith(".json"):
        json.loads(answer.text, parse_constant=lambda text: (_ for _ in ()).throw(AssertionError(f"{text} in {path}")))


def test_definitions_that_pass_the_check_never_break_a_page(client: FlaskClient, pool: Pool) -> None:
    draw, taken = random.Random(5), 0
    sources = [d.document() for d in catalogue.experiments().values()]
    for number in range(60 * TIMES):
        body = spoilt(draw.choice(sources), draw)
        try:
            definition = definitions.load(body, catalogue.instruments())
            catalogue.validate(definition)
        except CavrelError:
            continue
        taken += 1
        with transaction(pool) as connection:
            course = courses.courses(connection)[0]
            bench = courses.benches(connection, course.id)[0]
            key = f"{number:032x}"
            run = run_store.start(connection, course.id, bench.id, definition, "Fuzzed", UUID(key))
        try:
            cells = simulate(catalogue.program_of(definition), number)["series"]
        except CavrelError:
            cells = {}
        made = [
            entry("reading", f"{series}.{column}.{row}.1", text=str(cell[0] if isinstance(cell, list) else cell))
            for series, columns in cells.items()
            for column, texts in columns.items()
            for row, cell in enumerate(texts[:4], 1)
        ]
        assert save(client, run, *made).status_code == 200
        for stage in STAGES:
            good(client, f"/runs/{run}/{stage}")
            good(client, f"/runs/{run}/{stage}.json")
    assert taken > 5 * TIMES


def test_readings_and_entries_of_any_kind_never_break_a_page(client: FlaskClient) -> None:
    draw = random.Random(6)
    for experiment in draw.sample(sorted(catalogue.experiments()), 6):
        run = start(client, experiment, "Foghorn", "Any readings")
        definition = catalogue.experiments()[experiment]
        slots = [f"quantities.{q}.1" for q, body in definition.quantities.items() if body.formula is None]
        slots += [
            f"{s}.{c}.{row}.1"
            for s, series in definition.series.items()
            for c, column in series.columns.items()
            if column.role != "derived"
            for row in (1, 2, 3)
        ]
        for _ in range(4 * TIMES):
            made = [entry("reading", draw.choice(slots), text=draw.choice(TEXTS)) for _ in range(25)]
            made.append(entry("leave-out", f"out:{draw.choice(slots)}", reason="fuzz"))
            made.append(entry("undo", draw.choice(slots)))
            made.append(entry("stands", "stands:implausible@a.b", seen=draw.choice(TEXTS)))
            made.append(entry(draw.choice(["rows", "trials", "option", "trace", "stretch", "timer", "run", "note", "odd"]),
                              draw.choice(["rows:x", "option:x", "trace:a.b.1", "timer:" + "a" * 10, "run:title", ":", ""]),
                              count=draw.choice(VALUES), value=draw.choice(VALUES), text=draw.choice(TEXTS)))  # fmt: skip
            assert save(client, run, *made).status_code == 200
            for stage in STAGES:
                good(client, f"/runs/{run}/{stage}")
                good(client, f"/runs/{run}/{stage}.json")
    assert client.get("/runs").status_code == 200


def test_spoilt_run_documents_are_analysed_or_refused() -> None:
    draw = random.Random(7)
    names = sorted(catalogue.experiments())
    for number in range(60 * TIMES):
        name = draw.choice(names)
        document = simulate(catalogue.program_of(catalogue.experiments()[name]), number)
        body = spoilt(document, draw, 3)
        for series in body.get("series", {}).values() if isinstance(body.get("series"), dict) else ():
            for cells in series.values() if isinstance(series, dict) else ():
                if isinstance(cells, list) and cells and draw.random() < 0.5:
                    cells[draw.randrange(len(cells))] = draw.choice(TEXTS)
        done = CliRunner().invoke(main, ["analyse", "-"], input=json.dumps(body))
        assert done.exit_code in (0, 2), (name, number, done.exception)
        if done.exit_code == 0:
            json.loads(done.stdout, parse_constant=lambda text: (_ for _ in ()).throw(AssertionError(text)))
        else:
            assert done.stderr.count("\n") == 1
    assert load({"format": "cavrel-run/1", "experiment": "pendulum"}).experiment == "pendulum"
