"""Random entries saved through the route, then every page, twin and file of the run, and every list, opened: none breaks."""

import logging
import random
import re
from collections.abc import Iterator
from datetime import datetime, timezone
from typing import Any
from uuid import UUID

import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.logbook import KINDS
from tests.thorough import TIMES
from tests.web.http import start, token

TEXTS = [
    "", " ", "1", "60.0", "-3", "1e308", "-1e308", "1e-320", "1e400", "nan", "inf", "½", "1,5", "1.2.3", "9" * 190, "5 furlong", "3 kg",
    "4 ± 0.1", "4 ± -1", "4 ± 0", "± 1", "<b>&\"'", "\u202e\u0301", "=1+1", "{{ 7 }}", "..", "free", "square", "2026-12-01T10:00:00Z",
    "linspace(1, 2, 3)", "x" * 3000,
]  # fmt: skip
NUMBERS: list[Any] = [0, 1, -1, 2, 5, 30, 31, 999, 1000, 2**63, 10**30, 0.5, 1e308, -1e-320, True, False, None]
KEYS = [
    "text", "texts", "reason", "count", "planned", "choice", "value", "over", "by", "laps", "until", "begin", "end", "values", "times", "rate",
    "unit", "seen", "shape", "rows", "fields", "label", "symbol", "on", "points", "file", "cells", "series", "at", "watched", "settled", "state",
    "kind", "least_count", "zero", "accuracy", "hidden", "first", "last", "body", "undoes", "done", "frames", "call", "counted", "spoilt",
]  # fmt: skip


def scraps(draw: random.Random, depth: int = 0) -> Any:
    """Anything that JSON can hold."""
    kind = draw.random()
    if kind < 0.45:
        return draw.choice(TEXTS)
    if kind < 0.8 or depth > 2:
        return draw.choice(NUMBERS)
    if kind < 0.92:
        return [scraps(draw, depth + 1) for _ in range(draw.randint(0, 6))]
    return {draw.choice(KEYS): scraps(draw, depth + 1) for _ in range(draw.randint(0, 4))}


PREFIX = {"leave-out": "out:", "take-back": "out:", "reading": "", "correction": "", "undo": ""}
"""Before the place of a kind of entry, where that is not its name."""


def slots(experiment: str, kind: str, draw: random.Random) -> str:
    """A place that the kind is about, or nearly one."""
    definition = catalogue.experiments()[experiment]
    row, trial = (
        draw.choice([1, 1, 2, 3, 8, 0, 31, 1000] if TIMES == 1 else [1, 2, 3, 8, 0, 61, 999, 1000]),
        draw.choice([1, 1, 1, 2, 5, 30, 31]),
    )
    series = draw.choice([*definition.series])
    column = draw.choice([*definition.series[series].columns])
    quantity = draw.choice([*definition.quantities, "x"])
    reading = draw.choice([f"{series}.{column}.{row}.{trial}"] * 3 + [f"quantities.{quantity}.{trial}"])
    of_kind = {
        "leave-out": [reading, f"{series}.{row}"],
        "take-back": [reading, f"{series}.{row}"],
        "rows": [series],
        "trials": [f"{series}.{column}", quantity],
        "option": [*definition.options],
        "trace": [f"{series}.{column}.{row}"],
        "stretch": [f"{series}.{column}.{row}"],
        "settings": [f"{series}.{column}", quantity],
        "instrument": [*definition.instruments],
        "zero": [*definition.instruments, f"{series}.{column}"],
        "heading": [f"{series}.{column}", quantity],
        "order": [series],
        "mark": [f"{series}.{row}"],
        "rule": ["repeats", "g", "rounding", "acceptable", "stated", "student"],
        "foresee": [*definition.fits],
        "without": [series, *definition.results],
        "words": [
            *(f"result.{name}" for name in definition.results),
            "aim",
            f"predicted.{next(iter(definition.results))}",
        ],
        "tick": ["apparatus.0", "caution.0", "set-up.0", "check.rule"],
        "report": ["aim", "conclusion", "answer.0", "errors"],
        "run": ["title", "bench", "away", "cupboard", "on-screen"],
        "note": [str(UUID(int=draw.getrandbits(128), version=4))],
        "timer": [str(UUID(int=draw.getrandbits(128), version=4))],
        "imported": [str(UUID(int=draw.getrandbits(128), version=4))],
        "stands": [f"leverage@{series}.{row}", f"stands-apart@{reading}"],
        "marking": ["1.points.graph", "1.remark.aim", "1.given"],
    }
    rest = draw.choice(of_kind.get(kind) or [reading])
    if draw.random() < 0.1:
        rest = draw.choice([reading, "nowhere.x.1.1", "x", "", "a" * 150, f"{series}.{column}"])
    return f"{PREFIX.get(kind, f'{kind}:')}{rest}"[:160]


def body(kind: str, draw: random.Random) -> dict[str, Any]:
    """A body as pages send them, with one thing off now and then."""
    text = draw.choice(TEXTS)
    of_kind: dict[str, dict[str, Any]] = {
        "rows": {
            "count": draw.choice([1, 2, 8, 30] if TIMES == 1 else [1, 8, 60, 999]),
            "planned": draw.choice([True, False]),
        },
        "trials": {"count": draw.choice([1, 2, 5, 30]), "planned": draw.choice([True, False])},
        "option": {"choice": draw.choice(["", "yes", "no", "band-band", "left", "right", text])},
        "trace": {
            "times": [0.0, 1.0, 2.0],
            "values": [draw.choice([0, 1, -1e300, 1e300, 5]) for _ in range(3)],
            "unit": "m/s",
        },
        "stretch": {"begin": draw.choice([None, -1e11, 0, 1]), "end": draw.choice([None, 2, 1e11])},
        "settings": {"texts": [draw.choice(TEXTS) for _ in range(draw.randint(0, 12))]},
        "instrument": {
            "label": text[:40] or "x",
            "least_count": draw.choice(["1 mm", "0.01 s", "1e-300 m", "1e300 s", text]),
        },
        "zero": {"text": text},
        "heading": {
            "label": text[:40],
            "unit": draw.choice(["cm", "s", "furlong", "1", None, text]),
            "hidden": draw.choice([True, False]),
        },
        "order": {"by": draw.choice(["L", "t", "x", text]), "rows": [3, 1, 2]},
        "mark": {"text": text[:60]},
        "rule": {
            "value": draw.choice(
                ["sem", "half_range", "pdg", "one", 9.81, 1e300, 10.0, {"latitude": 91, "height": 0}, True, None, text]
            )
        },
        "foresee": {"shape": draw.choice(["linear", "square", "inverse", text])},
        "tick": {"done": draw.choice([True, False]), "text": text[:80]},
        "run": {"value": draw.choice([text, True, False, 1, 2, 10**9])},
        "timer": {"laps": [0.5, 1e8, -1e8, 0], "text": text, "watched": draw.choice(["N", "x", text]), "at": 1e11},
        "imported": {"file": text[:100], "cells": draw.choice([0, 3, 10**9]), "series": "swings"},
        "marking": {"points": draw.choice([0, 4, 1e9]), "text": text, "on": draw.choice([True, False])},
    }
    made = {"text": text, "reason": text[:300] or "why not", "seen": text, **of_kind.get(kind, {})}
    if kind in ("reading", "correction", "late"):
        made = {"text": text[:200], "over": draw.choice([None, 1, 10**9])}
    if draw.random() < 0.12:
        made[draw.choice([*made, *KEYS])] = scraps(draw)
    return made


def entries(experiment: str, draw: random.Random, many: int) -> Iterator[dict[str, Any]]:
    for _ in range(many):
        kind = draw.choice(["reading", "reading", "reading", *KINDS])
        yield {
            "key": str(UUID(int=draw.getrandbits(128), version=4)),
            "kind": kind,
            "slot": slots(experiment, kind, draw),
            "body": body(kind, draw),
            "made_at": datetime.now(timezone.utc).isoformat(),
        }


def addresses(client: FlaskClient, run: int, experiment: str) -> Iterator[str]:
    """Every page, twin and file of a run, and the lists that show it."""
    definition = catalogue.experiments()[experiment]
    series, fit = next(iter(definition.series)), next(iter(definition.fits), "none")
    fill = {"run": str(run), "version": "1", "name": series, "place": f"{series}.x.1", "kind": "xlsx"}
    for rule in client.application.url_map.iter_rules():
        if "<int:run>" not in rule.rule or "GET" not in (rule.methods or ()) or rule.rule.endswith(".pdf"):
            continue
        found = re.sub(r"<(?:[^<>:]+:)?([a-z_]+)>", lambda m: fill[m[1]], rule.rule)
        yield found.replace(f"graphs/{series}", f"graphs/{fit}")
    yield from ("/runs", "/runs.json", "/calls.json", "/lessons", "/course")


@pytest.mark.parametrize("seed", range(TIMES))
@pytest.mark.parametrize(
    "experiment", ["pendulum", "spring"] if TIMES == 1 else ["pendulum", "spring", "half-life", "newton-second-law"]
)
def test_nothing_that_can_be_stored_breaks_a_page(
    client: FlaskClient, caplog: pytest.LogCaptureFixture, experiment: str, seed: int
) -> None:
    draw = random.Random(f"{experiment} {seed}")
    run = start(client, experiment, "Prism", f"Scraps {seed}", suggested=seed % 2 == 0)
    taken = 0
    for _ in range(3):
        sent = list(entries(experiment, draw, 80))
        with caplog.at_level(logging.ERROR, "cavrel"):
            answer = client.post(
                f"/runs/{run}/entries",
                json={"page": "measure", "entries": sent},
                headers={"X-CSRFToken": token(client)},
            )
        assert answer.status_code == 200, (experiment, seed)
        assert "cannot be computed" not in caplog.text, (experiment, seed, caplog.text[-1500:])
        taken += len(answer.json["keys"])
    assert taken >= 60, "the scraps are so strange that hardly any is kept"
    for address in addresses(client, run, experiment):
        assert client.get(address).status_code < 500, (address, seed)
    # One run of scraps takes nothing from the others.
    assert client.get("/runs/1/result").status_code == 200
