"""Propagation of distributions: one batch of draws from the stated distributions, run through the same program.

Source: JCGM 101:2008. Repeated readings draw from scaled and shifted t distributions (6.4.9); components that rest on one estimate of
scatter share the draw of that estimate. Fits keep the weights of the nominal solution, for an uncertainty is no input.
"""

import math
from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.binding import bind
from cavrel.core.analysis.components import UncertaintyComponents
from cavrel.core.analysis.distribution import MonteCarlo, summarise
from cavrel.core.analysis.fitted import Bound, FitAnalysis
from cavrel.core.analysis.points import curve_of
from cavrel.core.analysis.records import Analysis
from cavrel.core.definition.steps import Derived, FitStep, ResultStep
from cavrel.core.fit import solver, york
from cavrel.core.fit.models import Line, Proportional
from cavrel.core.formula.evaluate import Environment

Array = NDArray[np.float64]

CHUNK_VALUES = 130_000
"""Values of one column held at once: enough to hide Python, few enough to stay in the processor's cache."""
MOST_DRAWS = 5_000_000


def monte_carlo(
    analysis: Analysis, draws: int, seed: int = 0, only: Collection[str] | None = None
) -> dict[str, MonteCarlo]:
    """Result name -> its distribution, for the results that have a value, or ``only`` those. Raises ValueError for a number of draws out of
    bounds."""
    return {name: summarise(analysis, name, values) for name, values in drawn(analysis, draws, seed, only).items()}


def drawn(
    analysis: Analysis, draws: int, seed: int = 0, only: Collection[str] | None = None
) -> dict[str, NDArray[np.float64]]:
    """Result name -> its draws ``(draws,)``, SI. Raises ValueError as `monte_carlo` does."""
    if not 1000 <= draws <= MOST_DRAWS:
        raise ValueError(f"a Monte Carlo takes 1000 to {MOST_DRAWS} draws")
    wanted = [n for n, result in analysis.results.items() if not result.reason and (only is None or n in only)]
    if not wanted:
        return {}
    sampler = _Sampler(analysis, np.random.Generator(np.random.SFC64(seed)))
    values = {name: np.empty(draws) for name in wanted}
    for start, size in _chunks(draws, sampler.rows):
        with np.errstate(all="ignore"):
            for name, chunk in sampler.run(size).items():
                if name in values:
                    values[name][start : start + size] = chunk
    return values


def _chunks(draws: int, rows: int) -> Iterator[tuple[int, int]]:
    size = max(1000, min(draws, CHUNK_VALUES // rows))
    for start in range(0, draws, size):
        yield start, min(size, draws - start)


def _noise_of_its_own(fit: FitAnalysis) -> bool:
    """Whether a fit says itself how its points scatter, so that the readings' own components must not speak in it too."""
    return fit.source in ("scatter", "extreme lines") or fit.counted


class _Moved:
    """What is drawn for one input: deviations of single rows, of all rows together, and shares of the value."""

    def __init__(self) -> None:
        self.own: Array | None = None
        self.added: Array | None = None
        self.share: Array | None = None

    def take(
        self, group: UncertaintyComponents, target: str, drawn: Array, value: Array, column: bool, added: float = 0.0
    ) -> None:
        """Add a group's deviations ``(size, n)``; those of a quantity that is read once act on all that follows from it. ``added``: what goes with
        a relative u, SI."""
        drawn = drawn * group.weights[target] if target in group.weights else drawn
        if group.rows is None and group.relative:
            self.share = drawn if self.share is None else self.share + drawn
            if added:
                with_it = drawn * (added / float(group.u[0])) * np.where(value < 0, -1.0, 1.0)
                self.added = with_it if self.added is None else self.added + with_it
        elif group.rows is None or not column:
            self.added = drawn if self.added is None else self.added + drawn
        elif group.size == value.shape[1]:
            if self.own is None:
                self.own = drawn  # drawn for this input alone, so it may be added to in place
            else:
                self.own += drawn
        else:
            if self.own is None:
                self.own = np.zeros((len(drawn), value.shape[1]))
            self.own[:, group.rows] += drawn

    def values(self, value: Array, zero: float, split: bool) -> tuple[Array, Array]:
        """The input with everything drawn, and with only what acts on rows together; ``zero``: that of its scale."""
        common = value
        if self.share is not None:
            common = common * (1 + self.share) - self.share * zero if zero else common * (1 + self.share)
        if self.added is not None:
            common = common + self.added
        if self.own is None:
            return common, common
        if split:
            return common + self.own, common
        self.own += common
        return self.own, common


class _Sampler:
    """Draws inputs and carries them through the program's steps.

    Where a fit takes its uncertainty from the scatter of its points, the readings' own components must not speak in it too: such fits
    run in an environment of their own, in which only what acts on rows together is drawn.
    """

    def __init__(self, analysis: Analysis, generator: np.random.Generator) -> None:
        self.analysis, self.generator = analysis, generator
        self.rows = max([1, *analysis.sheet.rows.values()])
        self.fits = {**analysis.fits, **analysis.means}
        self.split = any(_noise_of_its_own(fit) for fit in self.fits.values())
        self.groups = [group for group in analysis.perturbations.groups if group.kind != "scatter"]

    def run(self, size: int) -> Mapping[str, Array]:
        """One chunk of draws: result name -> ``(size,)``."""
        self.scales: dict[str, Array] = {}
        full, common = self.inputs(size)
        environments = [Environment(full, self.analysis.sheet.keep)]
        if self.split:
            environments.append(Environment(common, self.analysis.sheet.keep))
        found: dict[str, Array] = {}
        for step in self.analysis.program.steps:
            if isinstance(step, Derived):
                for environment, values in zip(environments, (full, common), strict=False):
                    values[step.key] = self.shaped(step, step.run(environment))
            elif isinstance(step, FitStep):
                theta = self.fit(step, environments, size)
                for values in (full, common):
                    for i, parameter in enumerate(step.parameters):
                        values[f"{step.name}.{parameter}"] = theta[:, i : i + 1]
            elif isinstance(step, ResultStep):
                drawn = self.mean_of(step, full) if step.combine else self.formula(step, environments[0])
                full[step.key] = common[step.key] = drawn
                found[step.key] = np.broadcast_to(drawn[:, 0], (size,))
        return found

    def formula(self, step: ResultStep, environment: Environment) -> Array:
        assert step.run is not None
        return step.run(environment)

    def mean_of(self, step: ResultStep, values: Mapping[str, Array]) -> Array:
        result = self.analysis.results[step.key]
        if not result.weights:
            return np.full((1, 1), np.nan)
        mean = sum(values[name] * weight for name, weight in result.weights.items())
        widen = max(1.0, result.birge) if math.isfinite(result.birge) else 1.0
        return np.asarray(result.value + (mean - result.value) * widen)

    def shaped(self, step: Derived, values: Array) -> Array:
        rows = self.analysis.sheet.rows[step.series] if step.series else 1
        return values if values.shape[1] == rows else np.broadcast_to(values, (values.shape[0], rows))

    # --- drawing -----------------------------------------------------------------------------------------------------

    def inputs(self, size: int) -> tuple[dict[str, Array], dict[str, Array]]:
        """Every input drawn, with all its components and with those only that act on rows together."""
        series_of = {entry.key: entry.series for entry in self.analysis.program.inputs}
        nominal = {key: values.value[None, :] for key, values in self.analysis.values.items() if key in series_of}
        for name in self.analysis.program.used_accepted:
            nominal[name] = np.array([[self.analysis.accepted[name].value]])
        moved: dict[str, _Moved] = {key: _Moved() for key in nominal}
        for group in self.groups:
            drawn = self.draw(group, size)
            for target in group.targets:
                if target in moved:
                    added = group.added.get(target, 0.0)
                    moved[target].take(group, target, drawn, nominal[target], series_of.get(target) is not None, added)
        full: dict[str, Array] = {"pi": np.array([[math.pi]])}
        full.update({key: np.array([[value]]) for key, value in self.analysis.program.constants.items()})
        common: dict[str, Array] = dict(full)
        zeros = {entry.key: entry.unit.offset for entry in self.analysis.program.inputs}
        for key, value in nominal.items():
            full[key], common[key] = moved[key].values(value, zeros.get(key, 0.0), self.split)
        return full, common

    def draw(self, group: UncertaintyComponents, size: int) -> Array:
        """Deviations of a group's components, ``(size, n)``."""
        if group.distribution == "rectangular":
            drawn = self.generator.random((size, group.size))
            drawn -= 0.5
            drawn *= 2 * math.sqrt(3) * group.u
            return drawn
        drawn = self.generator.standard_normal((size, group.size))
        if group.distribution == "student" and group.estimate:
            names = list(dict.fromkeys(group.estimate))
            if len(names) == 1:
                drawn *= self.scale(names[0], float(group.dof[0]), size)
            else:
                for i, (name, dof) in enumerate(zip(group.estimate, group.dof.tolist(), strict=True)):
                    drawn[:, i] *= self.scale(name, dof, size)[:, 0]
        drawn *= group.u
        return drawn

    def scale(self, estimate: str, dof: float, size: int) -> Array:
        """The factor by which an estimate of scatter with ``dof`` degrees of freedom may be off, ``(size, 1)``; the same for all that rest
        on it."""
        if not math.isfinite(dof):
            return np.ones((size, 1))
        if estimate not in self.scales:
            self.scales[estimate] = np.sqrt(dof / self.generator.chisquare(dof, (size, 1)))
        return self.scales[estimate]

    # --- fits --------------------------------------------------------------------------------------------------------

    def fit(self, step: FitStep, environments: list[Environment], size: int) -> Array:
        """Parameters of a fit, as the definition names them, for every draw, ``(size, p)``."""
        made = self.fits[step.name]
        if not made.made:
            return np.full((size, len(step.parameters)), np.nan)
        bound = bind(step, environments[-1] if _noise_of_its_own(made) else environments[0], made.keep)
        shape = (size, bound.y.shape[1])
        bound = replace(bound, x=np.broadcast_to(bound.x, shape), y=np.broadcast_to(bound.y, shape))
        x, y = bound.x[:, made.rows], bound.y[:, made.rows]
        if made.source == "scatter" and made.diagnostics is not None:
            noise = self.generator.standard_normal((size, len(made.rows))) * made.scatter
            y = y + noise * self.scale(f"fit:{step.name}", float(made.diagnostics.dof), size)
        elif made.counted:
            y = y + self.generator.standard_normal((size, len(made.rows))) / np.sqrt(made.weights)
        forced = isinstance(made.shape, Line) and made.parameter_sensitivity.shape[0] == 1
        theta = self.york(made, x, y, forced) if made.errors is not None else self.solve(step, made, bound, y, forced)
        if made.source == "extreme lines":
            groups = self.analysis.perturbations.groups
            own = next(n for n, b in enumerate(groups) if b.kind == "scatter" and b.subject == step.name)
            half = made.parts[self.analysis.perturbations.starts[own] + int(made.rows[0])]
            theta = theta + self.generator.standard_normal((size, 1)) * half
        return made.shape.named(theta) if made.shape is not None else theta

    def york(self, made: FitAnalysis, x: Array, y: Array, forced: bool) -> Array:
        assert made.errors is not None and made.shape is not None
        x = made.shape.local(x)
        # The linear response puts the line within a second-order error of its place; a round of York's equations shrinks that.
        parameter_sensitivity = made.parameter_sensitivity[0]
        start = made.theta[0] + y @ parameter_sensitivity - made.theta[0] * (x @ parameter_sensitivity)
        if not forced:
            start -= made.theta[1] * parameter_sensitivity.sum()
        slope, intercept = york.nearby(x, y, made.errors, float(made.theta[0]), start, forced)
        return np.stack([slope, intercept], axis=1)

    def solve(self, step: FitStep, made: FitAnalysis, bound: Bound, y: Array, forced: bool) -> Array:
        shape = Proportional() if forced else made.shape
        theta = made.theta[:1] if forced else made.theta
        curve = curve_of(step, shape, bound, made.rows)
        if curve.linear:
            found = theta + solver.step(curve, y, made.weights, theta)
        else:
            found, settled = solver.batch(curve, y, made.weights, np.repeat(theta[None, :], len(y), axis=0), 30, 1e-6)
            found = np.where(settled[:, None], found, np.nan)
        return np.concatenate([found, np.zeros_like(found)], axis=1) if forced else found
