"""What a ruled table consists of, as pages, twins and files show it."""

from dataclasses import dataclass

from cavrel.core.definition import Series


@dataclass(frozen=True, slots=True, kw_only=True)
class Field:
    """A place to type.

    ``slot``: whose reading it holds.
    ``text``: as typed.
    ``was``: the texts struck out.
    ``mark``: ``suspect``, ``odd``, ``out`` or empty.
    ``label``: what a screen reader calls it.
    ``entry``: the entry it shows, None where there is none.
    ``hint``: what stands there while nothing is typed.
    ``trace``: the row that takes samples, as ``series.column.row``, empty where none does.
    """

    slot: str
    text: str
    was: tuple[str, ...]
    mark: str
    label: str
    entry: int | None
    hint: str = ""
    trace: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Head:
    """One column's head.

    ``kind``: mark, set, measured, mean, derived or u.
    ``name``: of the column.
    ``trial``: from 1, None where the column has no repeats.
    ``unit``: as shown.
    ``foot``: the line below.
    ``label``: in words.
    ``formula``: a short one that stands for the foot.
    ``symbol``: the letter shown, where the run has another than its name.
    ``zero``: (instrument, its label, what it read at zero), of the first column read with it; None where its zero is of no matter.
    """

    kind: str
    name: str
    trial: int | None
    unit: str
    foot: str
    label: str
    formula: str = ""
    symbol: str = ""
    zero: tuple[str, str, str] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """A row of a ruled table.

    ``name``: series and number.
    ``number``: from 1.
    ``fields``: places to type.
    ``computed``: (id, text) of each computed cell, in the order of the heads.
    ``out``: the whole row is left out.
    ``mark``: ``suspect``, ``out`` or empty.
    """

    name: str
    number: int
    fields: tuple[Field, ...]
    computed: tuple[tuple[str, str], ...]
    out: bool
    mark: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Table:
    """A series as it is ruled.

    ``name``: of the series.
    ``series``: its definition.
    ``heads``: of all columns.
    ``rows``: from the first.
    ``more_trials``: the repeated columns that can take another trial.
    ``spare``: the last row is empty.
    ``order``: of its rows: ``taken``, ``moved``, or a column after ``+`` or ``-``.
    ``exchanged``: which rows were read with an instrument that another took the place of, sentences.
    ``exchanges``: rows above which that happened.
    """

    name: str
    series: Series
    heads: tuple[Head, ...]
    rows: tuple[Row, ...]
    more_trials: tuple[str, ...]
    spare: bool
    order: str = "taken"
    exchanged: tuple[str, ...] = ()
    exchanges: frozenset[int] = frozenset()


@dataclass(frozen=True, slots=True)
class QuantityFields:
    """A quantity of the run with a field for each repeat. ``part``: what stands before the colon of its label, such as ``Part 1``; ``symbol``: the
    letter shown; ``needed``: what it ought to be set to, and what it is, in words, empty where nothing says so."""

    name: str
    label: str
    unit: str
    fields: tuple[Field, ...]
    part: str = ""
    symbol: str = ""
    needed: str = ""
    zero: tuple[str, str, str] | None = None
