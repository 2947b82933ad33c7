"""What readings say of what must hold between them, and of a standard they are held against, as records."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.quantity.units import Unit

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Parity:
    """What readings say of an identity that holds whatever the truth is.

    ``index``: among the definition's.
    ``series``: the table it runs over, None for the run.
    ``left``: ``(rows,)`` its left side, SI.
    ``residual``: ``(rows,)`` left less right, SI; NaN where something was not read.
    ``u``: ``(rows,)`` standard uncertainty of that, correlations included, SI.
    ``chi2``: of all rows that count, their correlations included; NaN where no uncertainty is known.
    ``dof``: how many independent differences the rows that count have.
    ``whiten``: ``(dof, rows)`` what makes of the residuals numbers that are independent and of variance one; zero for rows that do not count.
    ``unit``: of both sides.
    """

    index: int
    series: str | None
    left: Array
    residual: Array
    u: Array
    chi2: float
    dof: int
    whiten: Array
    unit: Unit


@dataclass(frozen=True, slots=True, kw_only=True)
class Verified:
    """What is compared with a standard, row by row.

    ``index``: among the definition's.
    ``series``: the table it runs over.
    ``standard``, ``value``: ``(rows,)`` SI.
    ``differ``: ``(rows,)`` standard less value, SI.
    ``u``: ``(rows,)`` standard uncertainty of that, correlations included, SI.
    ``within``: ``(rows,)`` how far apart they may be, SI; NaN where nothing is said.
    """

    index: int
    series: str
    standard: Array
    value: Array
    differ: Array
    u: Array
    within: Array
