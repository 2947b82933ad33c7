"""Write the JSON Schemas in docs/schemas anew from the models."""

import json
from pathlib import Path

from cavrel.core.document.formats import schemas

TARGET = Path(__file__).resolve().parent.parent / "docs" / "schemas"


def text(schema: dict[str, object]) -> str:
    """A schema as it stands in its file."""
    return json.dumps(schema, indent=1, sort_keys=True, ensure_ascii=False) + "\n"


def main() -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    for name, schema in schemas().items():
        (TARGET / f"{name}.schema.json").write_text(text(schema), encoding="utf-8")
        print(f"docs/schemas/{name}.schema.json")


if __name__ == "__main__":
    main()
