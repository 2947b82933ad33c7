"""Every page in one list: what is registered, and what of it a save is followed by."""

from collections.abc import Mapping
from typing import Any

from flask import Blueprint

from cavrel.web import (
    assets,
    bench,
    bring,
    course,
    courses,
    cupboard,
    entries,
    export,
    help,
    judge,
    lesson,
    live,
    logbook,
    marking,
    measure,
    openapi,
    papers,
    patterns,
    plan,
    report,
    runs,
    server,
    shelf,
    straighten,
    table,
    traces,
    write,
)

OF_A_RUN = (plan, measure, straighten, judge, report, marking, logbook, traces)
"""The pages of a run, by the name of their blueprint; each follows a save."""
OTHERS = (
    assets,
    server,
    shelf,
    cupboard,
    lesson,
    write,
    runs,
    bring,
    course,
    courses,
    entries,
    bench,
    live,
    export,
    table,
    openapi,
    help,
    papers,
    patterns,
)


def blueprints() -> list[Blueprint]:
    """All pages."""
    return [page.pages for page in (*OTHERS, *OF_A_RUN)]


def of_a_run() -> Mapping[str, Any]:
    """The pages of a run by name; ``follow`` of each gives the fragments that a save changes on it."""
    return {page.pages.name: page for page in OF_A_RUN}
