"""Where each input's uncertainty comes from: the nominal value of a row and its independent or shared components.

Sources: JCGM 100:2008, 4.2 (type A, repeated readings), 4.3 (type B, declared), F.2.2.1 (resolution).
"""

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis.sheet import InputReadings, Sheet
from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import Input

Array = NDArray[np.float64]

POOLING_LEVEL = 0.01
"""Rows whose scatters differ at this significance or beyond (Bartlett) are not pooled."""


@dataclass(frozen=True, slots=True)
class Block:
    """Components of one kind that act on one input row by row, or on several inputs together.

    ``rows``: row indices from 0, one component each, or None for a single component that acts on all rows of ``targets``.
    ``u``: standard uncertainties ``(n,)``, SI, relative to the value where ``relative``. ``dof`` ``(n,)``. Components with the same
    ``estimate`` rest on one estimate of scatter and share its degrees of freedom; none is named where
    they are infinite. ``quantity`` and ``instrument`` name what the
    budget gathers by, empty where a block belongs to neither. ``counts`` ``(n,)``: for counting, the mean count of each row.
    """

    kind: str
    source: str
    subject: str
    targets: tuple[str, ...]
    rows: NDArray[np.intp] | None
    u: Array
    dof: Array
    estimate: tuple[str, ...]
    distribution: str
    relative: bool = False
    quantity: str = ""
    instrument: str = ""
    counts: Array | None = None

    @property
    def size(self) -> int:
        return len(self.u)


@dataclass(frozen=True, slots=True)
class Nominal:
    """One input's value for each row, SI ``(rows,)``, trials averaged; ``scatter`` the per-trial standard deviation ``(rows,)``; ``zero``: the
    SI value of its unit's own zero (273.15 K for °C), of which a relative error takes no share."""

    values: Array
    trials: NDArray[np.intp]
    scatter: Array
    zero: float = 0.0


def gather(sheet: Sheet, rules: HouseRules) -> tuple[dict[str, Nominal], list[Block]]:
    """Nominal values and all components of the inputs of ``sheet``."""
    nominal: dict[str, Nominal] = {}
    blocks: list[Block] = []
    for entry in sheet.inputs:
        value, own = _input(entry, rules)
        nominal[entry.spec.key] = value
        blocks.extend(own)
    blocks.extend(_shared(sheet.inputs))
    return nominal, blocks


def resolution_u(step: float | Array, rules: HouseRules) -> float | Array:
    """Standard uncertainty of a reading rounded to ``step``, by the house rule."""
    divisor = {"half_rectangular": 2 * math.sqrt(3), "full_rectangular": math.sqrt(3), "half_standard": 2.0}[
        rules.resolution
    ]
    return step / divisor


def _input(entry: InputReadings, rules: HouseRules) -> tuple[Nominal, list[Block]]:
    spec, values = entry.spec, entry.values
    present = ~np.isnan(values)
    k = present.sum(axis=1)
    if not k.any():
        nothing = np.full(len(k), np.nan)
        return Nominal(nothing, k, nothing, spec.unit.offset), []
    filled = np.where(present, values, 0.0)
    many = np.maximum(k, 1)
    mean = np.where(k > 0, filled.sum(axis=1) / many, np.nan)
    typed = ~np.isnan(entry.stated)
    has_stated = typed.any(axis=1)
    said = np.zeros(len(k))
    if has_stated.any():
        stated = entry.stated * (1.0 if rules.stated == "standard" else 1 / math.sqrt(3))
        said = _root_mean_square(stated, typed, typed.sum(axis=1))
    seen = np.full(len(k), np.nan)
    if (k > 1).any():
        deviation = np.where(present, values - mean[:, None], 0.0)
        seen = np.where(k > 1, np.sqrt((deviation**2).sum(axis=1) / np.maximum(k - 1, 1)), np.nan)
    gauge = spec.gauge
    if gauge is not None and gauge.dial:
        step = np.where(present, 0.0, np.nan)
    elif gauge is not None and gauge.least_count is not None and spec.extract is None:
        step = np.where(present, gauge.least_count, np.nan)
    else:
        step = entry.step
    with np.errstate(invalid="ignore"):
        rounding = _root_mean_square(np.asarray(resolution_u(step, rules)), present, k)
    s, dof, estimates = _scatter(spec, seen, k, rounding, rules)
    blocks: list[Block] = []
    rows = np.flatnonzero(k > 0)
    if spec.exact or spec.count:
        s, dof, estimates = seen, np.where(k > 1, k - 1.0, np.inf), [f"scatter:{spec.key}:{i}" for i in range(len(k))]

    def add(
        kind: str,
        words: str,
        u: Array,
        distribution: str,
        dof_of: Array | None = None,
        names: list[str] | None = None,
        counts: Array | None = None,
    ) -> None:
        chosen = rows[u[rows] > 0]
        if len(chosen):
            blocks.append(
                Block(
                    kind,
                    f"{spec.label}, {words}",
                    spec.key,
                    (spec.key,),
                    chosen,
                    u[chosen],
                    np.full(len(chosen), np.inf) if dof_of is None else dof_of[chosen],
                    tuple(names[i] for i in chosen.tolist()) if names else (),
                    distribution,
                    quantity=spec.label,
                    instrument=spec.gauge.label if spec.gauge is not None else "",
                    counts=None if counts is None else counts[chosen],
                )
            )

    def add_stated(u: Array) -> None:
        add("stated", "stated ±", u, "normal" if rules.stated == "standard" else "rectangular")

    if spec.exact:
        add_stated(np.where(has_stated, said, 0.0))
        return Nominal(mean, k, np.full(len(k), np.nan), spec.unit.offset), blocks
    if spec.count:
        u, scattered = _counting(mean, seen, k)
        add_stated(np.where(has_stated, said, 0.0))
        by_scatter = np.where(scattered & ~has_stated, seen / np.sqrt(np.maximum(k, 1)), 0.0)
        add("repeatability", "scatter of repeats", by_scatter, "student", dof, estimates)
        add("counting", "counting", np.where(scattered | has_stated, 0.0, u), "normal", counts=mean)
        return Nominal(mean, k, seen, spec.unit.offset), blocks
    traced = ~np.isnan(entry.extracted)
    if traced.any():
        add("trace", "noise of the trace", np.where(traced, entry.extracted, 0.0), "normal")
    watched = ~np.isnan(s)  # rows whose own scatter, or a pooled one, is known
    if watched.any():
        u_mean = _repeatability(entry, s, k, rules)
        add("repeatability", "scatter of repeats", np.where(watched, u_mean, 0.0), "student", dof, estimates)
    said = np.where(has_stated, said, rounding)
    # The scatter that was seen holds each reading's rounding and reaction already; what it cannot show is only what exceeds it.
    inside = np.where(watched, s, 0.0) ** 2
    declared = np.where(has_stated, said, rounding)
    left = np.where(traced, 0.0, np.sqrt(np.maximum(declared**2 - inside, 0.0)))
    add_stated(np.where(has_stated, left, 0.0))
    add("resolution", "last digit", np.where(has_stated, 0.0, left), "rectangular")
    if gauge is not None:
        once = ~watched & ~has_stated & ~traced
        for kind, amount in (("reaction", gauge.reaction), ("placement", gauge.placement)):
            if amount:
                add(
                    kind,
                    {"reaction": "reaction time", "placement": "placing"}[kind],
                    np.where(once, amount, 0.0),
                    "normal",
                )
    return Nominal(mean, k, s, spec.unit.offset), blocks


def _counting(mean: Array, seen: Array, k: NDArray[np.intp]) -> tuple[Array, NDArray[np.bool_]]:
    """Standard uncertainty of mean counts ``(rows,)`` of ``k`` intervals by counting alone, and where repeats scatter beyond that.

    The root of the total counted, over the number of intervals; one count for a total of none, for an interval without a count still
    allows a true mean of about one. Repeats are believed over it where their index of dispersion is improbable (Fisher 1925).
    """
    many = np.maximum(k, 1)
    total = np.maximum(np.where(k > 0, np.abs(mean), 0.0) * many, 1.0)
    index = np.where(k > 1, (many - 1) * np.nan_to_num(seen) ** 2 / (total / many), 0.0)
    chance = special.chdtrc(np.maximum(many - 1, 1), index)
    return np.sqrt(total) / many, (k > 1) & (chance < POOLING_LEVEL)


def _root_mean_square(values: Array, present: NDArray[np.bool_], k: NDArray[np.intp]) -> Array:
    squares = np.where(present, values, 0.0) ** 2
    return np.asarray(np.sqrt(squares.sum(axis=1) / np.maximum(k, 1)))


def _scatter(
    spec: Input, seen: Array, k: NDArray[np.intp], rounding: Array, rules: HouseRules
) -> tuple[Array, Array, list[str]]:
    """The per-trial standard deviation to use for each row, its degrees of freedom, and which estimate it rests on."""
    own = [f"scatter:{spec.key}:{i}" for i in range(len(k))]
    repeated = k > 1
    if not repeated.any():
        return seen, np.full(len(k), np.inf), own
    freedom = np.where(repeated, k - 1, 0)
    if rules.repeats == "half_range" or rules.pool == "never":
        return seen, np.where(repeated, freedom, np.inf), own
    together = repeated.copy()
    if rules.pool == "auto":
        # One row with a slip in it must not cost the others their common scatter: the oddest row goes its own way first.
        spread = np.maximum(seen, rounding)
        while together.sum() > 1 and not _alike(spread[together], freedom[together]):
            middle = float(np.median(spread[together]))
            oddness = np.abs(np.log(np.maximum(spread, 1e-300) / middle))
            together[int(np.argmax(np.where(together, oddness, -1.0)))] = False
    if together.sum() < min(2, int(repeated.sum())):
        return seen, np.where(repeated, freedom, np.inf), own
    total = int(freedom[together].sum())
    pooled = math.sqrt(float((freedom[together] * seen[together] ** 2).sum()) / total)
    shared = together | ~repeated  # a row read once borrows the scatter of the others
    s = np.where(shared, pooled, seen)
    return (
        s,
        np.where(shared, float(total), freedom),
        [f"scatter:{spec.key}" if m else own[i] for i, m in enumerate(shared)],
    )


def _alike(s: Array, freedom: NDArray[np.intp]) -> bool:
    """Bartlett's test that scatters ``s`` with ``freedom`` degrees are of one size (Bartlett 1937); true for a single row."""
    groups = len(s)
    if groups < 2:
        return True
    if not (s > 0).all():
        return bool((s == 0).all())
    total = freedom.sum()
    pooled = (freedom * s**2).sum() / total
    statistic = total * math.log(pooled) - (freedom * np.log(s**2)).sum()
    correction = 1 + ((1 / freedom).sum() - 1 / total) / (3 * (groups - 1))
    return bool(special.chdtrc(groups - 1, statistic / correction) > POOLING_LEVEL)


def _repeatability(entry: InputReadings, s: Array, k: NDArray[np.intp], rules: HouseRules) -> Array:
    """Standard uncertainty of each row's mean from the scatter of its trials, by the house rule."""
    if rules.repeats == "sd":
        return s
    if rules.repeats == "half_range":
        high = np.where(np.isnan(entry.values), -np.inf, entry.values).max(axis=1)
        low = np.where(np.isnan(entry.values), np.inf, entry.values).min(axis=1)
        return np.where(k > 1, (high - low) / 2, 0.0)
    return s / np.sqrt(np.maximum(k, 1))


def _shared(inputs: Iterable[InputReadings]) -> list[Block]:
    """One component for each instrument's zero, calibration and printed limits, acting on everything read with it."""
    by_gauge: dict[str, tuple[MeasuringInstrument, list[str], list[str]]] = {}
    for entry in inputs:
        gauge, spec = entry.spec.gauge, entry.spec
        if gauge is not None and not spec.exact:
            _, scaled, shifted = by_gauge.setdefault(gauge.name, (gauge, [], []))
            scaled.append(spec.key)
            if spec.extract not in ("slope", "period"):  # an offset of all samples moves no slope and no period
                shifted.append(spec.key)
    blocks = []
    root3 = math.sqrt(3)
    for name, (gauge, scaled, shifted) in by_gauge.items():
        for kind, amount, words, keys, distribution in (
            ("zero", gauge.zero, "its zero", shifted, "normal"),
            ("calibration", gauge.calibration, "its calibration", scaled, "normal"),
            ("offset", (gauge.offset or 0) / root3, "its accuracy, offset", shifted, "rectangular"),
            ("share", (gauge.share or 0) / root3, "its accuracy, share of reading", scaled, "rectangular"),
        ):
            if amount and keys:
                blocks.append(
                    Block(
                        kind,
                        f"{gauge.label}, {words}",
                        name,
                        tuple(keys),
                        None,
                        np.array([amount]),
                        np.array([np.inf]),
                        (),
                        distribution,
                        relative=kind in ("calibration", "share"),
                        instrument=gauge.label,
                    )
                )
    return blocks
