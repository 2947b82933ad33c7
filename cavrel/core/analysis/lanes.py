"""The batch that carries every component's push up and down through a program at once.

A component that moves one row of a column needs no entry of its own while columns are worked out row by row: all rows of one kind are
pushed together in one pair of entries, a *lane*, and each row shows what its own component does. Only where rows meet (a fit, a mean, a
largest value) does each component get a pair of entries, and what they carry there are single values. A batch is thus *narrow*, with
``2L + 1`` entries for L lanes, or *wide*, with ``2K + 1`` for K components: entry 0 nominal, then all up, then all down.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.components import Block, Nominal
from cavrel.core.formula.evaluate import FOLDS

Array = NDArray[np.float64]
Truth = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Lane:
    """One pair of entries of the narrow batch.

    ``block``: index of the block it pushes.
    ``rows``: ``(m,)`` rows it pushes; None where it acts on all rows together.
    ``components``: ``(m,)`` the component of each of those rows, or the one component.
    """

    block: int
    rows: NDArray[np.intp] | None
    components: NDArray[np.intp]


@dataclass(frozen=True, slots=True, kw_only=True)
class Spread:
    """Where the narrow entries that a fit over some rows follows belong in the wide batch: components of lanes that push one (``lone`` narrow,
    ``lone_wide`` wide entries), and those of rows pushed together with others (``entries`` narrow, ``at`` place among the rows fitted, ``wide``)."""

    lone: NDArray[np.intp]
    lone_wide: NDArray[np.intp]
    entries: NDArray[np.intp]
    at: NDArray[np.intp]
    wide: NDArray[np.intp]


_MOST_SPREADS = 64


@dataclass(frozen=True, kw_only=True)
class Layout:
    """Which component stands where.

    ``starts``: the first component of each block.
    ``count``: K.
    ``lanes``: L of them.
    ``lane_of``: ``(K,)`` the lane that pushes a component, -1 for none (the scatter about a fit, which is known once the fit is).
    ``places``: ``(2K+1,)`` the narrow entry that shows what a wide one does; the nominal one for components of lanes that push several rows.
    ``single``: ``(2K+1,)`` the same for a single value, which every lane's entry shows.
    ``lone``: ``(2, c)`` lane and component, of lanes that push one component.
    ``each``: ``(3, m)`` lane, row and component of every row that is pushed together with others.
    ``together``: ``(L,)`` lanes that push several rows, each by a component of its own.
    ``alone``: ``(L,)`` lanes that push one row by its own component.
    ``any_together``, ``any_alone``: whether there are such.
    ``independent``: ``(K,)`` components of single rows.
    ``estimate``: ``(K,)`` number of the estimate of scatter a component rests on, -1 for none.
    ``resting``: ``(r,)`` the components that rest on one.
    ``begins``: ``(e,)`` the first component of each estimate, whose degrees of freedom are those of all.
    ``spreads``: those asked for so far.
    """

    starts: tuple[int, ...]
    count: int
    lanes: tuple[Lane, ...]
    lane_of: NDArray[np.intp]
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
        lanes = len(self.lanes)
        place = np.full(max(rows, int(self.each[1].max(initial=0)) + 1), -1)
        place[use] = np.arange(len(use))
        of_lane, of_component = self.lone
        at = place[self.each[1]]
        lane, _, component = self.each[:, at >= 0]
        return Spread(
            lone=np.concatenate([1 + of_lane, 1 + lanes + of_lane]),
            lone_wide=np.concatenate([1 + of_component, 1 + self.count + of_component]),
            entries=np.concatenate([1 + lane, 1 + lanes + lane]),
            at=np.tile(at[at >= 0], 2),
            wide=np.concatenate([1 + component, 1 + self.count + component]),
        )


class Pushes:
    """The components, each in its place.

    ``blocks``: of components.
    ``dof``: ``(K,)`` degrees of freedom.
    ``layout``: where they stand; what it says stands here, too.
    ``narrow``, ``batch``: entries of the narrow and of the wide batch.
    ``counted``: some of them are counting's.
    """

    def __init__(self, *, blocks: tuple[Block, ...], dof: Array, layout: Layout) -> None:
        self.blocks, self.dof, self.layout = blocks, dof, layout
        self.starts, self.count, self.lanes = layout.starts, layout.count, layout.lanes
        self.lane_of, self.lone, self.each = layout.lane_of, layout.lone, layout.each
        self.independent, self.estimate = layout.independent, layout.estimate
        self.narrow, self.batch = 2 * len(layout.lanes) + 1, 2 * layout.count + 1
        self.counted = any(block.counts is not None for block in blocks)

    def span(self, index: int) -> slice:
        """The components of block ``index``."""
        return slice(self.starts[index], self.starts[index] + self.blocks[index].size)

    def is_wide(self, values: Array) -> bool:
        """Whether ``values`` ``(batch, rows)`` have an entry for each component."""
        return len(values) == self.batch and len(values) != self.narrow

    def widen(self, values: Array) -> Array:
        """``values`` with an entry for each component: ``(2K+1, rows)`` from ``(2L+1, rows)``; those of one entry stay as they are."""
        if len(values) == 1 or len(values) == self.batch:
            return values
        many, lanes, k_all = values.shape[1], len(self.lanes), self.count
        if many == 1:
            return values[self.layout.single]
        out = values[self.layout.places]
        lane, row, component = self.each[:, self.each[1] < many]
        out[1 + component, row] = values[1 + lane, row]
        out[1 + k_all + component, row] = values[1 + lanes + lane, row]
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
        nominal, lanes, k_all = values[0], len(self.lanes), self.count
        reaching = [i for i in np.flatnonzero(self.layout.together).tolist() if _reaches(name, nominal, values[1 + i])]
        folded = fold(values)
        if not reaching:
            # A lane that moves many rows moves none that count here: its entry must not say otherwise.
            quiet = 1 + np.flatnonzero(self.layout.together)
            folded[quiet] = folded[quiet + lanes] = folded[0]
            return folded
        out = self.widen(folded)
        for i in np.flatnonzero(self.layout.together).tolist():
            out[1 + self.lanes[i].components] = out[1 + k_all + self.lanes[i].components] = folded[0]
        for i in reaching:
            lane = self.lanes[i]
            assert lane.rows is not None
            for start, entry in ((1, 1 + i), (1 + k_all, 1 + lanes + i)):
                moved = _with_row(name, nominal, float(folded[0, 0]), lane.rows, values[entry, lane.rows])
                out[start + lane.components, 0] = moved
        return out

    def of_components(self, of_lanes: Truth) -> Truth:
        """What holds of each lane ``(L,)``, for its components ``(K,)``; false for those that no lane pushes."""
        pushed = self.lane_of >= 0
        found = np.zeros(self.count, bool)
        found[pushed] = of_lanes[self.lane_of[pushed]]
        return found

    def contributions(self, values: Array) -> Array:
        """Signed contributions, half the difference up to down: ``(L, rows)`` of a narrow batch, ``(K, rows)`` of a wide one.

        Where several rows are pushed together each row's entry is its own component's, so that squares add up over either axis alike.
        """
        if len(values) == 1:
            return np.zeros((len(self.lanes), values.shape[1]))
        half = len(values) // 2
        return np.asarray((values[1 : half + 1] - values[half + 1 :]) / 2)

    def single(self, values: Array) -> Array:
        """Contributions ``(K,)`` to a single value ``(batch, 1)``."""
        return self.single_and_bend(values)[0]

    def single_and_bend(self, values: Array) -> tuple[Array, float]:
        """The same; and by how much the mean of up and down differs from the nominal, all components added: what second order adds to the
        value."""
        wide = self.widen(values)
        if len(wide) == 1:
            return np.zeros(self.count), 0.0
        up, down = wide[1 : self.count + 1, 0], wide[self.count + 1 :, 0]
        bend = float(np.add.reduce((up - wide[0, 0]) + (down - wide[0, 0])))
        return (up - down) / 2, abs(bend) / 2

    def own(self, parts: Array) -> Truth:
        """Which contributions ``(L, n)`` or ``(K, n)`` are a row's own: by a component of that row that moves no other."""
        together, alone = self.layout.together, self.layout.alone
        narrow = len(parts) == len(self.lanes) and (len(parts) != self.count or self.layout.any_together)
        if narrow and not self.layout.any_alone:
            return together
        few = (parts != 0).sum(axis=1) <= 1
        return np.asarray(together | (alone & few) if narrow else self.independent & few)


def _reaches(name: str, nominal: Array, pushed: Array) -> bool:
    """Whether a lane's push reaches a fold of ``nominal`` ``(rows,)``."""
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


def plan(blocks: Sequence[Block], singled: Mapping[str, frozenset[int]]) -> Pushes:
    """Give every component its place.

    ``singled``: by series, rows that formulas pick out (the first, the last), whose components get lanes of their own so that what
    rests on such a row stays narrow.
    """
    outlines = tuple(
        (block.targets, block.size, None if block.rows is None else block.rows.tobytes(), block.estimate)
        for block in blocks
    )
    return Pushes(
        blocks=tuple(blocks),
        dof=np.concatenate([block.dof for block in blocks]) if blocks else np.zeros(0),
        layout=_laid_out(outlines, tuple(singled.items())),
    )


_Outline = tuple[tuple[str, ...], int, bytes | None, tuple[str, ...]]
"""What the place of a block's components rests on: targets, size, rows and estimates."""


@lru_cache(256)
def _laid_out(outlines: tuple[_Outline, ...], singled: tuple[tuple[str, frozenset[int]], ...]) -> Layout:
    """The places alone; as long as the same cells hold readings they are the same, whatever the readings are."""
    picked_of = dict(singled)
    starts: list[int] = []
    lanes: list[Lane] = []
    lane_of: list[NDArray[np.intp]] = []
    independent: list[bool] = []
    position = 0
    for index, (targets, size, written, _) in enumerate(outlines):
        rows = None if written is None else np.frombuffer(written, np.intp)
        starts.append(position)
        own = np.arange(position, position + size)
        position += size
        lane_of.append(np.full(size, -1))
        independent += [rows is not None] * size
        if not targets:
            continue
        if rows is None or size == 1:
            lane_of[-1][:] = len(lanes)
            lanes.append(Lane(index, rows, own))
            continue
        picked = picked_of.get(targets[0].partition(".")[0], frozenset())
        apart = np.isin(rows, list(picked)) if picked else np.zeros(size, bool)
        if not apart.all():
            lane_of[-1][~apart] = len(lanes)
            lanes.append(Lane(index, rows[~apart], own[~apart]))
        for i in np.flatnonzero(apart).tolist():
            lane_of[-1][i] = len(lanes)
            lanes.append(Lane(index, rows[i : i + 1], own[i : i + 1]))
    together = np.array([lane.rows is not None and len(lane.rows) > 1 for lane in lanes], bool)
    alone = np.array([lane.rows is not None and len(lane.rows) == 1 for lane in lanes], bool)
    of_lanes = np.concatenate(lane_of) if lane_of else np.zeros(0, np.intp)
    lone = [(i, lane.components[0]) for i, lane in enumerate(lanes) if not together[i]]
    lone_places = np.array(lone, np.intp).reshape(-1, 2).T
    places = np.zeros(2 * position + 1, np.intp)
    places[1 + lone_places[1]] = 1 + lone_places[0]
    places[1 + position + lone_places[1]] = 1 + len(lanes) + lone_places[0]
    each = [
        np.stack([np.full(len(lane.rows), i), lane.rows, lane.components])
        for i, lane in enumerate(lanes)
        if lane.rows is not None and len(lane.rows) > 1
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
    single = 1 + np.maximum(of_lanes, -1)
    return Layout(
        starts=tuple(starts),
        count=position,
        lanes=tuple(lanes),
        lane_of=of_lanes,
        places=places,
        single=np.concatenate([[0], single, np.where(single > 0, single + len(lanes), 0)]),
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


def pushed_inputs(pushes: Pushes, nominal: Mapping[str, Nominal]) -> dict[str, Array]:
    """Each input over the narrow batch, ``(2L+1, rows)``, SI; those that nothing moves stay ``(1, rows)``."""
    values = {key: entry.values[None, :] for key, entry in nominal.items()}
    moved: set[str] = set()
    lanes = len(pushes.lanes)
    for index, lane in enumerate(pushes.lanes):
        block = pushes.blocks[lane.block]
        for target in block.targets:
            if target not in values:
                continue
            if target not in moved:
                values[target] = np.repeat(values[target], pushes.narrow, axis=0)
                moved.add(target)
            array = values[target]
            u = block.u[lane.components - pushes.starts[lane.block]]
            if lane.rows is not None:
                array[1 + index, lane.rows] += u
                array[1 + index + lanes, lane.rows] -= u
            else:
                # A share of the reading is a share of the number that its scale shows: of 20 °C, not of 293 K.
                step = (array[0] - nominal[target].zero) * u[0] if block.relative else u[0]
                array[1 + index] += step
                array[1 + index + lanes] -= step
    return values
