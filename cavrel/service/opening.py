"""Opening a run: entries newer than those this process knows are folded in, and what follows from them is computed once."""

from collections.abc import Sequence
from dataclasses import replace

from cavrel.core.laboratory import Laboratory
from cavrel.core.logbook import EMPTY, Book, Entry, effective
from cavrel.service.definitions import definition_of
from cavrel.service.laboratories import laboratory_of
from cavrel.service.recent import Recent, Remembered, bytes_of
from cavrel.service.run_view import RunView, compute
from cavrel.store import entries as entry_store
from cavrel.store import runs as run_store
from cavrel.store.pool import Connection, Pool, transaction
from cavrel.store.runs import Run

_recent = Recent()


def open_run(pool: Pool, run_id: int) -> RunView | None:
    """Everything about one run, or None if there is none of this number. Raises DatabaseAway."""
    with transaction(pool) as connection:
        loaded = load(connection, run_id)
    return follow(loaded) if loaded is not None else None


class Loaded:
    """A run as the database has it: what this process remembers of it, and the entries since."""

    __slots__ = ("definition", "fresh", "known", "laboratory", "run")

    def __init__(self, connection: Connection, run: Run) -> None:
        self.run = run
        self.definition = definition_of(connection, run.hash)
        self.laboratory = laboratory_of(connection, run.course, run.laboratory, run.digest)
        self.known = _recent.get(_key(run))
        self.fresh: list[Entry] = []
        if run.newest > self._last:
            self.fresh = entry_store.after(connection, run.id, self._last)

    @property
    def _last(self) -> int:
        return self.fresh[-1].id if self.fresh else self.known.last if self.known is not None else 0

    def with_newer(self, run: Run, newer: Sequence[Entry], laboratory: Laboratory | None = None) -> "Loaded":
        """The same with the entries appended since it was loaded; ``run``: its record, and ``laboratory``, as they may have changed them."""
        made = Loaded.__new__(Loaded)
        made.run = replace(run, newest=max(run.newest, newer[-1].id if newer else 0))
        made.definition, made.known, made.fresh = self.definition, self.known, [*self.fresh, *newer]
        made.laboratory = laboratory or self.laboratory
        return made

    @property
    def book(self) -> Book:
        """Its logbook, folded."""
        return (self.known.book if self.known is not None else EMPTY).with_entries(self.fresh)

    def conventions(self) -> dict[str, str]:
        """The conventions in force, as chosen."""
        chosen: dict[str, str] = {}
        if not self.definition.options:
            return chosen
        book = self.book
        for name in self.definition.options:
            line = book.history.get(f"option:{name}")
            kind, body = effective(line[-1]) if line else (None, {})
            if kind == "option" and body.get("choice"):
                chosen[name] = str(body["choice"])
        return chosen


def load(connection: Connection, run_id: int) -> Loaded | None:
    """Read what is needed to open a run: nothing is computed yet, so that a transaction ends before that begins."""
    run = run_store.get(connection, run_id)
    return Loaded(connection, run) if run is not None else None


def follow(loaded: Loaded) -> RunView:
    """What follows from a loaded run, computed now or remembered."""
    run, known = loaded.run, loaded.known
    state = (run.made_of, run.digest, run.title, run.bench, run.away)
    if known is not None and not loaded.fresh and known.state == state and known.last >= run.newest:
        return known.opened
    before = known.opened.entries if known is not None else ()
    entries = (*before, *loaded.fresh)
    book = (known.book if known is not None else EMPTY).with_entries(loaded.fresh)
    opened = compute(run, loaded.definition, entries, loaded.laboratory, book)
    last = entries[-1].id if entries else 0
    held = (known.held if known is not None else 0) + bytes_of(loaded.fresh)
    _recent.put(_key(run), Remembered(last=last, state=state, book=book, opened=opened, held=held))
    return opened


def _key(run: Run) -> tuple[object, ...]:
    # The moment it was made, to the microsecond, tells apart runs of two databases that one process serves one after the other.
    return run.id, run.made_at, run.hash
