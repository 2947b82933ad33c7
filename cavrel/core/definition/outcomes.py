"""Compiling what comes out: results, predictions, checks, pictures and suggestions."""

from cavrel.core.definition.curves import Fits
from cavrel.core.definition.steps import (
    SIZE,
    CauseStep,
    CheckStep,
    FitStep,
    IdentityStep,
    PictureStep,
    PredictStep,
    ResultStep,
    VerifyStep,
    row_key,
)
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.formula.dimension import Kind
from cavrel.core.formula.evaluate import Compiled
from cavrel.core.formula.nodes import Name
from cavrel.core.quantity import units
from cavrel.core.quantity.dimension import PLAIN, Dimension
from cavrel.core.quantity.units import Unit


class Outcomes(Fits):
    """Everything that rests on readings and fits."""

    def prediction(self, name: str) -> None:
        body, place = self.definition.predict[name], f"predict.{name}"
        if body.fit not in self.definition.fits:
            raise DefinitionError(f"{place}.fit", f"unknown fit '{body.fit}'")
        self.uses.setdefault(name, set()).add(body.fit)
        self.need(body.fit, None, f"fits.{body.fit}")
        step = next(s for s in self.steps if isinstance(s, FitStep) and s.name == body.fit)
        if step.shape is None or step.x is None:
            raise DefinitionError(
                f"{place}.fit", f"nothing can be read from a fit of model '{step.model}' at another x"
            )
        kind, at = self.formula(body.at, None, f"{place}.at", step.x_unit.dimension)[1:]
        if kind.series:
            raise DefinitionError(f"{place}.at", "a prediction is for one x")
        unit = self.unit(body.unit if body.unit is not None else step.y_unit.text, place)
        if unit.dimension != step.y_unit.dimension:
            raise DefinitionError(
                f"{place}.unit", f"the fit gives {step.y_unit.text or 'plain numbers'}, not {unit.text}"
            )
        self.kinds[name] = Kind(unit.dimension)
        self.steps.append(PredictStep(name, body.fit, unit, at))

    def result(self, name: str) -> None:
        body, place = self.definition.results[name], f"results.{name}"
        wanted = self.unit(body.unit, place).dimension if body.unit is not None else None
        if body.combine:
            dimension, run = self._combined(body.combine, wanted, place), None
            kind = Kind(dimension)
        else:
            assert body.formula is not None
            _, kind, run = self.formula(body.formula, None, f"{place}.formula", wanted)
            if kind.series:
                raise DefinitionError(
                    f"{place}.formula", f"this runs over the rows of '{kind.series}'; fold them with mean() or a fit"
                )
            assert kind.dimension is not None
            dimension = kind.dimension
        unit = self._shown(body, kind, place)
        self.unit_texts[name] = unit.text
        self.kinds[name] = Kind(dimension, None, "point" if unit.offset else kind.scale)
        accepted_name, accepted_run = None, None
        if body.accepted is not None:
            if body.accepted in self.accepted and not self._own(body.accepted):
                accepted_name = body.accepted
                if units.unit(self.accepted[body.accepted].unit).dimension != dimension:
                    raise DefinitionError(
                        f"{place}.accepted",
                        f"'{body.accepted}' is in {self.accepted[body.accepted].unit}, not in {unit.text or 'plain numbers'}",
                    )
            else:
                self.open.append(f"{name}#accepted")
                accepted_run = self.formula(body.accepted, None, f"{place}.accepted", dimension)[2]
                self.open.pop()
        self.steps.append(
            ResultStep(
                key=name,
                unit=unit,
                run=run,
                combine=body.combine,
                accepted_name=accepted_name,
                accepted_run=accepted_run,
            )
        )

    def _combined(self, names: tuple[str, ...], wanted: Dimension | None, place: str) -> Dimension:
        dimension = wanted
        for other in names:
            if other not in self.definition.results:
                raise DefinitionError(f"{place}.combine", f"unknown result '{other}'")
            self.uses.setdefault(self.open[-1], set()).add(other)
            self.need(other, Name(other), f"{place}.combine")
            own = self.kinds[other].dimension
            assert own is not None
            if dimension is not None and own != dimension:
                raise DefinitionError(
                    f"{place}.combine", f"'{other}' is in {own.words()}, where {dimension.words()} is needed"
                )
            dimension = own
        assert dimension is not None
        return dimension

    def _check(self, index: int) -> CheckStep:
        check = self.definition.checks[index]
        place = f"checks.{index}"
        self.open.append(f"check#{index}")
        _, kind, run = self.formula(check.rule, None, f"{place}.rule", truth=True)
        self.open.pop()
        if kind.series:
            raise DefinitionError(f"{place}.rule", "this is true or false row by row; say all(...) or any(...)")
        return CheckStep(run, index)

    def _identity(self, index: int) -> IdentityStep:
        body, place = self.definition.identities[index], f"identities.{index}"
        if body.series is not None and body.series not in self.definition.series:
            raise DefinitionError(f"{place}.series", f"unknown series '{body.series}'")
        self.open.append(f"identity#{index}")
        _, left, size = self.formula(body.left, body.series, f"{place}.left", measured=False)
        assert left.dimension is not None
        _, right, _ = self.formula(body.right, body.series, f"{place}.right", left.dimension, measured=False)
        _, _, run = self.formula(f"({body.left}) - ({body.right})", body.series, place, left.dimension, measured=False)
        self.open.pop()
        for key, kind in (("left", left), ("right", right)):
            if kind.series not in (None, body.series):
                raise DefinitionError(f"{place}.{key}", f"this runs over the rows of '{kind.series}'")
        above = self.uses.get(f"identity#{index}", set()) & {*self.definition.fits, *self.definition.results}
        if above:
            what = f"'{min(above)}' is computed from readings; an identity holds between readings themselves"
            raise DefinitionError(place, what)
        return IdentityStep(
            index=index, series=body.series, run=run, size=size, unit=units.unit(left.dimension.named())
        )

    def _cause(self, index: int) -> CauseStep | None:
        """A physical cause; None where this convention has no such readings."""
        body, place = self.definition.systematic[index], f"systematic.{index}"
        inputs = {entry.key: entry for entry in self.inputs}
        missing = [key for key in body.without if key not in inputs]
        if missing and self.definition.options:
            return None
        if missing:
            raise DefinitionError(f"{place}.without.{missing[0]}", f"'{missing[0]}' is not a reading")
        sizes = []
        for part in ("low", "high"):
            try:
                sizes.append(units.quantity(getattr(body, part)))
            except CavrelError as fault:
                raise DefinitionError(f"{place}.{part}", fault.what) from fault
        (low, unit), (high, other) = sizes
        if unit.offset or unit.dimension != other.dimension or not 0 < low <= high:
            raise DefinitionError(
                f"{place}.high", f"sizes must rise from a positive one: {body.low} to {body.high} do not"
            )
        self.kinds[SIZE] = Kind(unit.dimension)
        without = {}
        for key, text in body.without.items():
            spec = inputs[key]
            local = {"size": SIZE}
            if spec.series is not None:
                local["row"] = row_key(spec.series)
                self.kinds[local["row"]] = Kind(PLAIN, spec.series)
            self.open.append(f"cause#{index}")
            where = f"{place}.without.{key}"
            _, kind, without[key] = self.formula(
                text, spec.series, where, spec.unit.dimension, local=local, measured=False
            )
            self.open.pop()
            if kind.series not in (None, spec.series):
                raise DefinitionError(where, f"this runs over the rows of '{kind.series}'")
        return CauseStep(index=index, without=without, low=low, high=high)

    def _verification(self, index: int) -> VerifyStep:
        body, place = self.definition.verify[index], f"verify.{index}"
        if body.series not in self.definition.series:
            raise DefinitionError(f"{place}.series", f"unknown series '{body.series}'")
        self.open.append(f"verify#{index}")
        _, standard, size = self.formula(body.standard, body.series, f"{place}.standard", measured=False)
        assert standard.dimension is not None
        _, kind, value = self.formula(body.value, body.series, f"{place}.value", standard.dimension, measured=False)
        text = f"({body.standard}) - ({body.value})"
        _, _, run = self.formula(text, body.series, place, standard.dimension, measured=False)
        within = None
        if body.within is not None:
            _, limit, within = self.formula(
                body.within, body.series, f"{place}.within", standard.dimension, measured=False
            )
            if limit.series not in (None, body.series):
                raise DefinitionError(f"{place}.within", f"this runs over the rows of '{limit.series}'")
        self.open.pop()
        for key, found in (("standard", standard), ("value", kind)):
            if found.series not in (None, body.series):
                raise DefinitionError(f"{place}.{key}", f"this runs over the rows of '{found.series}'")
        unit = units.unit(standard.dimension.named())
        differ = IdentityStep(index=index, series=body.series, run=run, size=size, unit=unit)
        return VerifyStep(differ, value, within)

    def _picture(self, name: str) -> PictureStep:
        body, place = self.definition.pictures[name], f"pictures.{name}"
        if body.series is not None and body.series not in self.definition.series:
            raise DefinitionError(f"{place}.series", f"unknown series '{body.series}'")
        metre, newton = units.unit("m").dimension, units.unit("N").dimension

        def run(text: str, key: str, wanted: Dimension) -> Compiled:
            _, kind, compiled = self.formula(text, body.series, f"{place}.{key}", wanted, measured=False)
            if kind.series not in (None, body.series):
                raise DefinitionError(f"{place}.{key}", f"this runs over the rows of '{kind.series}'")
            return compiled

        forces = tuple(
            (run(f.at, f"forces.{i}.at", metre), run(f.force, f"forces.{i}.force", newton))
            for i, f in enumerate(body.forces)
        )
        return PictureStep(name, body.series, run(body.pivot, "pivot", metre), forces)

    def _suggestion(self, index: int) -> tuple[Compiled, Unit]:
        suggest = self.definition.suggest[index]
        owner, dot, member = suggest.target.partition(".")
        if not dot and owner in self.definition.quantities and self.definition.quantities[owner].formula is None:
            unit = self.unit(self.definition.quantities[owner].unit, f"quantities.{owner}")
            _, kind, run = self.formula(
                suggest.formula, None, f"suggest.{index}.formula", unit.dimension, measured=False
            )
            if kind.series:
                raise DefinitionError(f"suggest.{index}.formula", "this runs over rows; a quantity has one value")
            return run, unit
        if owner not in self.definition.series or member not in self.definition.series[owner].columns:
            raise DefinitionError(f"suggest.{index}.for", f"unknown column or quantity '{suggest.target}'")
        unit = self.unit(self.definition.series[owner].columns[member].unit, f"series.{owner}.columns.{member}")
        run = self.formula(suggest.formula, None, f"suggest.{index}.formula", unit.dimension, measured=False)[2]
        return run, unit

    def _own(self, name: str) -> bool:
        """Whether the definition itself has something of this name."""
        definition = self.definition
        return any(name in table for table in (definition.quantities, definition.results, definition.predict))
