"""The pendulum run of the speed table: 8 lengths × 5 trials."""

import math

import numpy as np
from uncertainties import ufloat

from bench.ratio import Row, compare
from cavrel import catalogue
from cavrel.core import definition
from cavrel.core.analysis import analyse, components, sheet
from cavrel.core.analysis.uncertainty import coverage_factor
from cavrel.core.definition.steps import Program
from cavrel.core.findings.axes import candidates
from cavrel.core.logbook import run as runs
from cavrel.core.quantity import reading
from cavrel.core.slips import find

PENDULUM = catalogue.experiments()["pendulum"]
N = 20
LENGTHS = [60.0 + 15 * i for i in range(8)]


def readings(seed: int = 7) -> list[list[str]]:
    """Five timings of 20 swings at each length, as typed."""
    rng = np.random.default_rng(seed)
    return [[f"{N * 2 * math.pi * math.sqrt(v / 100 / 9.81) + e:.2f}" for e in rng.normal(0, 0.08, 5)] for v in LENGTHS]


def line_alone() -> Program:
    """The pendulum with its straight line and g from it: the numbers that the other side of each comparison computes too."""
    body = PENDULUM.document()
    body["fits"], body["results"] = {"line": body["fits"]["line"]}, {"g": body["results"]["g"]}
    return catalogue.program_of(definition.load(body))


def document() -> runs.RunDocument:
    """The run document of those readings."""
    series = {"L": [f"{v:.1f}" for v in LENGTHS], "t": readings()}
    return runs.load({"format": "cavrel-run/1", "experiment": "pendulum", "series": {"swings": series}})


def with_uncertainties() -> tuple[float, float, float, dict[str, float]]:
    """The same numbers from a script on the ``uncertainties`` package: the readings as texts, means with the pooled scatter,
    period, weighted line by effective variances, g, its budget by source, and the interval."""
    times = [[float(t) for t in row] for row in readings()]
    means = [sum(row) / len(row) for row in times]
    s = math.sqrt(sum((t - m) ** 2 for row, m in zip(times, means) for t in row) / sum(len(row) - 1 for row in times))
    rule_zero, rule_scale, watch_scale = ufloat(0, 3e-4, "zero"), ufloat(1, 2e-4, "rule"), ufloat(1, 2e-5, "watch")
    lengths, timings = [], []
    for text, mean, row in zip((f"{v:.1f}" for v in LENGTHS), means, times):
        length = ufloat(float(text) / 100, 1e-3, "placing") + ufloat(0, 1e-3 / math.sqrt(12), "digit")
        lengths.append(length * rule_scale + rule_zero)
        timings.append(ufloat(mean, s / math.sqrt(len(row)), "scatter") * watch_scale)
    squares = [(t / N) ** 2 for t in timings]
    slope = 4.0
    for _ in range(4):
        weights = [1 / (y.std_dev**2 + slope**2 * x.std_dev**2) for x, y in zip(lengths, squares)]
        total = sum(weights)
        x_mean = sum(w * x for w, x in zip(weights, lengths)) / total
        y_mean = sum(w * y for w, y in zip(weights, squares)) / total
        fitted = sum(w * (x - x_mean) * (y - y_mean) for w, x, y in zip(weights, lengths, squares)) / sum(
            w * (x - x_mean) ** 2 for w, x in zip(weights, lengths)
        )
        slope = fitted.nominal_value
    g = 4 * math.pi**2 / fitted
    budget: dict[str, float] = {}
    for variable, part in g.error_components().items():
        budget[variable.tag] = budget.get(variable.tag, 0.0) + part**2
    return g.nominal_value, g.std_dev, coverage_factor(30) * g.std_dev, budget


def full_analysis() -> Row:
    """Readings as typed to result and budget; the definition is compiled once, as in service."""
    program = line_alone()
    run = document()

    def ours() -> object:
        for memory in (reading.read.cache_clear, sheet.read_texts.forget, components.of_input.forget):
            memory()  # every text is read and every column understood anew, as theirs are
        return analyse(program, run).results["g"].budget

    return compare(
        "full analysis, 8 lengths × 5 trials, against `uncertainties`", ours, with_uncertainties, "no slower", 1.0
    )


def rows_tenfold() -> Row:
    """The analysis of a sheet with ten times the rows against the smaller one."""
    program = line_alone()
    small, times = document(), readings() * 10
    lengths = [f"{v + 0.1 * i:.1f}" for i in range(10) for v in LENGTHS]
    series = {"swings": {"L": lengths, "t": times}}
    large = runs.load({"format": "cavrel-run/1", "experiment": "pendulum", "series": series})
    return compare(
        "10× the rows, against the smaller sheet",
        lambda: analyse(program, large),
        lambda: analyse(program, small),
        "at most 10×",
        10.0,
    )


def slips() -> Row:
    """The slip finder on a sheet with two digits swapped, against one analysis of it."""
    program, run = catalogue.program_of(PENDULUM), document()
    first = run.series["swings"]["t"][3]
    assert isinstance(first, list)
    text = str(first[1])
    spoilt = [text[1] + text[0] + text[2:] if i == 1 else t for i, t in enumerate(first)]
    times = [spoilt if i == 3 else row for i, row in enumerate(run.series["swings"]["t"])]
    run = run.model_copy(update={"series": {"swings": {**run.series["swings"], "t": times}}})
    analysis = analyse(program, run)
    assert find(analysis).suspects
    return compare(
        "slips sought on a sheet, against one analysis of it",
        lambda: find(analysis),
        lambda: analyse(program, run),
        "at most 30×",
        30.0,
        rounds=30,
    )


def strip() -> Row:
    """Every pair of axes tried for a fit, against one analysis."""
    program, run = catalogue.program_of(PENDULUM), document()
    analysis = analyse(program, run)
    return compare(
        "axes tried for a line, against one analysis",
        lambda: candidates(analysis, analysis.fits["line"]),
        lambda: analyse(program, run),
        "at most 6×",
        6.0,
        rounds=60,
    )
