"""A proposal: what the sheet would be without one slip."""

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from cavrel.core.definition.steps import Program

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Cell:
    """One reading as it would be: input, row and trial from 0, SI value, the text to write; NaN and no text where nobody can know."""

    key: str
    row: int
    trial: int
    value: float
    text: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Hypothesis:
    """One slip that may have happened.

    ``family``: its kind.
    ``at``: the place, such as ``swings.t.4.2``, ``swings.t``, ``swings.4`` or ``quantities.N``.
    ``say``: what happened, a clause such as ``two digits are swapped``.
    ``do``: what to do about it, an imperative.
    ``share``: of its family's prior, relative to the others of the family.
    ``cells``: single readings that change, at most one a row of a column.
    ``columns``: by input, all its readings as they would be, ``(rows, trials)`` SI.
    ``texts``: by input, what those are to be written as, where ``columns`` can be typed.
    ``program``: another law or convention for the same readings.
    ``amount``: of an offset that may be any number, SI; nought elsewhere.
    ``bonus``: what the text alone says for it, as a logarithm of odds.
    """

    family: str
    at: str
    say: str
    do: str
    share: float = 1.0
    cells: tuple[Cell, ...] = ()
    columns: Mapping[str, Array] = field(default_factory=dict)
    texts: Mapping[str, tuple[tuple[str, ...], ...]] = field(default_factory=dict)
    program: Program | None = None
    amount: float = 0.0
    bonus: float = 0.0
