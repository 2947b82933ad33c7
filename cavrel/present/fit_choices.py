"""Which look at a graph of Fit is asked for, as the page's address says it."""

from dataclasses import dataclass
from urllib.parse import parse_qsl, urlencode

DRAWN = {
    "triangle": "gradient triangle",
    "extremes": "steepest and shallowest lines",
    "single": "where single readings lie",
    "parts": "the other parts",
}
"""What can stand in the graph next to the line."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """Which graph the page shows: a ``fit`` of the experiment, empty for the first, or any axes, ``x`` and ``y`` as formulas of a ``series``;
    ``touch``: where a tangent to the points touches, instead of a line."""

    fit: str = ""
    series: str = ""
    x: str = ""
    y: str = ""
    draw: str = ""
    at: str = ""
    touch: str = ""

    @property
    def detail(self) -> str:
        """As a page names it when it asks what changed: a fit’s name, or everything that its address says."""
        return self.fit if not (self.series or self.draw or self.at or self.touch) else f"?{self.address()}"

    def address(self, toggled: str = "") -> str:
        """What the page’s address says after its question mark; ``toggled``: with one thing drawn that is not, or not drawn that is."""
        drawn = {part for part in self.draw.split(".") if part in DRAWN} ^ ({toggled} if toggled else set())
        given = {"series": self.series, "x": self.x, "y": self.y} if self.series else {"fit": self.fit}
        more = {"draw": ".".join(sorted(drawn)), "at": self.at, "touch": self.touch}
        return urlencode({**given, **{name: text for name, text in more.items() if text}})

    @classmethod
    def read(cls, detail: str) -> "Wanted":
        """From what a page names."""
        if not detail.startswith("?"):
            return cls(fit=detail)
        given = dict(parse_qsl(detail[1:], keep_blank_values=True))
        return cls(**{name: given.get(name, "") for name in ("fit", "series", "x", "y", "draw", "at", "touch")})
