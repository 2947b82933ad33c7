"""What the list of runs and Result cost in a course of years."""

import statistics
from uuid import uuid4

from bench.ratio import Row
from bench.served import PENDULUM, Client, Served, pendulum_run
from cavrel.store import runs as run_store
from cavrel.store.pool import transaction

FEW, MANY = 25, 2000


def of_years(here: Served) -> list[Row]:
    """The list and Result with 25 runs, and with 2 000."""
    first = pendulum_run(here, "The first")
    with transaction(here.pool) as connection:
        have = connection.execute("select count(*) as many from run where course = %s", [here.course]).fetchone()
        assert have is not None
        _more(here, FEW - have["many"])
    client = Client(here.ours)
    few = {path: _median(client, path) for path in ("/runs", f"/runs/{first}/result")}
    _more(here, MANY - FEW)
    many = {path: _median(client, path) for path in few}
    names = {"/runs": "list of runs", f"/runs/{first}/result": "Result"}
    return [Row(f"{names[p]}: {MANY} runs, against {FEW}", many[p], few[p], "2×", 2.0) for p in few]


def _more(here: Served, many: int) -> None:
    """Runs with a reading or two, as most of a course's are when they are opened again."""
    for i in range(max(many, 0)):
        if i % 40 == 0:
            pendulum_run(here, f"A full one {i}")
        else:
            with transaction(here.pool) as connection:
                run_store.start(connection, here.course, here.bench, PENDULUM, f"One of many {i}", uuid4())
    with transaction(here.pool) as connection:
        connection.execute("analyze")  # as the database does by itself within a minute, which a course of years has


def _median(client: Client, path: str) -> float:
    for _ in range(80):
        client.get(path)  # until every summary is made, in each of the processes
    return statistics.median(client.get(path) for _ in range(40))
