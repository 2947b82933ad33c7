"""The order in which a table shows its rows."""

import math

from cavrel.present.table_layout import Row
from cavrel.service.run_view import RunView


def order_of(opened: RunView, name: str) -> str:
    """The order in force as the page's choice calls it: ``taken``, ``moved``, or a column with ``+`` or ``-``."""
    order = opened.state.orders.get(name) or {}
    if order.get("by"):
        return f"{'-' if order.get('falling') else '+'}{order['by']}"
    return "moved" if order.get("rows") else "taken"


def ordered(opened: RunView, name: str, rows: tuple[Row, ...]) -> tuple[Row, ...]:
    """The rows in the order that the bench wants to see; those without a value stand last."""
    order = opened.state.orders.get(name)
    if not order:
        return rows
    by = order.get("by")
    if by and f"{name}.{by}" in opened.analysis.values:
        value = opened.analysis.values[f"{name}.{by}"].value
        sign = -1.0 if order.get("falling") else 1.0

        def place(row: Row) -> tuple[bool, float, int]:
            v = float(value[row.number - 1]) if row.number <= len(value) else math.nan
            return (not math.isfinite(v), sign * v if math.isfinite(v) else 0.0, row.number)

        return tuple(sorted(rows, key=place))
    first = {number: i for i, number in enumerate(order.get("rows", []))}
    return tuple(sorted(rows, key=lambda row: (first.get(row.number, len(first)), row.number)))
