"""Where each input's uncertainty comes from: the nominal value of a row and its independent or shared components.

Sources: JCGM 100:2008, 4.2 (type A, repeated readings), 4.3 (type B, declared), F.2.2.1 (resolution).
"""

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.scatter import counting, repeatability, root_mean_square, scatter
from cavrel.core.analysis.sheet import InputReadings, Sheet
from cavrel.core.analysis.zeros import ZeroReading
from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.definition.rules import HouseRules
from cavrel.core.remember import by_identity

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class UncertaintyComponents:
    """Components of one kind that act on one input row by row, or on several inputs together.

    ``kind``: of source, such as ``resolution``.
    ``source``: in words, as the budget shows it.
    ``subject``: input, instrument, fit or accepted value it belongs to.
    ``targets``: keys of the inputs that it moves.
    ``rows``: row indices from 0, one component each; None for a single component that acts on all rows.
    ``u``: ``(n,)`` standard uncertainties, SI, relative to the value where ``relative``.
    ``dof``: ``(n,)`` their degrees of freedom.
    ``estimate``: ``(n,)`` names of the estimates of scatter they rest on; those of one name share its degrees of freedom; empty where those
    are infinite.
    ``distribution``: ``normal``, ``rectangular`` or ``student``.
    ``relative``: u is a share of the value.
    ``added``: by target, an amount, SI, that goes with a relative u in the same direction: the digits of "0.5 % + 2 digits".
    ``weights``: by target ``(rows,)``, the share of each row's readings that it acts on, where that is not all of them.
    ``quantity``: what the budget gathers by quantity, empty for none.
    ``instrument``: what it gathers by instrument, empty for none.
    ``counts``: ``(n,)`` for counting, the mean count of each row.
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
    added: Mapping[str, float] = field(default_factory=dict)
    weights: Mapping[str, Array] = field(default_factory=dict)
    quantity: str = ""
    instrument: str = ""
    counts: Array | None = None

    @property
    def size(self) -> int:
        return len(self.u)

    def moved(self, target: str, value: Array, zero: float, u: float | Array) -> float | Array:
        """By how much a push of ``u`` moves ``value`` of a target, SI. A share of the reading is a share of the number that its scale shows, of
        20 °C and not of 293 K."""
        if not self.relative:
            return u
        shown = value - zero
        return shown * u + np.where(shown < 0, -1.0, 1.0) * self.added.get(target, 0.0)


@dataclass(frozen=True, slots=True)
class Nominal:
    """One input's value for each row, SI ``(rows,)``, trials averaged; ``scatter`` the per-trial standard deviation ``(rows,)``; ``zero``: the
    SI value of its unit's own zero (273.15 K for °C), of which a relative error takes no share."""

    values: Array
    trials: NDArray[np.intp]
    scatter: Array
    zero: float = 0.0


def gather(sheet: Sheet, rules: HouseRules) -> tuple[dict[str, Nominal], list[UncertaintyComponents]]:
    """Nominal values and all components of the inputs of ``sheet``."""
    nominal: dict[str, Nominal] = {}
    groups: list[UncertaintyComponents] = []
    for entry in sheet.inputs:
        value, own = of_input(entry, rules)
        nominal[entry.spec.key] = value
        groups.extend(own)
    groups.extend(_shared(sheet.inputs, sheet.zeros, rules))
    return nominal, groups


def resolution_u(step: float | Array, rules: HouseRules) -> float | Array:
    """Standard uncertainty of a reading rounded to ``step``, by the house rule."""
    divisor = {"half_rectangular": 2 * math.sqrt(3), "full_rectangular": math.sqrt(3), "half_standard": 2.0}[
        rules.resolution
    ]
    return step / divisor


@by_identity(4096)
def of_input(entry: InputReadings, rules: HouseRules) -> tuple[Nominal, list[UncertaintyComponents]]:
    spec, values = entry.spec, entry.values
    present = ~np.isnan(values)
    k = present.sum(axis=1)
    most = int(k.max())
    if not most:
        nothing = np.full(len(k), np.nan)
        return Nominal(nothing, k, nothing, spec.unit.offset), []
    with np.errstate(invalid="ignore"):
        mean = np.where(present, values, 0.0).sum(axis=1) / k  # NaN where nothing was read
    typed = ~np.isnan(entry.stated)
    has_stated = typed.any(axis=1)
    said = np.zeros(len(k))
    any_stated = bool(has_stated.any())
    if any_stated:
        stated = entry.stated * (1.0 if rules.stated == "standard" else 1 / math.sqrt(3))
        said = root_mean_square(stated, typed, typed.sum(axis=1))
    seen = np.full(len(k), np.nan)
    if most > 1:
        deviation = np.where(present, values - mean[:, None], 0.0)
        seen = np.where(k > 1, np.sqrt((deviation**2).sum(axis=1) / np.maximum(k - 1, 1)), np.nan)
    groups: list[UncertaintyComponents] = []
    rows = np.flatnonzero(k > 0)

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
            groups.append(
                UncertaintyComponents(
                    kind=kind,
                    source=f"{spec.label}, {words}",
                    subject=spec.key,
                    targets=(spec.key,),
                    rows=chosen,
                    u=u[chosen],
                    dof=np.full(len(chosen), np.inf) if dof_of is None else dof_of[chosen],
                    estimate=tuple(names[i] for i in chosen.tolist()) if names else (),
                    distribution=distribution,
                    quantity=spec.label,
                    instrument=spec.gauge.label if spec.gauge is not None else "",
                    counts=None if counts is None else counts[chosen],
                )
            )

    def add_stated(u: Array) -> None:
        if any_stated:
            add("stated", "stated ±", u, "normal" if rules.stated == "standard" else "rectangular")

    if spec.exact:
        add_stated(np.where(has_stated, said, 0.0))
        return Nominal(mean, k, np.full(len(k), np.nan), spec.unit.offset), groups
    if spec.count:
        u, scattered = counting(mean, seen, k)
        dof, estimates = np.where(k > 1, k - 1.0, np.inf), [f"scatter:{spec.key}:{i}" for i in range(len(k))]
        add_stated(np.where(has_stated, said, 0.0))
        by_scatter = np.where(scattered & ~has_stated, seen / np.sqrt(np.maximum(k, 1)), 0.0)
        add("repeatability", "scatter of repeats", by_scatter, "student", dof, estimates)
        add("counting", "counting", np.where(scattered | has_stated, 0.0, u), "normal", counts=mean)
        return Nominal(mean, k, seen, spec.unit.offset), groups
    gauge = spec.gauge
    if gauge is not None and gauge.dial:
        step = np.where(present, 0.0, np.nan)
    elif gauge is not None and gauge.least_count is not None and spec.extract is None:
        least = entry.by_gauge("least_count") if entry.earlier else gauge.least_count
        step = np.where(present & (np.asarray(least) > 0), least, np.where(present, entry.step, np.nan))
    else:
        step = entry.step
    with np.errstate(invalid="ignore"):
        rounding = root_mean_square(np.asarray(resolution_u(step, rules)), present, k)
    s, dof, estimates = scatter(spec, seen, k, rounding, rules)
    of_trace = ~np.isnan(entry.extracted)
    traced = of_trace.any(axis=1)
    any_traced = bool(traced.any())
    if any_traced:
        # The scatter of several trials holds their traces' noise; what it cannot show is only what exceeds it.
        noise = root_mean_square(np.where(of_trace, entry.extracted, np.nan), of_trace, of_trace.sum(axis=1))
        held = np.where((k > 1) & ~np.isnan(s), s, 0.0)
        alone = np.sqrt(np.maximum(noise**2 - held**2, 0.0) / np.maximum(k, 1))
        add("trace", "noise of the trace", np.where(traced, alone, 0.0), "normal")
    watched = ~np.isnan(s)  # rows whose own scatter, or a pooled one, is known
    if watched.any():
        u_mean = repeatability(entry, s, k, rules)
        add("repeatability", "scatter of repeats", np.where(watched, u_mean, 0.0), "student", dof, estimates)
    declared = np.where(has_stated, said, rounding) if any_stated else rounding
    # The scatter that was seen holds each reading's rounding and reaction already; what it cannot show is only what exceeds it.
    left = np.sqrt(np.maximum(declared**2 - np.where(watched, s, 0.0) ** 2, 0.0)) if watched.any() else declared
    if any_traced:
        left = np.where(traced, 0.0, left)
    add_stated(np.where(has_stated, left, 0.0))
    add("resolution", "last digit", np.where(has_stated, 0.0, left), "rectangular")
    if gauge is not None:
        once = ~watched & ~has_stated & ~traced
        limit = _each(entry, mean)
        if limit.any():
            add("accuracy", "its instrument’s accuracy", np.where(has_stated, 0.0, limit / math.sqrt(3)), "rectangular")
        for kind, words in (("reaction", "reaction time"), ("placement", "positioning")):
            amount = getattr(gauge, kind) or 0.0
            if entry.earlier:
                amount = root_mean_square(entry.by_gauge(kind), present, k)
            if np.any(amount):
                add(kind, words, np.where(once, amount, 0.0), "normal")
    return Nominal(mean, k, s, spec.unit.offset), groups


def _each(entry: InputReadings, mean: Array) -> Array:
    """The maker's limit ``(rows,)``, SI, of instruments whose limit acts on each reading by itself, for the mean of a row's readings."""
    found = np.zeros(len(mean))
    for gauge, share in _instruments(entry):
        if gauge.each:
            found = found + share * (
                (gauge.share or 0.0) * np.abs(mean - entry.spec.unit.offset) + (gauge.offset or 0.0)
            )
    return found


def _instruments(entry: InputReadings) -> list[tuple[MeasuringInstrument, Array | float]]:
    """What an input was read with, each with the share ``(rows,)`` of a row's readings that it took; earlier ones first."""
    gauge = entry.spec.gauge
    if gauge is None:
        return []
    if not entry.earlier:
        return [(gauge, 1.0)]
    taken = np.maximum((~np.isnan(entry.values)).sum(axis=1), 1)
    found = [(before, np.asarray(where.sum(axis=1) / taken)) for before, where in entry.earlier]
    left = np.ones(len(taken)) - np.sum([share for _, share in found], axis=0)
    return [*found, (gauge, left)]


def _shared(
    inputs: Iterable[InputReadings], zeros: Mapping[str, ZeroReading], rules: HouseRules
) -> list[UncertaintyComponents]:
    """One component for each instrument's zero, calibration and printed limits, acting on everything read with it. A zero that was read is
    known as well as such a reading is."""
    by_gauge: dict[str, tuple[MeasuringInstrument, list[str], list[str], dict[str, Array]]] = {}
    for entry in inputs:
        spec = entry.spec
        for gauge, share_of in [] if spec.exact else _instruments(entry):
            if not np.any(share_of):
                continue  # another took its place before it read anything here
            _, scaled, shifted, weights = by_gauge.setdefault(gauge.name, (gauge, [], [], {}))
            scaled.append(spec.key)
            if not np.all(share_of == 1.0):
                weights[spec.key] = np.asarray(share_of)
            if spec.moved_by_zero:
                shifted.append(spec.key)
    groups = []
    root3 = math.sqrt(3)
    for name, (gauge, scaled, shifted, weights) in by_gauge.items():
        share, digits = (0.0, 0.0) if gauge.each else ((gauge.share or 0) / root3, (gauge.offset or 0) / root3)
        for kind, amount, words, keys, distribution in (
            ("zero", zero_u(gauge, zeros[name], rules)[0], "zero as read", shifted, "normal")
            if name in zeros
            else ("zero", gauge.zero, "zero", shifted, "normal"),
            ("calibration", gauge.calibration, "calibration", scaled, "normal"),
            # "0.5 % + 2 digits" is one limit, the sum of both (rectangular, JCGM 100, 4.3.7).
            ("accuracy", share, "accuracy", scaled, "rectangular"),
            ("accuracy", 0.0 if share else digits, "accuracy", shifted, "rectangular"),
        ):
            if amount and keys:
                u, dof = float(amount), math.inf
                if kind == "zero" and name in zeros:
                    u, dof = zero_u(gauge, zeros[name], rules)
                groups.append(
                    UncertaintyComponents(
                        kind=kind,
                        source=f"{gauge.label}, {words}",
                        subject=name,
                        targets=tuple(keys),
                        rows=None,
                        u=np.array([u]),
                        dof=np.array([dof]),
                        estimate=(f"zero:{name}",) if math.isfinite(dof) else (),
                        distribution=distribution,
                        relative=kind == "calibration" or (kind == "accuracy" and share > 0),
                        added=dict.fromkeys(shifted, digits) if kind == "accuracy" and share and digits else {},
                        weights=weights,
                        instrument=gauge.label,
                    )
                )
    return groups


def zero_u(gauge: MeasuringInstrument, zero: ZeroReading, rules: HouseRules) -> tuple[float, float]:
    """Standard uncertainty of what an instrument reads at zero, SI, and its degrees of freedom: the ± typed with it; else the scatter of its readings
    and what their last digit exceeds that by. Nothing is placed between closed jaws, so positioning is not counted."""
    if math.isfinite(zero.stated):
        return zero.stated * (1.0 if rules.stated == "standard" else 1 / math.sqrt(3)), math.inf
    last = float(resolution_u(gauge.least_count or 0.0, rules))
    if zero.many < 2:
        return last, math.inf
    scatter = zero.scatter / math.sqrt(zero.many)
    left = math.sqrt(max(last**2 - zero.scatter**2, 0.0))
    u = math.hypot(scatter, left)
    # Welch-Satterthwaite: only the scatter has few degrees of freedom.
    return u, (zero.many - 1) * (u / scatter) ** 4 if scatter > 0 else math.inf
