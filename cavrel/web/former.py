"""Addresses of earlier versions, so that bookmarks and links in old reports still lead to their page."""

import re

_NOW = {
    "shelf.json": "experiments.json",
    "cupboard": "laboratory",
    "cupboard.json": "laboratory.json",
    "bring": "import",
    "bring.json": "import.json",
    "straighten": "fit",
    "straighten.json": "fit.json",
    "judge": "result",
    "judge.json": "result.json",
    "behind": "instructor",
    "behind.json": "instructor.json",
}
_PAGES = re.compile(r"^(?P<course>/courses/[^/?]+)?(?P<run>/runs/\d+)?/(?P<page>[^/?]+)(?P<rest>.*)$")


def former_address(path: str) -> str:
    """The address that a page of an earlier version has now; empty where ``path`` (query included) is none of them."""
    found = _PAGES.match(path)
    now = _NOW.get(found["page"]) if found else None
    if found is None or now is None:
        return ""
    return f"{found['course'] or ''}{found['run'] or ''}/{now}{found['rest'].rstrip('?')}"
