"""Documents: what an analysis says as data, and the formats that leave and enter."""

from cavrel.core.document.result import result_document, result_text

__all__ = ["result_document", "result_text"]
