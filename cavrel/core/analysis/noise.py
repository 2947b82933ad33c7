"""Noise that hangs together: how much of it there is about a curve, and for how many samples it lasts.

Neighbouring samples of a sensor err together, so n of them tell less than n independent ones. The noise left about the fitted shape has an integrated
autocorrelation time; the usual standard error is widened by its square root (Sokal 1997, Monte Carlo methods, 3; the window
closes where it passes six times the time found so far). Without correlation the factor is one.
"""

import math

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


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


def white_noise(values: Array) -> float:
    """Standard deviation of the noise, from second differences, which a straight line has none of: their median, or, where a sensor repeats itself
    most of the time, the mean of all but the few that a kink makes."""
    second = np.sort(np.abs(np.diff(values, 2)))
    usual = second[: max(len(second) - max(3, len(second) // 33), 1)]
    size = max(float(np.median(second)) / 0.6745, float(usual.mean()) / 0.7979) / math.sqrt(6)
    return size or float(np.ptp(values)) * 1e-6 or 1e-300
