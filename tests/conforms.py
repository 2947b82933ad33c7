"""Documents held against the published schemas."""

from functools import cache
from typing import Any

import jsonschema

from cavrel.core.document.formats import schemas


@cache
def _validator(schema: str) -> jsonschema.Draft202012Validator:
    """Made once: what looks a schema through takes longer than what holds a document against it."""
    jsonschema.Draft202012Validator.check_schema(schemas()[schema])
    return jsonschema.Draft202012Validator(schemas()[schema])


def conform(document: Any, schema: str) -> None:
    """Raises ``jsonschema.ValidationError`` where ``document`` is none of ``schema``, such as ``cavrel-run-1``."""
    _validator(schema).validate(document)
