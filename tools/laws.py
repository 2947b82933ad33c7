"""Compute what the law of every experiment that ships says of its lines, and write it to the file that ships with them."""

import json

from cavrel import catalogue
from cavrel.catalogue import algebra


def main() -> None:
    """Writes ``cavrel/catalogue/laws.json``."""
    answers = {key: algebra.answered(text) for key, text in sorted(catalogue.laws().items())}
    algebra.SHIPPED.write_text(
        json.dumps(answers, indent=0, sort_keys=True, ensure_ascii=False) + "\n", encoding="utf-8"
    )
    print(f"{algebra.SHIPPED.name}: {len(answers)} laws")


if __name__ == "__main__":
    main()
