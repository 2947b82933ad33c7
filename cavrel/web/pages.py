"""Every page in one list: what is registered, and what of it a save is followed by."""

from collections.abc import Mapping
from typing import Any

from flask import Blueprint

from cavrel.web import (
    assets,
    bench,
    course,
    courses,
    entries,
    experiments,
    export,
    fit,
    help,
    laboratory,
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
    result,
    run_import,
    runs,
    server,
    table_import,
    traces,
    write,
)

OF_A_RUN = (plan, measure, fit, result, report, marking, logbook, traces)
"""The pages of a run, by the name of their blueprint; each follows a save."""
OTHERS = (
    assets,
    server,
    experiments,
    laboratory,
    lesson,
    write,
    runs,
    run_import,
    course,
    courses,
    entries,
    bench,
    live,
    export,
    table_import,
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
