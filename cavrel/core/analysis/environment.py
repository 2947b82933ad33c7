"""The environment of one run, carried from step to step: columns, fits and predictions."""

import math
from collections.abc import Mapping
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import fitting, marks, one_more, uncertainty
from cavrel.core.analysis.binding import bind
from cavrel.core.analysis.components import Nominal
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.analysis.identities import Parity, Verified
from cavrel.core.analysis.perturbations import Perturbations, perturbed_inputs
from cavrel.core.analysis.points import LARGEST
from cavrel.core.analysis.records import (
    ForcePicture,
    PredictionAnalysis,
    ResultAnalysis,
    Values,
)
from cavrel.core.analysis.sheet import Sheet
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import Derived, FitStep, IdentityStep, PictureStep, PredictStep, Program, VerifyStep
from cavrel.core.formula.evaluate import Environment
from cavrel.core.logbook.run import RunDocument
from cavrel.core.quantity.units import Unit

Array = NDArray[np.float64]


class Carrying:
    """Carries the environment of one run from step to step."""

    def __init__(
        self,
        program: Program,
        run: RunDocument,
        rules: HouseRules,
        sheet: Sheet,
        nominal: Mapping[str, Nominal],
        perturbations: Perturbations,
        accepted: Mapping[str, ReferenceValue],
    ) -> None:
        self.program, self.run, self.rules, self.sheet = program, run, rules, sheet
        self.nominal, self.perturbations, self.accepted = nominal, perturbations, accepted
        self.dof = perturbations.dof.copy()
        self.values: dict[str, Array] = perturbed_inputs(perturbations, nominal)
        self.values["pi"] = np.array([[math.pi]])
        self.values.update({key: np.array([[value]]) for key, value in program.constants.items()})
        self.environment = Environment(self.values, sheet.keep, perturbations)
        self.fits: dict[str, FitAnalysis] = {}
        self.results: dict[str, ResultAnalysis] = {}
        self.predictions: dict[str, PredictionAnalysis] = {}
        self.parameters: dict[str, Array] = {}

    def shaped(self, step: Derived) -> Array:
        """A derived column has its series' rows even where its formula holds only single values."""
        values = step.run(self.environment)
        rows = self.sheet.rows[step.series] if step.series else 1
        return values if values.shape[1] == rows else np.broadcast_to(values, (values.shape[0], rows))

    def parity(self, step: IdentityStep) -> Parity:
        """How far readings are from an identity, with the uncertainty of that."""
        rows = self.sheet.rows[step.series] if step.series else 1
        values = step.run(self.environment)
        values = np.broadcast_to(values, (len(values), rows))
        parts = self.perturbations.contributions(values)
        keep = self.sheet.keep[step.series] if step.series else np.ones(1, bool)
        use = np.flatnonzero(np.isfinite(values[0]) & keep)
        chi2, whiten = math.nan, np.zeros((0, rows))
        mine = self.perturbations.own(parts)
        shared = parts[~mine][:, use]
        covariance = np.diag((parts[mine][:, use] ** 2).sum(axis=0)) + shared.T @ shared
        size = np.sqrt(np.diag(covariance))
        if len(use) and (size > 0).all() and np.isfinite(covariance).all() and float(size.max()) < LARGEST:
            # A side that holds a mean over the rows leaves one direction in which they cannot differ.
            values_of, vectors = np.linalg.eigh(covariance / np.outer(size, size))
            told = values_of > 1e-9 * values_of[-1]
            whiten = np.zeros((int(told.sum()), rows))
            whiten[:, use] = vectors[:, told].T / np.sqrt(values_of[told])[:, None] / size
            along = whiten[:, use] @ values[0, use]
            chi2 = float(along @ along)
        left = np.broadcast_to(step.size(self.environment)[:1], (1, rows))[0]
        return Parity(
            index=step.index,
            series=step.series,
            left=left,
            residual=values[0],
            u=uncertainty.combined(parts),
            chi2=chi2,
            dof=len(whiten),
            whiten=whiten,
            unit=step.unit,
        )

    def verified(self, step: VerifyStep) -> Verified:
        """How far what is measured is from its standard, row by row, with the uncertainty of that."""
        parity = self.parity(step.differ)
        assert parity.series is not None
        rows = (1, self.sheet.rows[parity.series])
        value = np.broadcast_to(step.value(self.environment)[:1], rows)[0]
        within = None if step.within is None else step.within(self.environment)[:1]
        return Verified(
            index=parity.index,
            series=parity.series,
            standard=parity.left,
            value=value,
            differ=parity.residual,
            u=parity.u,
            within=np.full(rows[1], math.nan) if within is None else np.abs(np.broadcast_to(within, rows)[0]),
        )

    def picture(self, step: PictureStep, plain: Environment) -> ForcePicture | None:
        """A picture of the last row that has everything it needs, or of the run's single readings; None while something is missing."""
        columns = [step.pivot(plain)]
        for at, force in step.forces:
            columns += [at(plain), force(plain)]
        rows = max(column.shape[1] for column in columns)
        table = np.array([np.broadcast_to(column[0], rows) for column in columns])
        whole = np.flatnonzero(np.isfinite(table).all(axis=0))
        if not len(whole):
            return None
        here = table[:, whole[-1]].tolist()
        labels = [f.label for f in self.program.definition.pictures[step.key].forces]
        forces = tuple(zip(labels, here[1::2], here[2::2], strict=True))
        return ForcePicture(step.key, here[0], forces, int(whole[-1]) + 1 if step.series else None)

    def truth(self, values: Array) -> bool | None:
        value = values[0, 0]
        return None if math.isnan(value) else bool(value)

    def described(self, key: str, unit: Unit) -> Values:
        read = self.nominal.get(key)
        return Values(
            key=key,
            unit=unit,
            batch=self.values[key],
            perturbations=self.perturbations,
            trials=read.trials if read else None,
            scatter=read.scatter if read else None,
        )

    def fit(self, step: FitStep) -> None:
        keep = self.sheet.keep[step.series]
        if step.marked:
            keep = keep & np.isin(self.marks(step.series), step.marked)
        bound = bind(step, self.environment, keep)
        x0 = math.nan
        if step.at is not None:
            x0 = float(step.at(self.environment)[0, 0])
        span = self.scatter_span(step.name)
        made, self.parameters[step.name], named = fitting.fit(step, bound, self.perturbations, self.rules, span, x0)
        self.fits[step.name] = made
        for i, parameter in enumerate(step.parameters):
            self.values[f"{step.name}.{parameter}"] = named[:, i : i + 1]
        if made.source == "scatter" and made.diagnostics is not None:
            self.dof[span] = made.diagnostics.dof

    def marks(self, series: str) -> tuple[str, ...]:
        """The word of each row of a series, as `marks.of_rows` has it, by the readings as they are."""
        plain = Environment({key: value[:1] for key, value in self.values.items()}, self.sheet.keep)
        return marks.of_rows(self.program, self.run, series, self.sheet.rows[series], plain)

    def scatter_span(self, fit: str) -> slice:
        index = next(i for i, b in enumerate(self.perturbations.groups) if b.kind == "scatter" and b.subject == fit)
        return self.perturbations.span(index)

    def predict(self, step: PredictStep) -> None:
        fit = self.fits[step.fit]
        at = step.at(self.environment)
        if fit.shape is None or not fit.made or not math.isfinite(float(at[0, 0])):
            nan, why = math.nan, self.missing(step.key)
            self.values[step.key] = np.full((1, 1), nan)
            self.predictions[step.key] = PredictionAnalysis(
                name=step.key,
                unit=step.unit,
                value=nan,
                u=nan,
                x=nan,
                low=nan,
                high=nan,
                coverage_factor=nan,
                outside=False,
                reason=why,
            )
            return
        values = fit.shape.predict(*self.perturbations.pair(self.parameters[step.fit], at))
        self.values[step.key] = values
        parts = self.perturbations.single(values)
        u, coverage_factor, half = one_more.reach(fit, parts, self.perturbations, self.dof, self.rules)
        where, value = float(at[0, 0]), float(values[0, 0])
        reach = half if math.isfinite(half) else coverage_factor * u
        self.predictions[step.key] = PredictionAnalysis(
            name=step.key,
            unit=step.unit,
            value=value,
            u=u,
            x=where,
            low=value - reach,
            high=value + reach,
            coverage_factor=coverage_factor,
            outside=one_more.outside(fit, where),
            reason="",
        )

    def waits(self, name: str) -> tuple[str, ...]:
        """What is still to be read before a fit or result has a value, in words: inputs of which nothing was read yet."""
        needs = self.program.needs.get(name, ())
        return tuple(dict.fromkeys(label for key, label in self.unread.items() if key in needs))

    @cached_property
    def unread(self) -> dict[str, str]:
        """Inputs of which nothing was read yet, with their labels."""
        return {e.key: e.label for e in self.program.inputs if np.isnan(self.nominal[e.key].values).all()}

    def missing(self, name: str) -> str:
        """Why a result has no value."""
        waits = self.waits(name)
        if waits:
            quoted = [f"“{label}”" for label in waits]
            return (
                f"it waits for {', '.join(quoted[:-1])} and {quoted[-1]}"
                if len(quoted) > 1
                else f"it waits for {quoted[0]}"
            )
        for fit in self.fits.values():
            if fit.reason and self.program.needs.get(name, frozenset()) & self.program.needs.get(fit.name, frozenset()):
                return fit.reason
        for fit in self.fits.values():
            if fit.reason and not self.program.needs.get(fit.name):
                return fit.reason
        return "its formula has no value for these readings"
