"""The batch that carries every component's push up and down through a program at once.

A component that moves one row of a column needs no entry of its own while columns are computed row by row: all rows of one kind are
pushed together in one pair of entries, a *column*, and each row shows what its own component does. Only where rows meet (a fit, a mean, a
largest value) does each component get a pair of entries, and what they carry there are single values. A batch is thus *narrow*, with
``2L + 1`` entries for L columns, or *wide*, with ``2K + 1`` for K components: entry 0 nominal, then all up, then all down.
"""

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.component_layout import ComponentLayout, layout_of
from cavrel.core.analysis.components import Nominal, UncertaintyComponents
from cavrel.core.formula.evaluate import FOLDS

Array = NDArray[np.float64]
MATTERS = 0.05
"""A component matters that gives this share of the variance."""
Truth = NDArray[np.bool_]


class Perturbations:
    """The components, each in its place.

    ``groups``: of components.
    ``dof``: ``(K,)`` degrees of freedom.
    ``layout``: where they stand; ``starts``, ``count`` and ``columns`` are its own.
    ``narrow``, ``batch``: entries of the narrow and of the wide batch.
    ``counted``: some of them are counting's.
    """

    def __init__(self, *, groups: tuple[UncertaintyComponents, ...], dof: Array, layout: ComponentLayout) -> None:
        self.groups, self.dof, self.layout = groups, dof, layout
        self.starts, self.count, self.columns = layout.starts, layout.count, layout.columns
        self.narrow, self.batch = 2 * len(layout.columns) + 1, 2 * layout.count + 1
        self.counted = any(group.counts is not None for group in groups)

    def span(self, index: int) -> slice:
        """The components of group ``index``."""
        return slice(self.starts[index], self.starts[index] + self.groups[index].size)

    def is_wide(self, values: Array) -> bool:
        """Whether ``values`` ``(batch, rows)`` have an entry for each component."""
        return len(values) == self.batch and len(values) != self.narrow

    def widen(self, values: Array) -> Array:
        """``values`` with an entry for each component: ``(2K+1, rows)`` from ``(2L+1, rows)``; those of one entry stay as they are."""
        if len(values) == 1 or len(values) == self.batch:
            return values
        many, columns, k_all = values.shape[1], len(self.columns), self.count
        if many == 1:
            return values[self.layout.single]
        out = values[self.layout.places]
        column, row, component = self.layout.each[:, self.layout.each[1] < many]
        out[1 + component, row] = values[1 + column, row]
        out[1 + k_all + component, row] = values[1 + columns + column, row]
        return out

    def pair(self, first: Array, second: Array) -> tuple[Array, Array]:
        """Two operands as batches that fit each other."""
        if len(first) == len(second) or len(first) == 1 or len(second) == 1:
            return first, second
        return self.widen(first), self.widen(second)

    def fold(self, name: str, values: Array) -> Array:
        """A folding function over rows: narrow where no row's own component reaches the result, else wide."""
        fold = FOLDS[name]
        if len(values) != self.narrow or values.shape[1] == 1 or self.is_wide(values):
            return fold(values)
        nominal, columns, k_all = values[0], len(self.columns), self.count
        reaching = [i for i in np.flatnonzero(self.layout.together).tolist() if _reaches(name, nominal, values[1 + i])]
        folded = fold(values)
        if not reaching:
            # A column that moves many rows moves none that count here: its entry must not say otherwise.
            quiet = 1 + np.flatnonzero(self.layout.together)
            folded[quiet] = folded[quiet + columns] = folded[0]
            return folded
        out = self.widen(folded)
        for i in np.flatnonzero(self.layout.together).tolist():
            out[1 + self.columns[i].components] = out[1 + k_all + self.columns[i].components] = folded[0]
        for i in reaching:
            column = self.columns[i]
            assert column.rows is not None
            for start, entry in ((1, 1 + i), (1 + k_all, 1 + columns + i)):
                moved = _with_row(name, nominal, float(folded[0, 0]), column.rows, values[entry, column.rows])
                out[start + column.components, 0] = moved
        return out

    def of_components(self, of_columns: Truth) -> Truth:
        """What holds of each column ``(L,)``, for its components ``(K,)``; false for those that no column perturbations."""
        pushed = self.layout.column_of >= 0
        found = np.zeros(self.count, bool)
        found[pushed] = of_columns[self.layout.column_of[pushed]]
        return found

    def contributions(self, values: Array) -> Array:
        """Signed contributions, half the difference up to down: ``(L, rows)`` of a narrow batch, ``(K, rows)`` of a wide one.

        Where several rows are pushed together each row's entry is its own component's, so that squares add up over either axis alike.
        """
        if len(values) == 1:
            return np.zeros((len(self.columns), values.shape[1]))
        half = len(values) // 2
        return np.asarray((values[1 : half + 1] - values[half + 1 :]) / 2)

    def single(self, values: Array) -> Array:
        """Contributions ``(K,)`` to a single value ``(batch, 1)``."""
        return self.single_and_bend(values)[0]

    def single_and_bend(self, values: Array) -> tuple[Array, float]:
        """The same; and by how much the mean of up and down differs from the nominal, all components added: what second order adds to the
        value. Where a component that matters moves the value more to one side than to both, as across a pole or a kink, that counts alone."""
        wide = self.widen(values)
        if len(wide) == 1:
            return np.zeros(self.count), 0.0
        up, down = wide[1 : self.count + 1, 0], wide[self.count + 1 :, 0]
        bends, parts = ((up - wide[0, 0]) + (down - wide[0, 0])) / 2, (up - down) / 2
        bend = abs(float(np.add.reduce(bends)))
        matter = parts * parts > MATTERS * float(parts @ parts)
        one_sided = float(
            np.abs(bends)[matter].max(initial=0.0, where=np.abs(bends)[matter] > np.abs(parts)[matter] / 2)
        )
        return parts, max(bend, one_sided)

    def own(self, parts: Array) -> Truth:
        """Which contributions ``(L, n)`` or ``(K, n)`` are a row's own: by a component of that row that moves no other."""
        together, alone = self.layout.together, self.layout.alone
        narrow = len(parts) == len(self.columns) and (len(parts) != self.count or self.layout.any_together)
        if narrow and not self.layout.any_alone:
            return together
        few = (parts != 0).sum(axis=1) <= 1
        return np.asarray(together | (alone & few) if narrow else self.layout.independent & few)


def _reaches(name: str, nominal: Array, pushed: Array) -> bool:
    """Whether a column's push reaches a fold of ``nominal`` ``(rows,)``."""
    moved = ~((pushed == nominal) | (np.isnan(pushed) & np.isnan(nominal)))
    if name in ("first", "last"):
        known = np.flatnonzero(~np.isnan(nominal))
        return bool(len(known) and moved[known[0 if name == "first" else -1]])
    return name != "count" and bool(moved.any())


def _with_row(name: str, nominal: Array, folded: float, rows: NDArray[np.intp], pushed: Array) -> Array:
    """A fold of ``nominal`` with one of ``rows`` at a time replaced by its ``pushed`` value: ``(m,)``."""
    known = np.flatnonzero(~np.isnan(nominal))
    if name in ("sum", "mean"):
        moved = np.where(np.isnan(nominal[rows]), 0.0, pushed - nominal[rows])
        return np.asarray(folded + (moved if name == "sum" else moved / max(len(known), 1)))
    if name in ("first", "last"):
        return np.where(rows == known[0 if name == "first" else -1], pushed, folded)
    sign = 1.0 if name in ("min", "all") else -1.0
    ordered = known[np.argsort(sign * nominal[known], kind="stable")]
    least = sign * nominal[ordered[0]]
    following = sign * nominal[ordered[1]] if len(ordered) > 1 else np.inf
    others = np.where(rows == ordered[0], following, least)
    return np.asarray(sign * np.fmin(others, sign * np.where(np.isnan(nominal[rows]), np.nan, pushed)))


def plan_perturbations(groups: Sequence[UncertaintyComponents], singled: Mapping[str, frozenset[int]]) -> Perturbations:
    """Give every component its place.

    ``singled``: by series, rows that formulas pick out (the first, the last), whose components get columns of their own so that what
    rests on such a row stays narrow.
    """
    outlines = tuple(
        (group.targets, group.size, None if group.rows is None else group.rows.tobytes(), group.estimate)
        for group in groups
    )
    return Perturbations(
        groups=tuple(groups),
        dof=np.concatenate([group.dof for group in groups]) if groups else np.zeros(0),
        layout=layout_of(outlines, tuple(singled.items())),
    )


def perturbed_inputs(perturbations: Perturbations, nominal: Mapping[str, Nominal]) -> dict[str, Array]:
    """Each input over the narrow batch, ``(2L+1, rows)``, SI; those that nothing moves stay ``(1, rows)``."""
    values = {key: entry.values[None, :] for key, entry in nominal.items()}
    moved: set[str] = set()
    columns = len(perturbations.columns)
    for index, column in enumerate(perturbations.columns):
        group = perturbations.groups[column.group]
        for target in group.targets:
            if target not in values:
                continue
            if target not in moved:
                values[target] = np.repeat(values[target], perturbations.narrow, axis=0)
                moved.add(target)
            array = values[target]
            u = group.u[column.components - perturbations.starts[column.group]]
            if column.rows is not None:
                array[1 + index, column.rows] += u
                array[1 + index + columns, column.rows] -= u
            else:
                step = group.moved(target, array[0], nominal[target].zero, float(u[0])) * group.weights.get(target, 1.0)
                array[1 + index] += step
                array[1 + index + columns] -= step
    return values
