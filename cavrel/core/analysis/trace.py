"""One number from a stretch of samples, with an uncertainty that allows for correlated noise.

Neighbouring samples of a sensor err together, so n of them tell less than n independent ones. The noise left about the fitted shape has an integrated
autocorrelation time; the usual standard error is widened by its square root (Sokal 1997, Monte Carlo methods, 3; the window
closes where it passes six times the time found so far). Without correlation the factor is one.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
from numpy.typing import NDArray

from cavrel.core.errors import RunError
from cavrel.core.fit import solver
from cavrel.core.fit.least_squares import NoFit, response
from cavrel.core.fit.models import Damped
from cavrel.core.quantity.units import quantity

Array = NDArray[np.float64]

FEWEST = {"slope": 3, "mean": 2, "level": 2, "period": 8}


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
    """``slope``, ``mean``, ``level`` (median) or ``period`` of ``values`` ``(n,)`` at ``t`` ``(n,)`` within ``begin`` to ``end``; ``step``: one
    step of the samples' last digit, SI, whose rounding is noise of at least ``step/sqrt(12)``.

    Raises RunError where the stretch holds too few samples or shows no oscillation.
    """
    inside = np.isfinite(values) & np.isfinite(t)
    if begin is not None:
        inside &= t >= begin
    if end is not None:
        inside &= t <= end
    t, y = t[inside], values[inside]
    n = len(y)
    if n < FEWEST[kind]:
        raise RunError("", f"the chosen stretch holds {n} samples; a {kind} needs at least {FEWEST[kind]}")
    if kind == "slope":
        return _slope(t, y, step / math.sqrt(12))
    if kind == "period":
        return _period(t, y)
    middle = float(np.mean(y) if kind == "mean" else np.median(y))
    left = y - y.mean()
    tau, s = noise_of(left, 1)
    if s < step / math.sqrt(12):  # nothing but rounding is left, which does not hang together
        tau, s = 1.0, step / math.sqrt(12)
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


def noise_of(left: Array, parameters: int) -> tuple[float, float]:
    """Integrated autocorrelation time, in samples and at least 1, and standard deviation of the noise that ``left`` ``(n,)`` shows.

    ``left`` are residuals about a curve with ``parameters``, which has taken up some of the slow part of the noise: each parameter costs about
    one correlation time of samples, and the time found so is put right by its known bias (Wolff, Comput. Phys. Commun. 156 (2004) 143, eq. 49).
    """
    n = len(left)
    squares = float(left @ left)
    plain = math.sqrt(squares / max(n - parameters, 1))
    if n < 8 or squares == 0:
        return 1.0, plain
    from scipy import fft  # a tenth of a second, which a start need not wait for

    size = fft.next_fast_len(2 * n, real=True)
    spectrum = fft.rfft(left, size)
    covariance = fft.irfft(spectrum * np.conj(spectrum), size)[: max(2, n // 2)]
    rho = covariance / covariance[0] * n / (n - np.arange(len(covariance)))
    times = 1 + 2 * np.cumsum(rho[1:])
    window = np.arange(1, len(rho))
    closed = np.flatnonzero(window >= 6 * times)
    at = int(closed[0]) if len(closed) else len(times) - 1
    tau = float(times[at]) * (1 + parameters * (2 * float(window[at]) + 1) / n)
    if tau <= 1:
        return 1.0, plain
    tau = min(tau, n / (parameters + 1))
    return tau, math.sqrt(squares / max(n - parameters * tau, 1.0))
