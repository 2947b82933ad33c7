"""What is compared with a standard, as a table: how far apart row by row, in percent, and whether it may be."""

import math
from dataclasses import dataclass

import numpy as np

from cavrel.core.quantity.rounding import percent
from cavrel.core.quantity.value import amount_text
from cavrel.core.words import counted
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class Held:
    """A table.

    ``label``: its caption.
    ``unit``: of all its values.
    ``limit``: how far apart both may be, in words and as an amount where every row has the same; empty where nothing is said.
    ``rows``: row, standard, value, difference, percent of the standard, and ``within``, ``beyond`` or nothing.
    ``says``: all of it in a sentence.
    """

    label: str
    unit: str
    limit: str
    rows: list[tuple[str, str, str, str, str, str]]
    says: str


@optional("the check against a standard", list)
def held(opened: RunView) -> list[Held]:
    """The table of every verification that has a row"""
    found = []
    for verified in opened.analysis.verified:
        body = opened.definition.verify[verified.index]
        columns = [opened.analysis.values.get(f"{verified.series}.{name}") for name in (body.standard, body.value)]
        unit = columns[0].unit if columns[0] is not None else opened.program.verifications[verified.index].differ.unit
        own = [column.u if column is not None else np.zeros(len(verified.differ)) for column in columns]
        measured = opened.analysis.measured
        out = opened.analysis.run.left_out_rows(verified.series)
        rows, beyond, count, worst = [], 0, 0, 0.0
        for i, differ in enumerate(verified.differ):
            standard, value, u = float(verified.standard[i]), float(verified.value[i]), float(verified.u[i])
            if not math.isfinite(differ) or i + 1 in out:
                continue
            share = percent(100 * differ / standard) if standard else "–"
            word = ""
            if math.isfinite(verified.within[i]):
                word = "within" if abs(differ) <= verified.within[i] * (1 + 1e-9) else "beyond"
                beyond += word == "beyond"
            count += 1
            worst = max(worst, abs(differ))
            rows.append(
                (
                    str(i + 1),
                    measured(standard, float(own[0][i]), unit).bare(),
                    measured(value, float(own[1][i]), unit).bare(),
                    measured(float(differ), u, unit.difference).bare(),
                    share,
                    word,
                )
            )
        if not rows:
            continue
        limit = ""
        known = verified.within[np.isfinite(verified.within)]
        if len(known):
            same = f", {amount_text(float(known[0]), unit, 3, True)}" if np.ptp(known) == 0 else ""
            limit = f"{body.limit}{same}"
        if not limit:
            says = f"The largest difference is {measured(worst, 0.0, unit.difference).text()}."
        elif beyond:
            says = f"{counted(beyond, 'row')} of {count} {'differs' if beyond == 1 else 'differ'} by more than {limit}."
        else:
            says = f"All {count} agree within {limit}." if count > 1 else f"It agrees within {limit}."
        found.append(Held(label=body.label, unit=unit.pretty, limit=limit, rows=rows, says=says))
    return found
