"""Which columns of a table that is imported are which of an experiment's: by name, by unit, and a guess that a person confirms."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from cavrel.core.definition import Definition
from cavrel.core.document.grid import Grid, Heading, is_summary, plain, summaries
from cavrel.core.errors import CavrelError
from cavrel.core.quantity import units

_TRIAL = re.compile(r"^(?P<name>.*?)[\s_]*(?:trial|try|run|no\.?|#)?[\s_]*(?P<number>[1-9]\d?)$", re.I)
_TYPED = re.compile(r"^(?P<name>[A-Za-z][A-Za-z0-9_]*?)[_ ]typed(?:[_ ](?P<trial>\d{1,2}))?$")
ASIDE = ""
"""A column that is left aside."""


@dataclass(frozen=True, slots=True)
class Target:
    """Where a column goes. ``column``: of the series, empty where it is left aside; ``trial``: from 1."""

    column: str
    trial: int = 1

    def __str__(self) -> str:
        return f"{self.column}.{self.trial}" if self.column else ""

    @classmethod
    def read(cls, text: str) -> "Target":
        """A target from its text; nonsense is left aside."""
        column, _, trial = text.partition(".")
        number = int(trial) if trial.isascii() and trial.isdigit() and 0 < len(trial) < 3 else 1
        return cls(column, max(number, 1)) if column else cls(ASIDE)


@dataclass(frozen=True, slots=True)
class Cell:
    """A reading that the table holds. ``slot``; ``text``: as it will be typed; ``row``, ``at``: where it stands in the table, from 1."""

    slot: str
    text: str
    row: int
    at: int


def guess(definition: Definition, series: str, headings: Sequence[Heading]) -> list[Target]:
    """A target for each column: exact names before likely ones, each place once."""
    body = definition.series[series]
    found: list[Target] = [Target(ASIDE)] * len(headings)
    taken: set[Target] = set()

    def take(i: int, target: Target) -> None:
        if found[i].column == ASIDE and target not in taken:
            found[i] = target
            taken.add(target)

    for i, heading in enumerate(headings):  # what Cavrel itself wrote out
        own = _TYPED.match(heading.name)
        if own and own["name"] in body.columns and body.columns[own["name"]].column_role.typed:
            take(i, Target(own["name"], int(own["trial"] or 1)))
    if taken:
        return found  # its other columns hold what follows from these
    scores = []
    for i, heading in enumerate(headings):
        for name, column in body.columns.items():
            typed = column.column_role.typed
            for text, of in (
                (heading.name, 1.0),
                (f"{heading.group} {heading.name}".strip(), 0.97),
                (heading.group, 0.9),
            ):
                plainly, trial = _trial(text)
                for written, number, off in ((text, 1, 0.0), (plainly, trial, 0.01)):
                    score = of * _likeness(written, name, column.label) - off - (0.3 if is_summary(heading.name) else 0)
                    if score > 0.3:
                        score += 0.1 * _unit_fits(heading.unit, column.unit or "") + (0.02 if typed else 0)
                        scores.append((score, i, Target(name, number)))
    for _, i, target in sorted(scores, key=lambda s: (-s[0], s[1])):
        take(i, target)
    # Columns under one heading, or next to each other under one name, are trials in their order.
    for i, heading in enumerate(headings):
        if (
            found[i].column == ASIDE
            and i
            and found[i - 1].column
            and heading.group
            and heading.group == headings[i - 1].group
            and not is_summary(heading.name)
        ):
            take(i, Target(found[i - 1].column, found[i - 1].trial + 1))
    return found


def _trial(text: str) -> tuple[str, int]:
    """A name and its trial: ``t2``, ``t_2``, ``time 2``, ``trial 2``."""
    found = _TRIAL.match(text.strip())
    if not found:
        return text, 1
    return re.sub(r"[\s_]*(trial|try|run|no\.?|#)$", "", found["name"], flags=re.I).strip(" _"), int(found["number"])


def _likeness(text: str, name: str, label: str) -> float:
    if not text:
        return 0.0
    if text == name:
        return 1.0
    low, words = text.casefold().strip(), label.casefold()
    if low == words:
        return 0.98
    if low == name.casefold() and len(name) == 1:
        return 0.55  # t and T are two things, but a heading may not know it
    if low == name.casefold():
        return 0.8
    own = set(re.findall(r"[a-zà-ÿ]{3,}", low))
    theirs = set(re.findall(r"[a-zà-ÿ]{3,}", words))
    if own and theirs and own & theirs:
        return 0.4 + 0.4 * len(own & theirs) / max(len(own), len(theirs))
    return 0.0


def _unit_fits(written: str, unit: str) -> float:
    if not written:
        return 0.0
    try:
        return 1.0 if units.unit(written).dimension == units.unit(unit).dimension else -2.0
    except CavrelError:
        return 0.0


def cells(
    definition: Definition,
    series: str,
    grid: Grid,
    head: int,
    headings: Sequence[Heading],
    targets: Sequence[Target],
    first: int,
    marks: Mapping[int, str],
    stacked: bool = False,
) -> list[Cell]:
    """Every reading of the typed columns; rows that were computed from the others are none. ``first``: the row of the series that the table
    begins in; ``marks``: decimal signs by column; ``stacked``: trials stand one under the other, under the same settings. Raises CavrelError
    for a unit that does not fit."""
    body = definition.series[series]
    summary_rows = summaries(grid.rows[head:])
    lines = [i for i in range(head, len(grid.rows)) if i - head not in summary_rows]
    rows = [grid.rows[i] for i in lines]
    found: list[Cell] = []
    columns = [
        (c, target)
        for c, target in enumerate(targets)
        if target.column in body.columns and body.columns[target.column].column_role.typed
    ]
    settings = [c for c, target in columns if body.columns[target.column].column_role.chosen]
    places, trials = _places(rows, settings, first, stacked)
    for c, target in columns:
        column = body.columns[target.column]
        mark = marks.get(c, ".")
        unit = _unit(headings[c].unit, column.unit or "", c)
        for i, row in enumerate(rows):
            text = plain(row[c], mark)
            if not text:
                continue
            if unit and re.search(r"\d\s*$", text):
                text = f"{text} {unit}"
            if stacked and c in settings and trials[i] > 1:
                continue
            trial = trials[i] if stacked and c not in settings else target.trial
            found.append(Cell(f"{series}.{target.column}.{places[i]}.{trial}", text, lines[i] + 1, c + 1))
    return found


def _places(
    rows: Sequence[Sequence[str]], settings: Sequence[int], first: int, stacked: bool
) -> tuple[list[int], list[int]]:
    """The row and trial of each line of the table."""
    if not stacked:
        return [first + i for i in range(len(rows))], [1] * len(rows)
    places: list[int] = []
    trials: list[int] = []
    before: tuple[str, ...] | None = None
    row, trial = first - 1, 0
    for line in rows:
        key = tuple(line[c] for c in settings)
        # An empty setting goes on with the one above, as tables that merge cells are read.
        if before is None or (key != before and any(key)):
            row, trial, before = row + 1, 0, key
        trial += 1
        places.append(row)
        trials.append(trial)
    return places, trials


def _unit(written: str, unit: str, c: int) -> str:
    """The unit to type next to numbers of a column: none where it is the column's own. Raises CavrelError."""
    if not written:
        return ""
    try:
        other = units.unit(written)
    except CavrelError:
        return ""
    own = units.unit(unit)
    if other.dimension != own.dimension:
        raise CavrelError(
            f"column {c + 1}", f"is in {written}, and what it is taken for is read in {own.pretty or 'plain numbers'}"
        )
    same = (other.factor, other.offset) == (own.factor, own.offset)
    return "" if same else written
