"""Which component stands where in the batch that carries every component's push: columns, and the places of what they show.

As long as the same cells hold readings a layout is the same, whatever the readings are; it is made once and remembered.
"""

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Truth = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class PerturbationColumn:
    """One pair of entries of the narrow batch.

    ``group``: index of the group it perturbations.
    ``rows``: ``(m,)`` rows it perturbations; None where it acts on all rows together.
    ``components``: ``(m,)`` the component of each of those rows, or the one component.
    """

    group: int
    rows: NDArray[np.intp] | None
    components: NDArray[np.intp]


@dataclass(frozen=True, slots=True, kw_only=True)
class Spread:
    """Where the narrow entries that a fit over some rows follows belong in the wide batch: components of columns that push one (``lone`` narrow,
    ``lone_wide`` wide entries), and those of rows pushed together with others (``entries`` narrow, ``at`` place among the rows fitted, ``wide``)."""

    lone: NDArray[np.intp]
    lone_wide: NDArray[np.intp]
    entries: NDArray[np.intp]
    at: NDArray[np.intp]
    wide: NDArray[np.intp]


_MOST_SPREADS = 64


@dataclass(frozen=True, kw_only=True)
class ComponentLayout:
    """Which component stands where.

    ``starts``: the first component of each group.
    ``count``: K.
    ``columns``: L of them.
    ``column_of``: ``(K,)`` the column that perturbations a component, -1 for none (the scatter about a fit, which is known once the fit is).
    ``places``: ``(2K+1,)`` the narrow entry that shows what a wide one does; the nominal one for components of columns that push several rows.
    ``single``: ``(2K+1,)`` the same for a single value, which every column's entry shows.
    ``lone``: ``(2, c)`` column and component, of columns that push one component.
    ``each``: ``(3, m)`` column, row and component of every row that is pushed together with others.
    ``together``: ``(L,)`` columns that push several rows, each by a component of its own.
    ``alone``: ``(L,)`` columns that push one row by its own component.
    ``any_together``, ``any_alone``: whether there are such.
    ``independent``: ``(K,)`` components of single rows.
    ``estimate``: ``(K,)`` number of the estimate of scatter a component rests on, -1 for none.
    ``resting``: ``(r,)`` the components that rest on one.
    ``begins``: ``(e,)`` the first component of each estimate, whose degrees of freedom are those of all.
    ``spreads``: those asked for so far.
    """

    starts: tuple[int, ...]
    count: int
    columns: tuple[PerturbationColumn, ...]
    column_of: NDArray[np.intp]
    places: NDArray[np.intp]
    single: NDArray[np.intp]
    lone: NDArray[np.intp]
    each: NDArray[np.intp]
    together: Truth
    alone: Truth
    any_together: bool
    any_alone: bool
    independent: Truth
    estimate: NDArray[np.intp]
    resting: NDArray[np.intp]
    begins: NDArray[np.intp]
    spreads: dict[tuple[bytes, int], Spread] = field(default_factory=dict, repr=False)

    def spread(self, use: NDArray[np.intp], rows: int) -> Spread:
        """For a fit over the rows ``use`` of a table of ``rows``; remembered."""
        key = use.tobytes(), rows
        found = self.spreads.get(key)
        if found is None:
            if len(self.spreads) >= _MOST_SPREADS:
                self.spreads.clear()
            found = self.spreads[key] = self._spread(use, rows)
        return found

    def _spread(self, use: NDArray[np.intp], rows: int) -> Spread:
        columns = len(self.columns)
        place = np.full(max(rows, int(self.each[1].max(initial=0)) + 1), -1)
        place[use] = np.arange(len(use))
        of_column, of_component = self.lone
        at = place[self.each[1]]
        column, _, component = self.each[:, at >= 0]
        return Spread(
            lone=np.concatenate([1 + of_column, 1 + columns + of_column]),
            lone_wide=np.concatenate([1 + of_component, 1 + self.count + of_component]),
            entries=np.concatenate([1 + column, 1 + columns + column]),
            at=np.tile(at[at >= 0], 2),
            wide=np.concatenate([1 + component, 1 + self.count + component]),
        )


Outline = tuple[tuple[str, ...], int, bytes | None, tuple[str, ...]]
"""What the place of a group's components rests on: targets, size, rows and estimates."""


Singled = tuple[tuple[str, frozenset[int]], ...]
"""Rows that formulas pick out, by series."""
_MOST_COMPONENTS = 2_000
"""Layouts of more are not remembered: they take megabytes, and a long table that grows has one for every reading."""


def layout_of(outlines: tuple[Outline, ...], singled: Singled) -> ComponentLayout:
    """The places of the components of groups with these outlines."""
    many = sum(size for _, size, _, _ in outlines)
    return (_remembered if many <= _MOST_COMPONENTS else _made)(outlines, singled)


def _made(outlines: tuple[Outline, ...], singled: Singled) -> ComponentLayout:
    picked_of = dict(singled)
    starts: list[int] = []
    columns: list[PerturbationColumn] = []
    column_of: list[NDArray[np.intp]] = []
    independent: list[bool] = []
    position = 0
    for index, (targets, size, written, _) in enumerate(outlines):
        rows = None if written is None else np.frombuffer(written, np.intp)
        starts.append(position)
        own = np.arange(position, position + size)
        position += size
        column_of.append(np.full(size, -1))
        independent += [rows is not None] * size
        if not targets:
            continue
        if rows is None or size == 1:
            column_of[-1][:] = len(columns)
            columns.append(PerturbationColumn(index, rows, own))
            continue
        picked = picked_of.get(targets[0].partition(".")[0], frozenset())
        apart = np.isin(rows, list(picked)) if picked else np.zeros(size, bool)
        if not apart.all():
            column_of[-1][~apart] = len(columns)
            columns.append(PerturbationColumn(index, rows[~apart], own[~apart]))
        for i in np.flatnonzero(apart).tolist():
            column_of[-1][i] = len(columns)
            columns.append(PerturbationColumn(index, rows[i : i + 1], own[i : i + 1]))
    together = np.array([column.rows is not None and len(column.rows) > 1 for column in columns], bool)
    alone = np.array([column.rows is not None and len(column.rows) == 1 for column in columns], bool)
    of_columns = np.concatenate(column_of) if column_of else np.zeros(0, np.intp)
    lone = [(i, column.components[0]) for i, column in enumerate(columns) if not together[i]]
    lone_places = np.array(lone, np.intp).reshape(-1, 2).T
    places = np.zeros(2 * position + 1, np.intp)
    places[1 + lone_places[1]] = 1 + lone_places[0]
    places[1 + position + lone_places[1]] = 1 + len(columns) + lone_places[0]
    each = [
        np.stack([np.full(len(column.rows), i), column.rows, column.components])
        for i, column in enumerate(columns)
        if column.rows is not None and len(column.rows) > 1
    ]
    names: dict[str, int] = {}
    estimate = np.array(
        [
            names.setdefault(name, len(names)) if name else -1
            for _, size, _, estimates in outlines
            for name in (estimates or ("",) * size)
        ],
        np.intp,
    )
    single = 1 + np.maximum(of_columns, -1)
    made = ComponentLayout(
        starts=tuple(starts),
        count=position,
        columns=tuple(columns),
        column_of=of_columns,
        places=places,
        single=np.concatenate([[0], single, np.where(single > 0, single + len(columns), 0)]),
        lone=lone_places,
        each=np.concatenate(each, axis=1) if each else np.zeros((3, 0), np.intp),
        together=together,
        alone=alone,
        any_together=bool(together.any()),
        any_alone=bool(alone.any()),
        independent=np.array(independent, bool),
        estimate=estimate,
        resting=np.flatnonzero(estimate >= 0),
        begins=np.array([np.argmax(estimate == i) for i in range(len(names))], np.intp),
    )
    for part in vars(made).values():
        if isinstance(part, np.ndarray):
            part.flags.writeable = False  # all sheets of these cells share it
    return made


_remembered = lru_cache(128)(_made)
