"""Ask pint once for the units that laboratories write, and write what it says to the file that ships with Cavrel."""

import json

from cavrel.core.errors import UnitError
from cavrel.core.quantity import units

PREFIXES = ("", "f", "p", "n", "µ", "μ", "m", "c", "d", "h", "k", "M", "G", "T")
PREFIXED = "m s g A K mol cd Hz N Pa J W C V F ohm Ω S Wb T H lm lx Bq Gy Sv rad L l eV bar gauss G Wh"
AS_THEY_ARE = """
min h d day hour minute second meter metre gram kilogram liter litre volt ampere newton joule watt pascal hertz kelvin tesla degree
deg ° °C ℃ degC % ‰ ′ ″ arcmin arcminute arcsec arcsecond turn turns rev revolution revolutions rpm rps cycle cycles count counts Å t
atm mmHg torr inch ft u percent permille radian steradian sr
"""


def main() -> None:
    """Writes ``cavrel/core/quantity/units.json``: by dimension, each unit's name, factor and zero, SI."""
    table: dict[str, list[tuple[str, float, float]]] = {}
    for name in sorted({*(prefix + name for name in PREFIXED.split() for prefix in PREFIXES), *AS_THEY_ARE.split()}):
        try:
            factor, zero, dimension = units.from_pint(name)
        except UnitError:
            continue
        kind = " ".join(f"{base.strip('[]')}={power}" for base, power in dimension.powers)
        table.setdefault(kind, []).append((name, factor, zero))
    rows = (
        f"{json.dumps(kind)}: [\n" + ",\n".join(json.dumps(row, ensure_ascii=False) for row in rows) + "\n]"
        for kind, rows in sorted(table.items())
    )
    units.SHIPPED.write_text("{\n" + ",\n".join(rows) + "\n}\n", encoding="utf-8")
    print(f"{units.SHIPPED.name}: {sum(map(len, table.values()))} units")


if __name__ == "__main__":
    main()
