"""The Python that every notebook holds: how its tables are read, how a curve is fitted, how results are compared. It is text, run by others."""

from collections.abc import Mapping

IMPORTS = """
import csv, io, math
import numpy as np
import uncertainties
from scipy.optimize import brentq
from uncertainties import ufloat, umath as um

inf, nan = math.inf, math.nan
"""

READ = """
values, counts, results, fits = {}, {}, {}, {}
for line in csv.DictReader(io.StringIO(READINGS)):
    values.setdefault(line["key"], []).append(float(line["value"]))
    counts.setdefault(line["key"].partition(".")[0], {})[int(line["row"])] = line["counts"] == "1"
component, own = {}, {}  # what is unknown: each component once, however many readings it moves
for line in csv.DictReader(io.StringIO(COMPONENTS)):
    name = line["component"]
    if name not in component:
        component[name] = ufloat(0, 1, tag=line["source"])
        own[component[name]] = line["own"]
    values[line["key"]][int(line["row"])] += float(line["u"]) * component[name]


def tried(formula):
    \"\"\"A value; not a number where something was not read, or there is no curve.\"\"\"
    try:
        return formula()
    except (ValueError, ZeroDivisionError, OverflowError, TypeError, LookupError):
        return math.nan


def known(series, row, value):
    \"\"\"Whether a row counts: it is not left out, and has a value.\"\"\"
    return counts.get(series, {}).get(row, True) and not math.isnan(uncertainties.nominal_value(value))


def column(series, formula):
    \"\"\"The values of a formula over the rows of a table that count.\"\"\"
    many = len(counts[series])
    found = [(i, tried(lambda i=i: formula(i))) for i in range(many)]
    return [v for i, v in found if known(series, i, v)]


def above(series, i, formula):
    \"\"\"The value of a formula in the row before this one that counts.\"\"\"
    before = [j for j in range(i) if counts.get(series, {}).get(j, True)]
    return tried(lambda: formula(before[-1])) if before else math.nan


def size(v):
    return v if uncertainties.nominal_value(v) >= 0 else -v


def least(*v):
    return min(v, key=uncertainties.nominal_value)


def greatest(*v):
    return max(v, key=uncertainties.nominal_value)


def combined(weights, widened):
    \"\"\"The mean of results, its deviations widened where they scatter more than their uncertainties say.\"\"\"
    mean = sum(w * results[name] for name, w in weights.items())
    nominal = uncertainties.nominal_value(mean)
    return nominal + (mean - nominal) * widened
"""

_FIT = """
MODELS = {  # y over x from the parameters p about an origin o; and the parameters as they are named
CURVES}


def turned(phase):
    \"\"\"A phase within half a turn of zero.\"\"\"
    return phase - 2 * math.pi * math.floor((uncertainties.nominal_value(phase) + math.pi) / (2 * math.pi))


def derivatives(f, x, p, o):
    \"\"\"By each parameter, (n, p), and by x, (n,): a step along the imaginary axis, which loses no figures.\"\"\"
    h = 1e-30
    by_p = []
    for k in range(len(p)):
        aside = np.array(p, complex)
        aside[k] += 1j * h
        by_p.append(np.imag(f(x + 0j, aside, o)) / h)
    return np.stack(by_p, axis=1), np.imag(f(x + 1j * h, np.array(p, complex), o)) / h


def expansion(numbers, variables):
    \"\"\"How numbers follow what is unknown, (n, variables).\"\"\"
    place = {v: k for k, v in enumerate(variables)}
    found = np.zeros((len(numbers), len(variables)))
    for i, number in enumerate(numbers):
        for v, slope in getattr(number, "derivatives", {}).items():
            found[i, place[v]] = slope * v.std_dev
    return found


def fit(x, y, weights, both, model, names, origin, start, source, counted):
    \"\"\"The curve nearest to the points, started two per cent from where Cavrel ended, and its parameters as they follow the readings.\"\"\"
    f, named = MODELS[model]
    x_n = np.array([uncertainties.nominal_value(v) for v in x])
    y_n = np.array([uncertainties.nominal_value(v) for v in y])
    p = np.array([1.02 * s for s in start])
    if both is None:
        for _ in range(60):
            design = derivatives(f, x_n, p, origin)[0] * np.sqrt(weights)[:, None]
            scale = np.abs(design).max(axis=0)
            step = np.linalg.lstsq(design / scale, (y_n - f(x_n, p, origin)) * np.sqrt(weights), rcond=None)[0] / scale
            p = p + step
            if (np.abs(step) <= 1e-13 * np.abs(p)).all():
                break
        adjusted, w = x_n, weights
    else:  # error bars along both axes: the line with the least sum of squared distances in units of their deviations
        v_x, v_y, v_xy = both

        local = x_n - (origin if len(p) == 2 else 0.0)

        def level(slope):
            of_each = 1 / (v_y + slope**2 * v_x - 2 * slope * v_xy)
            return of_each, of_each @ (y_n - slope * local) / of_each.sum() if len(p) == 2 else 0.0

        def rising(slope):  # the derivative of that sum by the slope
            of_each, height = level(slope)
            r = y_n - slope * local - height
            return -2 * of_each @ (local * r) - (of_each * r) ** 2 @ (2 * slope * v_x - 2 * v_xy)

        near = p[0] * np.array([0.8, 1.2])
        slope = brentq(rising, min(near), max(near), xtol=1e-300, rtol=1e-15)
        p = np.array([slope, level(slope)[1]][: len(p)])
        w = 1 / (v_y + p[0] ** 2 * v_x - 2 * p[0] * v_xy)
        u = local - (w @ local / w.sum() if len(p) == 2 else 0.0)
        v = y_n - (w @ y_n / w.sum() if len(p) == 2 else 0.0)
        adjusted = x_n - u + w * (u * v_y + p[0] * v * v_x - (p[0] * u + v) * v_xy)
    variables = sorted({v for n in (*x, *y) for v in getattr(n, "derivatives", {})}, key=id)
    by_p, by_x = derivatives(f, adjusted, p, origin)
    left = y_n - f(x_n, p, origin)
    size = np.abs(by_p).max(axis=0)
    normal = np.linalg.pinv((by_p / size).T @ (w[:, None] * by_p / size)) / np.outer(size, size)
    sensitivity = normal @ (by_p * w[:, None]).T
    d_x, d_y = expansion(x, variables), expansion(y, variables)
    moved = d_y - derivatives(f, x_n, p, origin)[1][:, None] * d_x
    follows = sensitivity @ moved
    if both is None:  # a row whose x moves also changes what its residual stands for
        h = 1e-6 * (np.abs(x_n - origin).max() or 1.0)
        turned = (derivatives(f, x_n + h, p, origin)[0] - derivatives(f, x_n - h, p, origin)[0]) / (2 * h)
        follows = follows + normal @ (turned.T @ ((w * left)[:, None] * d_x))
    alone = np.array([own.get(v, "1") != "0" for v in variables], bool) & ((moved != 0).sum(axis=0) <= 1)
    by_count = np.array([own.get(v) == "count" for v in variables], bool) & alone
    if counted:  # counting's part takes the size that the curve predicts
        total = (moved[:, alone] ** 2).sum(axis=1)
        for k in np.flatnonzero(by_count):
            i = int(np.argmax(np.abs(moved[:, k])))
            part = moved[i, k] ** 2
            if part > 0:
                follows[:, k] *= math.sqrt(max(1 / w[i] - (total[i] - part), 0.0) / part)
    extra = []
    if source == "scatter":  # the scatter about the curve speaks for what is each row's own
        follows[:, alone] = 0.0
        spread = np.sqrt((w @ left**2) / (len(x_n) - len(p)) / w)
        extra = [(sensitivity[:, i], ufloat(0, spread[i])) for i in range(len(x_n))]
    found = []
    for j in range(len(p)):
        number = float(p[j])
        for k, v in enumerate(variables):
            if follows[j, k] and v.std_dev:
                number += follows[j, k] / v.std_dev * (v - v.nominal_value)
        for column_of, v in extra:
            number += column_of[j] * v
        found.append(number)
    return dict(zip(names, named(found, origin)))
"""


def fit_cell(curves: Mapping[str, tuple[str, str]]) -> str:
    """How curves are fitted, with the recipes (`core.fit.models`) of those that a notebook needs, by name."""
    lines = (f"    {name!r}: (lambda x, p, o: {y}, lambda p, o: {named})," for name, (y, named) in curves.items())
    return _FIT.replace("CURVES", "".join(f"{line}\n" for line in lines))


PUBLISHED = """
from scipy import special
from numpy.typing import NDArray

Array = NDArray[np.float64]
"""

COMPARE = """
for name, (value, u, unit, factor, offset) in cavrel.items():
    if name not in results:
        continue
    here = results[name]
    found, u_found = uncertainties.nominal_value(here), tried(lambda: uncertainties.std_dev(here))
    print(f"{name}: {(found - offset) / factor:.10g} ± {u_found / factor:.4g} {unit}", end="; ")
    print(f"Cavrel {(value - offset) / factor:.10g} ± {(u or math.nan) / factor:.4g}")
"""
