"""Styles, scripts and fonts: each address holds the version of all of them, so that a browser may keep what it has for good."""

import hashlib
import re
from functools import lru_cache
from pathlib import Path

from flask import Blueprint, Response, send_from_directory, url_for

STATIC = Path(__file__).resolve().parent / "static"
STYLES = "css/cavrel.css"
"""The address of the look: one file to a browser, made of a file for each component."""
_COMPONENTS = (
    "colours",
    "frame",
    "notes",
    "table",
    "deck",
    "ask",
    "graphs",
    "fit",
    "result",
    "samples",
    "write",
    "experiments",
    "narrow",
    "plan",
    "touch",
    "printing",
    "laboratory",
    "lesson",
    "predictions",
    "bench",
    "faces",
    "traces",
    "timing",
    "rows",
    "suspects",
    "axes",
    "files",
    "report",
    "folds",
    "expected",
    "hand",
    "forced",
)
"""In the order of the cascade: what is narrow, touched or printed comes after what it alters."""
_FOR_GOOD = "public, max-age=31536000, immutable"
pages = Blueprint("assets", __name__)


@lru_cache(maxsize=1)
def current() -> str:
    """Twelve figures that change with any of the files."""
    digest = hashlib.sha256()
    for path in sorted(p for p in STATIC.rglob("*") if p.is_file()):
        digest.update(path.relative_to(STATIC).as_posix().encode() + b"\0" + path.read_bytes())
    return digest.hexdigest()[:12]


@lru_cache(maxsize=1)
def _styles() -> str:
    sheets = (STATIC / "css" / "components" / f"{name}.css" for name in _COMPONENTS)
    return re.sub(r"\n\s*", "\n", "".join(sheet.read_text(encoding="utf-8") for sheet in sheets))


def text(name: str) -> str:
    """What a style sheet or script says."""
    if name == STYLES:
        return _styles()
    return (STATIC / name).read_text(encoding="utf-8")


def static(name: str) -> str:
    """The address of a file. Scripts import each other by relative addresses, so within the same version."""
    return url_for("assets.file", version=current(), name=name)


@pages.get("/static/<version>/<path:name>", endpoint="file")
def file(version: str, name: str) -> Response:
    """A file, under any version: a page that was drawn before an update still gets what it asks for, but may not keep it."""
    if name == STYLES:
        response = Response(_styles(), mimetype="text/css")
    else:
        response = send_from_directory(STATIC, name, max_age=0)
    if version == current():
        response.headers["Cache-Control"] = _FOR_GOOD
    return response
