"""Errors that say where, what and what to do."""


class CavrelError(Exception):
    """A fault in what a person wrote.

    ``place`` is a path such as ``series.swings.columns.T.formula``; ``what`` is a sentence for a person.
    """

    def __init__(self, place: str, what: str) -> None:
        super().__init__(f"{place}: {what}" if place else what)
        self.place = place
        self.what = what

    def at(self, place: str) -> "CavrelError":
        """The same fault, its place set below ``place``."""
        inner = f"{place}.{self.place}" if self.place else place
        return type(self)(inner, self.what)


class UnitError(CavrelError):
    """A unit that cannot be read, or that does not fit."""


class FormulaError(CavrelError):
    """A formula that cannot be read or makes no sense."""


class ReadingError(CavrelError):
    """A reading that is no number."""


class DefinitionError(CavrelError):
    """An experiment definition that cannot be used."""


class RunError(CavrelError):
    """A run document that cannot be used."""
