"""What the law says of a straight line."""

from dataclasses import dataclass

from cavrel.core.formula.nodes import Node, Number


@dataclass(frozen=True, slots=True)
class LineMeaning:
    """y = ``slope`` · x + ``intercept`` as the law says it. ``through_origin``: the law's intercept is zero. ``constants``: for each constant
    of the law that the line gives, its formula in the fit's parameters."""

    slope: Node
    intercept: Node
    constants: tuple[tuple[str, Node], ...] = ()

    @property
    def through_origin(self) -> bool:
        return self.intercept == Number(0.0)
