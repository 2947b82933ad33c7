"""A definition compiled: what is read, and the formulas and fits over it in the order of what each needs.

Compiling checks every name, unit and dimension once; running the program (`analysis`) checks nothing again.
"""

from collections.abc import Mapping

from cavrel.core.definition import Definition
from cavrel.core.definition.outcomes import Outcomes
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.definition.steps import (
    Program,
)
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.formula.evaluate import Compiled
from cavrel.core.quantity import units
from cavrel.core.quantity.dimension import PLAIN, Dimension


def compile_program(definition: Definition, accepted: Mapping[str, ReferenceValue]) -> Program:
    """Compile ``definition``; ``accepted`` are the named values its formulas may use.

    Raises DefinitionError whose place is the path of the faulty key.
    """
    return _Compiler(definition, accepted).program()


class _Compiler(Outcomes):
    """The whole of a definition, in the order of what each part needs."""

    def program(self) -> Program:
        definition = self.definition
        self._unique_names()
        for name in definition.quantities:
            self.need(name, None, f"quantities.{name}")
        for series, body in definition.series.items():
            for name in body.columns:
                self.need(f"{series}.{name}", None, f"series.{series}.columns.{name}")
        for name in definition.fits:
            self.need(name, None, f"fits.{name}")
        for name in definition.results:
            self.need(name, None, f"results.{name}")
        for i, name in enumerate(definition.answers):
            if name not in definition.results or name in definition.answers[:i]:
                raise DefinitionError(f"answers.{i}", f"'{name}' is no result, or stands here twice")
        for name in definition.predict:
            self.need(name, None, f"predict.{name}")
        self._check_places()
        self._check_standin()
        checks = tuple(self._check(i) for i in range(len(definition.checks)))
        identities = tuple(self._identity(i) for i in range(len(definition.identities)))
        causes = tuple(step for i in range(len(definition.systematic)) if (step := self._cause(i)) is not None)
        verifications = tuple(self._verification(i) for i in range(len(definition.verify)))
        pictures = tuple(self._picture(name) for name in definition.pictures)
        suggestions = {s.target: self._suggestion(i) for i, s in enumerate(definition.suggest)}
        laps = self._laps()
        ranges = {name: self._range(name) for name, body in definition.results.items() if body.range}
        return Program(
            definition=definition,
            inputs=tuple(self.inputs),
            steps=tuple(self.steps),
            checks=checks,
            identities=identities,
            causes=causes,
            verifications=verifications,
            gauges=self.gauges,
            used_accepted=tuple(self.used_accepted),
            accepted=self.accepted,
            suggestions=suggestions,
            pictures=pictures,
            constants=self.constants,
            edges=frozenset(self.edges),
            ranges=ranges,
            outcomes={name: self._outcomes(name) for name, body in definition.series.items() if body.outcome},
            laps=laps,
            needs=self._needs(),
        )

    def _needs(self) -> dict[str, frozenset[str]]:
        """By fit and result, the inputs behind it."""
        inputs = {entry.key for entry in self.inputs}

        def behind(key: str, seen: set[str]) -> set[str]:
            whole = key.partition(".")[0] if key.partition(".")[0] in self.definition.fits else key
            if whole in seen:
                return set()
            seen.add(whole)
            found = {whole} & inputs
            for other in self.uses.get(whole, ()):
                found |= behind(other, seen)
            return found

        names = [*self.definition.fits, *self.definition.results, *self.definition.predict]
        names += [f"{name}#accepted" for name in self.definition.results]
        names += [f"identity#{i}" for i in range(len(self.definition.identities))]
        names += [f"verify#{i}" for i in range(len(self.definition.verify))]
        names += [f"check#{i}" for i in range(len(self.definition.checks))]
        return {name: frozenset(behind(name, set())) for name in names}

    def _unique_names(self) -> None:
        seen: dict[str, str] = {"pi": "the constants"}
        for table in ("quantities", "series", "fits", "results", "predict"):
            for name in getattr(self.definition, table):
                if name in seen:
                    raise DefinitionError(f"{table}.{name}", f"the name '{name}' stands in {seen[name]} already")
                seen[name] = table

    def _check_places(self) -> None:
        for i, step in enumerate(self.definition.steps):
            for fill in step.fills:
                if fill not in self.kinds:
                    raise DefinitionError(f"steps.{i}.fills", f"unknown quantity or column '{fill}'")
            if step.timer:
                if step.timer.kind == "steady":
                    self._band(step.timer.band or "", step.fills, f"steps.{i}")
                for key, amount in (("every", step.timer.every), ("for", step.timer.lasting)):
                    if amount is not None:
                        self._seconds(amount, f"steps.{i}.timer.{key}")

    def _check_standin(self) -> None:
        """What the simulated apparatus is told belongs to readings, in their units."""
        plan = self.definition.simulate
        if plan is None:
            return
        read = {entry.key: entry for entry in self.inputs}
        second = units.unit("s").dimension
        for table, keys in (
            ("seek", plan.seek),
            ("settle", plan.settle),
            ("record", plan.record),
            ("motion", plan.motion),
        ):
            for key in keys:
                if key not in read:
                    raise DefinitionError(f"simulate.{table}.{key}", f"'{key}' is not a reading")
        for key, seek in plan.seek.items():
            for part in ("width", "low", "high"):
                if getattr(seek, part) is not None:
                    self._amount_of(getattr(seek, part), read[key].unit.dimension, f"simulate.seek.{key}.{part}")
        for key in plan.record:
            if read[key].extract is None:
                raise DefinitionError(f"simulate.record.{key}", "takes no samples: its column has no from = 'trace'")
        for key, settle in plan.settle.items():
            self._amount_of(settle.off, read[key].unit.dimension, f"simulate.settle.{key}.off")
            self._amount_of(settle.tau, second, f"simulate.settle.{key}.tau")
        for name, share in plan.hidden.items():
            if name not in plan.truth:
                raise DefinitionError(f"simulate.hidden.{name}", f"'{name}' is not a true value of the simulation")
            self._amount_of(share, PLAIN, f"simulate.hidden.{name}")
        self._amount_of(plan.turns, PLAIN, "simulate.turns")
        if plan.afloat is not None:
            for part in ("density", "liquid"):
                self._amount_of(getattr(plan.afloat, part), units.unit("kg/m^3").dimension, f"simulate.afloat.{part}")

    def _amount_of(self, text: str, dimension: Dimension, place: str) -> None:
        _, kind, _ = self.formula(text, None, place, dimension, measured=False)
        if kind.series:
            raise DefinitionError(place, "this runs over rows; it is one amount")

    def _band(self, band: str, fills: tuple[str, ...], place: str) -> None:
        """A steadiness watch looks at quantities of one kind, and its band is of that kind."""
        try:
            size, unit = units.quantity(band)
        except CavrelError as fault:
            raise DefinitionError(f"{place}.timer.band", fault.what) from fault
        watched = [entry for entry in self.inputs if entry.key in fills and entry.series is None]
        if not watched or len(watched) != len(fills):
            raise DefinitionError(f"{place}.fills", "a steadiness watch says which quantities it looks at")
        if any(entry.unit.dimension != unit.dimension for entry in watched) or not abs(size - unit.offset) > 0:
            raise DefinitionError(f"{place}.timer.band", f"'{band}' is no band for what it looks at")

    def _laps(self) -> dict[int, Compiled]:
        """By step, how many laps its timer counts."""
        found = {}
        for i, step in enumerate(self.definition.steps):
            if step.timer is not None and step.timer.kind == "laps":
                _, kind, run = self.formula(step.timer.laps, None, f"steps.{i}.timer.laps", PLAIN)
                if kind.series:
                    raise DefinitionError(f"steps.{i}.timer.laps", "this runs over rows; a timer counts one number")
                found[i] = run
        return found

    def _range(self, name: str) -> Compiled:
        """The comparison that says whether a result is plausible."""
        body = self.definition.results[name]
        _, kind, run = self.formula(body.range or "", None, f"results.{name}.range", truth=True)
        if kind.series:
            raise DefinitionError(f"results.{name}.range", "this runs over rows; a result has one value")
        return run

    def _outcomes(self, series: str) -> dict[str, Compiled]:
        """When each outcome of a series is to be expected."""
        outcome, found = self.definition.series[series].outcome, {}
        for word, condition in (outcome.choices if outcome else {}).items():
            if condition:
                place = f"series.{series}.outcome.choices.{word}"
                found[word] = self.formula(condition, series, place, truth=True)[2]
        return found

    def _seconds(self, amount: str, place: str) -> None:
        try:
            value, unit = units.quantity(amount)
        except CavrelError as fault:
            raise DefinitionError(place, fault.what) from fault
        if unit.dimension != units.unit("s").dimension or not 1 <= value <= 1e6:
            raise DefinitionError(place, f"'{amount}' is no time of at least a second, such as '10 s' or '5 min'")
