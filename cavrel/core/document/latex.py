"""A table for LaTeX: plain ``tabular``, so that it needs no package; letters and signs that LaTeX reads otherwise are written out."""

import re
from collections.abc import Sequence

_GREEK = (
    "alpha beta gamma delta varepsilon zeta eta theta iota kappa lambda mu nu xi pi rho sigma tau upsilon varphi chi psi omega "
    "Gamma Delta Theta Lambda Xi Pi Sigma Phi Psi"
)
_SIGNS = {
    "\\": r"\textbackslash{}",
    "&": r"\&",
    "%": r"\%",
    "$": r"\$",
    "#": r"\#",
    "_": r"\_",
    "{": r"\{",
    "}": r"\}",
    "~": r"\textasciitilde{}",
    "^": r"\textasciicircum{}",
    "<": r"$<$",
    ">": r"$>$",
    "±": r"$\pm$",
    "×": r"$\times$",
    "·": r"$\cdot$",
    "−": r"$-$",
    "–": "--",
    "—": "---",
    "°": r"$^\circ$",
    "µ": r"$\mu$",
    "Ω": r"$\Omega$",
    "√": r"$\surd$",
    "′": r"$'$",
    "″": r"$''$",
    "…": r"\ldots{}",
    **{letter: f"$\\{name}$" for letter, name in zip("αβγδεζηθικλμνξπρστυφχψωΓΔΘΛΞΠΣΦΨ", _GREEK.split())},
}


_UP, _DOWN = "⁰¹²³⁴⁵⁶⁷⁸⁹⁻⁺", "₀₁₂₃₄₅₆₇₈₉₋₊"
_LEVEL = str.maketrans(_UP + _DOWN, "0123456789-+" * 2)
_RAISED = re.compile(f"([{_UP}]+|[{_DOWN}]+)")


def escaped(text: str) -> str:
    """A text that LaTeX sets as it stands."""
    found = []
    for run in _RAISED.split(text):
        place = "^" if run[:1] and run[0] in _UP else "_" if run[:1] and run[0] in _DOWN else ""
        if place:
            found.append(f"${place}{{{run.translate(_LEVEL)}}}$")
        else:
            found.append("".join(_SIGNS.get(c, c) for c in run))
    return "".join(found)


def table(caption: str, head: Sequence[tuple[str, str]], rows: Sequence[Sequence[str]]) -> str:
    """A floating table: ``head`` has (what, unit) of each column."""
    names = " & ".join(escaped(f"{what} / {unit}" if unit else what) for what, unit in head)
    body = "\n".join(" & ".join(map(escaped, row)) + r" \\" for row in rows)
    return "\n".join(
        [
            r"\begin{table}",
            rf"\caption{{{escaped(caption)}}}",
            rf"\begin{{tabular}}{{{'l' * len(head)}}}",
            r"\hline",
            rf"{names} \\",
            r"\hline",
            body,
            r"\hline",
            r"\end{tabular}",
            r"\end{table}",
            "",
        ]
    )
