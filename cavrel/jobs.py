"""The process that works off long work, started when there is some and gone when there is none. ``python -m cavrel.jobs``.

What it makes is kept run by run in the database; killed, it leaves the rest to the next one.
"""

import contextlib
import logging
import os
from collections.abc import Mapping
from typing import Any

from cavrel import watch
from cavrel.bounded.pool import NICE
from cavrel.service import working
from cavrel.service.run_view import RunView
from cavrel.store import queue
from cavrel.store.pool import open_pool
from cavrel.workers import end_with_parent


def _make(opened: RunView, kind: str, options: Mapping[str, Any]) -> tuple[str, bytes]:
    from cavrel.present import zones
    from cavrel.web import files

    zones.tell_in(opened.run.zone)

    wish = files.Wish(
        form=str(options.get("form", "")), paper=str(options.get("paper", "a4")), laboratory=opened.laboratory
    )
    return files.named(opened, kind), files.made(opened, kind, wish)


def work_off(url: str) -> None:
    """Do all that waits, then return."""
    from cavrel.web.app import plain_app

    with open_pool(url, size=4) as pool:
        for number in watch.open_(pool):  # what a process that died left behind is put in line again
            queue.put(url, number)
        app = queue.working(url)
        pages = plain_app()

        @app.task(name=queue.TASK)  # type: ignore[untyped-decorator]
        def carry_out(work: int) -> None:
            with pages.app_context():
                working.carry_out(pool, work, _make)

        app.run_worker(wait=False, concurrency=1, install_signal_handlers=False, listen_notify=False)


if __name__ == "__main__":
    end_with_parent()
    with contextlib.suppress(OSError):
        os.nice(NICE)
        os.sched_setscheduler(0, os.SCHED_IDLE if NICE else os.SCHED_OTHER, os.sched_param(0))
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(name)s: %(message)s")
    work_off(os.environ["DATABASE_URL"])
