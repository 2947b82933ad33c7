"""Parts of a page that it can do without: an error in one of them costs that part alone, is logged with its run, and is said."""

import logging
from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar, cast

from cavrel.present.notes import Note
from cavrel.service.run_view import RunView
from cavrel.store.pool import DatabaseAway

Part = TypeVar("Part", bound=Callable[..., Any])
log = logging.getLogger("cavrel")
_KEPT = "uncomputed"


def optional(what: str, nothing: Callable[[], Any]) -> Callable[[Part], Part]:
    """Make a part of a page, computed from a run, optional. ``what``: it is called; ``nothing``: makes what stands in its place."""

    def made(work: Part) -> Part:
        @wraps(work)
        def part(opened: RunView, *given: Any, **named: Any) -> Any:
            try:
                return work(opened, *given, **named)
            except DatabaseAway:
                raise
            except Exception:
                log.exception("%s of run %s cannot be computed", what, opened.run.id)
                lost = opened.shown.setdefault(_KEPT, [])
                if what not in lost:
                    lost.append(what)
                return nothing()

        return cast(Part, part)

    return made


def notes_of(opened: RunView) -> list[Note]:
    """What of this page could not be computed."""
    lost = opened.shown.get(_KEPT, [])
    text = "Every entry is saved, and the rest of the page is correct. The server’s log says what went wrong."
    return [Note(tone="danger", title=f"Cannot be computed: {', '.join(lost)}", text=text)] if lost else []
