"""Tables as they are printed: captions, units, ± on entries."""

import math
from dataclasses import dataclass

from cavrel.core.quantity.units import Unit
from cavrel.present import texts
from cavrel.service.opened import Opened


@dataclass(frozen=True, slots=True, kw_only=True)
class Ruled:
    """A table as it is printed. ``head``: (what, unit) of each column; ``rows``: texts; ``out``: rows left out, with the reason, by number."""

    caption: str
    head: list[tuple[str, str]]
    rows: list[list[str]]
    out: dict[int, str]


def tables(opened: Opened, each: bool = False) -> list[Ruled]:
    """Every table that holds a reading, with captions and units: what was typed, and what is computed from it. ``each``: a reading that stands alone
    has its ± too, as examinations ask for it."""
    found = []
    for number, (name, body) in enumerate(opened.definition.series.items(), 1):
        entries = {e.spec.key: e for e in opened.analysis.sheet.inputs}
        head: list[tuple[str, str]] = [("", "")]
        columns: list[list[str]] = []
        count = opened.analysis.sheet.rows[name]
        for column, described in body.columns.items():
            key = f"{name}.{column}"
            values = opened.analysis.values[key]
            entry = entries.get(key)
            label, unit = described.label, values.unit.pretty
            alone = entry is not None and entry.values.shape[1] < 2
            if entry is not None and not (alone and each):
                for trial in range(1, entry.values.shape[1] + 1):
                    head.append((label if trial == 1 else f"trial {trial}", unit))
                    columns.append(
                        [
                            entry.readings[r, trial].text if (r, trial) in entry.readings else ""
                            for r in range(1, count + 1)
                        ]
                    )
                if alone:
                    continue
                label = "mean"
            places = texts.decimals(values)
            head.append((label, unit))
            columns.append(
                [_with_u(texts.cell(values, r, places), texts.u_cell(values, r, places)) for r in range(count)]
            )
        rows = [[str(r + 1), *(column[r] for column in columns)] for r in range(count)]
        rows = [row for row in rows if any(row[1:])]
        if rows:
            found.append(
                Ruled(
                    caption=f"Table {number}. {body.label}",
                    head=head,
                    rows=rows,
                    out=opened.analysis.run.left_out_rows(name),
                )
            )
    return found


def _with_u(value: str, u: str) -> str:
    return f"{value} ± {u}" if value and u else value


def _exact(value: float, unit: Unit) -> str:
    return f"{unit.from_si(value):.10g} {unit.pretty}".strip()


def quantities(opened: Opened) -> list[tuple[str, str]]:
    found = []
    for name, body in opened.definition.quantities.items():
        values = opened.analysis.values[name]
        value, u = float(values.value[0]), float(values.u[0])
        if math.isfinite(value):
            # What is counted or set has no digits beyond its own.
            said = opened.analysis.measured(value, u, values.unit).text() if u > 0 else _exact(value, values.unit)
            found.append((body.label, said))
    return found
