"""One number from a stretch of samples, with an uncertainty that allows for correlated noise (`noise`)."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.noise import noise_of, white_noise
from cavrel.core.analysis.peaks import vertex
from cavrel.core.definition.extraction import EXTRACTIONS
from cavrel.core.errors import RunError
from cavrel.core.fit import solver
from cavrel.core.fit.least_squares import NoFit, response
from cavrel.core.fit.models import Damped
from cavrel.core.quantity.units import quantity

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Extract:
    """``value`` and standard uncertainty ``u`` in SI; ``samples`` in the stretch; ``correlation_time`` in samples (1 for white noise)."""

    value: float
    u: float
    samples: int
    correlation_time: float


def sample_times(rate: str | None, start: float, times: list[float] | None, count: int) -> Array:
    """When each sample was taken, s. Raises RunError for a rate that is no frequency."""
    if times is not None:
        return np.asarray(times, float)
    hertz, unit = quantity(rate or "")
    if unit.dimension.si() != "1/s" or not hertz > 0:
        raise RunError("rate", f"'{rate}' is no sampling rate, such as '50 Hz'")
    return start + np.arange(count) / hertz


def last_digit(values: Sequence[float | None]) -> float:
    """One step of the last digit that samples are written with, in their unit, from the first few hundred: samples that lie on a line are no surer
    than that."""
    places = [-int(Decimal(repr(v)).as_tuple().exponent) for v in values[:300] if v is not None and math.isfinite(v)]
    return 10.0 ** -max(places) if places else 0.0


def extract(
    kind: str, t: Array, values: Array, begin: float | None = None, end: float | None = None, step: float = 0.0
) -> Extract:
    """What ``kind`` (of `EXTRACTIONS`; ``level`` is the median) says of ``values`` ``(n,)`` at ``t`` ``(n,)`` within ``begin`` to ``end``; ``step``:
    one step of the samples' last digit, SI, whose rounding is noise of at least ``step/sqrt(12)``.

    Raises RunError where the stretch holds too few samples, or shows no oscillation or no peak.
    """
    inside = np.isfinite(values) & np.isfinite(t)
    if begin is not None:
        inside &= t >= begin
    if end is not None:
        inside &= t <= end
    t, y = t[inside], values[inside]
    n = len(y)
    wanted, least = EXTRACTIONS[kind], step / math.sqrt(12)
    if n < wanted.fewest:
        raise RunError("", f"the chosen stretch holds {n} samples; its {wanted.words} needs at least {wanted.fewest}")
    if kind == "slope":
        return _slope(t, y, least)
    if kind == "period":
        return _period(t, y)
    if kind in ("peak", "dip"):
        top = vertex(t, y if kind == "peak" else -y, least)
        return Extract(top.time, top.u, top.samples, top.correlation_time)
    if kind == "area":
        return _area(t, y, least)
    middle = float(np.mean(y) if kind == "mean" else np.median(y))
    left = y - y.mean()
    tau, s = noise_of(left, 1)
    if s < least:  # nothing but rounding is left, which does not hang together
        tau, s = 1.0, least
    # A median of normal noise is less sure than a mean by the square root of pi/2.
    factor = 1.0 if kind == "mean" else math.sqrt(math.pi / 2)
    return Extract(middle, factor * s * math.sqrt(tau / n), n, tau)


def _slope(t: Array, y: Array, least: float) -> Extract:
    dt = t - t.mean()
    spread = float(dt @ dt)
    if spread == 0:
        raise RunError("", "all samples of the stretch have one time")
    slope = float(dt @ y) / spread
    left = y - y.mean() - slope * dt
    tau, s = noise_of(left, 2)
    if s < least:
        tau, s = 1.0, least
    return Extract(slope, s / math.sqrt(spread) * math.sqrt(tau), len(y), tau)


def _area(t: Array, y: Array, least: float) -> Extract:
    """Between the samples and zero, by trapezia. The noise is what second differences show: a pulse has no curve that it could be held
    against."""
    if not np.all(np.diff(t) > 0):
        raise RunError("", "the times of the stretch do not increase, so it has no area")
    edges = np.concatenate(([0.0], np.diff(t), [0.0]))
    share = (edges[1:] + edges[:-1]) / 2
    s = max(white_noise(y), least)
    return Extract(float(share @ y), s * math.sqrt(float(share @ share)), len(y), 1.0)


def _period(t: Array, y: Array) -> Extract:
    """The period of a damped oscillation fitted to the stretch."""
    model = Damped()
    curve = solver.Curve(
        lambda theta: model.predict(theta, t[None, :]), lambda theta: model.jacobian(theta, t[None, :]), False
    )
    w = np.ones(len(y))
    try:
        theta = solver.nominal(curve, y, w, model.starts(t, y, w))
        parameter_sensitivity, _ = response(curve.jacobian(theta[None, :])[0], w)
    except NoFit as fault:
        raise RunError("", f"no oscillation is seen in the stretch: {fault}") from fault
    left = y - curve.predict(theta[None, :])[0]
    tau, s = noise_of(left, 5)
    return Extract(
        float(model.tidy(theta)[2]), s * math.sqrt(float((parameter_sensitivity[2] ** 2).sum()) * tau), len(y), tau
    )
