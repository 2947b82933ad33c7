"""Summaries of runs, kept with the save that changed them and made anew where they are missing or old."""

import logging
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from cavrel.service.opening import open_run
from cavrel.service.run_view import RunView
from cavrel.store import summaries as summary_store
from cavrel.store.pool import DatabaseAway, Pool, transaction
from cavrel.store.summaries import Listed

VERSION = "4"
"""Of what a summary holds; another one makes all of them anew."""
MOST_ANEW = 60
"""Summaries made anew for one page: more wait for the next."""
log = logging.getLogger("cavrel")

Summarise = Callable[[RunView], Mapping[str, Any]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What of a course's runs is asked for: words that all occur, one bench or any, those archived, and which page."""

    words: str = ""
    bench: str = ""
    away: bool = False
    page: int = 1


def keep(pool: Pool, opened: RunView, summarise: Summarise) -> None:
    """Keep a run's summary. Never raises: without it the next list makes it."""
    try:
        body = summarise(opened)
        run = opened.run
        with transaction(pool) as connection:
            summary_store.put(
                connection,
                run=run.id,
                last=opened.entries[-1].id if opened.entries else 0,
                made_of=f"{VERSION}:{run.made_of}",
                title=run.title,
                bench=run.bench,
                away=run.away,
                words=f"{run.title} {run.bench} {run.experiment} {opened.base.title}".lower(),
                body=body,
            )
    except DatabaseAway:
        pass
    except Exception:
        log.exception("run %s cannot be summarised", opened.run.id)


def page(pool: Pool, course: int, wanted: Wanted, most: int, summarise: Summarise) -> tuple[list[Listed], int]:
    """One page of a course's runs, each with a summary that is up to date, and how many runs fit."""
    words = wanted.words.lower().split()
    for again in (False, True):
        with transaction(pool) as connection:
            listed, many = summary_store.page(
                connection, course, words, wanted.bench, wanted.away, (wanted.page - 1) * most, most
            )
        if again or not _made_anew(pool, listed, summarise):
            break
    return listed, many


def of_experiment(pool: Pool, course: int, experiment: str, most: int, summarise: Summarise) -> list[Listed]:
    """The newest runs of a course with an experiment, each with its summary."""
    for again in (False, True):
        with transaction(pool) as connection:
            listed = summary_store.of_experiment(connection, course, experiment, most)
        if again or not _made_anew(pool, listed, summarise):
            break
    return listed


def _made_anew(pool: Pool, listed: Sequence[Listed], summarise: Summarise) -> bool:
    """Make what is missing or old; whether there was any."""
    old = [one for one in listed if one.last != one.newest or one.made_of != f"{VERSION}:{one.rests_on}"][:MOST_ANEW]
    for one in old:
        opened = open_run(pool, one.run)
        if opened is not None:
            keep(pool, opened, summarise)
    return bool(old)
