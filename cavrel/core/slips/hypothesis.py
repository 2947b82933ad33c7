"""A proposal: what the sheet would be without one slip."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal
from zlib import crc32

import numpy as np
from numpy.typing import NDArray

from cavrel.core.definition.steps import Program

Array = NDArray[np.float64]
Texts = tuple[tuple[str, ...], ...]
"""What stands in each row and trial of an input, empty where nothing does."""


@dataclass(frozen=True, slots=True)
class Cell:
    """One reading as it would be: input, row and trial from 0, SI value, the text to write; NaN and no text where nobody can know. ``u``: of a
    value that samples give, which no text says."""

    key: str
    row: int
    trial: int
    value: float
    text: str = ""
    u: float = math.nan

    @property
    def known(self) -> bool:
        """Whether the reading would have this value, not only one that stands for what nobody knows."""
        return bool(self.text) or math.isfinite(self.u)


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
    ``texts``: gives, by input, what those are to be written as; None where nobody would type them.
    ``program``: another law or convention for the same readings.
    ``stretches``: begin and end of the samples that count, s, for each of ``cells`` that is taken from some.
    ``noise``: whose the noise of whole columns is. ``shown``: what was typed was read so, and its noise changes with it (a diameter where a radius
    belongs); ``converted``: the instrument's noise is that of what the number stands for (a number typed in millimetres); ``same``: neither.
    ``look``: how a person finds out whether a physical cause acts, an imperative.
    ``again``: what the reading would be is a reckoning and no reading; it is left out or taken again, never written.
    ``amount``: of an offset that may be any number, SI; zero elsewhere.
    ``bonus``: what the text alone says for it, as a logarithm of odds.
    """

    family: str
    at: str
    say: str
    do: str
    share: float = 1.0
    cells: tuple[Cell, ...] = ()
    columns: Mapping[str, Array] = field(default_factory=dict)
    texts: Callable[[], Mapping[str, Texts]] | None = None
    program: Program | None = None
    stretches: tuple[tuple[float, float], ...] = ()
    noise: Literal["shown", "converted", "same"] = "same"
    look: str = ""
    again: bool = False
    amount: float = 0.0
    bonus: float = 0.0

    @property
    def code(self) -> str:
        """Its name, by which a person's answer is remembered; amounts that may be any number share one."""
        what = "" if self.amount else self.say
        return f"slip-{self.family}-{crc32(f'{self.at}|{what}'.encode()):08x}"
