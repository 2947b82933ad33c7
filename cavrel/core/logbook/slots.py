"""Slots: the places that entries are about, as texts and taken apart."""

import re
from dataclasses import dataclass, field
from functools import lru_cache

MOST_ROWS, MOST_TRIALS = 999, 30

_NAME = r"[A-Za-z][A-Za-z0-9_]{0,23}"
_PLACE = re.compile(rf"({_NAME})\.(?:({_NAME})\.)?([1-9]\d{{0,3}})(?:\.([1-9]\d?))?", re.ASCII)
_QUANTITY = re.compile(rf"quantities\.({_NAME})(?:\.([1-9]\d?))?", re.ASCII)


@dataclass(frozen=True, slots=True)
class Slot:
    """A place on the sheet.

    ``series``: the table, empty for a quantity of the run.
    ``name``: the column or quantity, empty for a whole row.
    ``row``: from 1, 0 for a quantity.
    ``trial``: from 1, 0 where all trials of a row are meant.
    ``key``: the column as ``series.name``, or the quantity's name.
    """

    series: str
    name: str
    row: int
    trial: int
    key: str = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "key", f"{self.series}.{self.name}" if self.series else self.name)

    @classmethod
    @lru_cache(maxsize=8192)  # every save asks for each place of its run a few times
    def read(cls, text: str) -> "Slot | None":
        """A slot from its text: ``swings.t.4.2``, ``swings.t.4``, ``swings.4``, ``quantities.N.1``, ``quantities.N``; None for any other."""
        quantity = _QUANTITY.fullmatch(text)
        if quantity:
            return cls("", quantity[1], 0, int(quantity[2] or 0))
        place = _PLACE.fullmatch(text)
        if not place or place[1] == "quantities" or (place[4] and not place[2]):
            return None
        return cls(place[1], place[2] or "", int(place[3]), int(place[4] or 0))

    def __str__(self) -> str:
        if not self.series:
            return f"quantities.{self.name}" + (f".{self.trial}" if self.trial else "")
        parts = [self.series, self.name, str(self.row), str(self.trial) if self.trial else ""]
        return ".".join(part for part in parts if part)

    @property
    def reads(self) -> bool:
        """Whether a single reading stands here."""
        return bool(self.name and self.trial)
