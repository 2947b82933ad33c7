"""What a save costs: alone, with forty benches at work, in long tables and old logbooks."""

import math
import statistics
import threading
import time
from collections.abc import Callable
from datetime import datetime, timezone
from http.client import HTTPConnection
from pathlib import Path
from uuid import uuid4

from bench.ratio import Row
from bench.served import Client, Served, pendulum_run
from cavrel.store import entries as entry_store
from cavrel.store import work
from cavrel.store.entries import NewEntry
from cavrel.store.pool import transaction
from cavrel.watch import Watch

SECONDS = 60.0
BENCHES = 40


def alone(here: Served) -> list[Row]:
    """One page that saves one reading after the other, in turns with the bare route."""
    found = []
    for spoilt in (False, True):
        ours, bare = Client(here.ours, pendulum_run(here, "Alone", spoilt=spoilt)), Client(here.bare)
        saved, shown, other = _in_turns(ours, bare, 150)
        kind = "implausible" if spoilt else "plausible"
        found.append(Row(f"a save among {kind} readings, against a bare insert", saved, other, "3×", 3.0))
        found.append(Row("the same until what follows from it is there", shown, other, "3×", 3.0))
    return found


def _in_turns(ours: Client, bare: Client, rounds: int) -> tuple[float, float, float]:
    mine, shown, other = [], [], []
    for i in range(rounds + 40):
        took, least = ours.saved_and_shown("swings.t.8.5", f"{67.5 + 0.01 * (i % 30):.2f}"), bare.bare()
        if i >= 40:  # the first ones warm both up, in each of the processes
            mine.append(took[0])
            shown.append(took[1])
            other.append(least)
    return statistics.median(mine), statistics.median(shown), statistics.median(other)


def course(here: Served) -> list[Row]:
    """Forty benches, each saving once a second, for a minute; then the bare route in the same way."""
    found = []
    bare = [took for (took,) in _together([Client(here.bare) for _ in range(BENCHES)], lambda c, i: (c.bare(),))]
    for spoilt in (False, True):
        clients = [Client(here.ours, pendulum_run(here, f"Bench {n}", spoilt=spoilt)) for n in range(BENCHES)]
        took = _together(clients, lambda c, i: c.saved_and_shown("swings.t.8.5", f"{67.5 + 0.01 * (i % 30):.2f}"))
        kind = "implausible" if spoilt else "plausible"
        for what, mine in (("saved", [t[0] for t in took]), ("shown", [t[1] for t in took])):
            begin = f"{BENCHES} benches, {kind}, {what}"
            found += [
                Row(f"{begin}: median", _share(mine, 0.5), _share(bare, 0.5), "3×", 3.0),
                Row(f"{begin}: 99 of 100 within", _share(mine, 0.99), _share(bare, 0.99), "5×", 5.0),
            ]
    return found


def with_papers(here: Served) -> list[Row]:
    """Forty benches that save once a second while twenty PDFs and an archive of the course are made."""
    bare = [took for (took,) in _together([Client(here.bare) for _ in range(BENCHES)], lambda c, i: (c.bare(),), 30)]
    runs = [pendulum_run(here, f"Written up {n}") for n in range(20)]
    clients = [Client(here.ours, pendulum_run(here, f"Saving {n}")) for n in range(BENCHES)]
    with transaction(here.pool) as connection:
        work.ask(connection, here.course, "package", {}, len(runs) + BENCHES, "", uuid4())
    watch, made = Watch(str(here.pool.conninfo)), []
    threads = [threading.Thread(target=lambda run=run: made.append(_pdf(here.ours, run))) for run in runs]
    for thread in threads:
        thread.start()
    took = _together(clients, lambda c, i: c.saved_and_shown("swings.t.8.5", f"{67.5 + 0.01 * (i % 30):.2f}"), 30)
    for thread in threads:
        thread.join()
    watch.stop()
    assert made == [200] * len(runs), made
    mine = [t[0] for t in took]
    begin = f"{BENCHES} benches, saved, next to 20 PDFs and an archive"
    return [
        Row(f"{begin}: median", _share(mine, 0.5), _share(bare, 0.5), "6×", 6.0),
        Row(f"{begin}: 99 of 100 within", _share(mine, 0.99), _share(bare, 0.99), "10×", 10.0),
    ]


def _pdf(port: int, run: int) -> int:
    """Ask for a report as PDF as a program does, and again where it is told to; what it was answered at last."""
    for _ in range(5):
        http = HTTPConnection("127.0.0.1", port, timeout=180)
        http.request("GET", f"/runs/{run}/report.pdf")
        answer = http.getresponse()
        answer.read()
        http.close()
        if answer.status != 503:
            break
    return answer.status


def _share(times: list[float], share: float) -> float:
    return sorted(times)[min(int(share * len(times)), len(times) - 1)]


def _together(
    clients: list[Client], call: Callable[[Client, int], tuple[float, ...]], seconds: float = SECONDS
) -> list[tuple[float, ...]]:
    """Every client calls once a second, each at its own moment of it."""
    took: list[tuple[float, ...]] = []
    faults: list[BaseException] = []
    began = time.perf_counter() + 1.0

    def work(number: int, client: Client) -> None:
        try:
            for i in range(int(seconds)):
                due = began + i + number / len(clients)
                time.sleep(max(due - time.perf_counter(), 0.0))
                took.append(call(client, i))
        except BaseException as fault:
            faults.append(fault)

    threads = [threading.Thread(target=work, args=(n, c)) for n, c in enumerate(clients)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if faults:
        raise faults[0]
    return took


def long_tables(here: Served) -> list[Row]:
    """A save in tables of 10, 100 and 500 rows, and in a logbook of fifty and of five thousand entries."""
    times = {rows: _median(Client(here.ours, pendulum_run(here, f"{rows} rows", rows=rows))) for rows in (10, 100, 500)}
    young, old = Client(here.ours, pendulum_run(here, "Young")), Client(here.ours, pendulum_run(here, "Old"))
    _grown(here, old.run, 4850)
    old = Client(here.ours, old.run)
    fifty, thousands = _both(young, old)
    return [
        Row("a save in 100 rows, against 10", times[100], times[10], "2×", 2.0),
        Row("a save in 500 rows, against 10", times[500], times[10], "5×", 5.0),
        Row("a save after 5 000 entries, against 50", thousands, fifty, "1.3×", 1.3),
    ]


def _grown(here: Served, run: int, many: int) -> None:
    """So many more entries: stopwatch and readings, as in a long evening."""
    now = datetime.now(timezone.utc)
    new = []
    for i in range(many):
        row, trial = 1 + i % 8, 1 + i % 5
        took = 20 * 2 * math.pi * math.sqrt((0.6 + 2.0 * row / 8) / 9.81)
        if i % 10:
            new.append(
                NewEntry(
                    kind="timer",
                    slot=f"timer:{uuid4()}",
                    body={"laps": [took]},
                    author="Beacon",
                    made_at=now,
                    client_key=uuid4(),
                )
            )
        else:
            new.append(
                NewEntry(
                    kind="reading",
                    slot=f"swings.t.{row}.{trial}",
                    body={"text": f"{took:.2f}"},
                    author="Beacon",
                    made_at=now,
                    client_key=uuid4(),
                )
            )
    with transaction(here.pool) as connection:
        for begin in range(0, many, 400):
            entry_store.append(connection, run, new[begin : begin + 400])


def _median(client: Client, rounds: int = 40) -> float:
    return statistics.median([client.save("swings.t.1.1", f"{31.0 + 0.01 * i:.2f}") for i in range(rounds + 8)][8:])


def _both(one: Client, other: Client, rounds: int = 80) -> tuple[float, float]:
    first, second = [], []
    for i in range(rounds + 10):
        text = f"{67.5 + 0.01 * (i % 30):.2f}"
        a, b = one.save("swings.t.8.5", text), other.save("swings.t.8.5", text)
        if i >= 10:
            first.append(a)
            second.append(b)
    return statistics.median(first), statistics.median(second)


def memory(here: Served) -> list[Row]:
    """Resident memory of all processes after 3 000 saves, against after 600."""
    client = Client(here.ours, pendulum_run(here, "Memory"))
    sizes = {}
    for i in range(3000):
        client.save(f"swings.t.{1 + i % 8}.{1 + i % 5}", f"{31 + 0.01 * (i % 30):.2f}")
        if i + 1 in (600, 3000):
            sizes[i + 1] = _resident(here.process)
    return [Row("memory of all processes after 3 000 saves, against 600", sizes[3000], sizes[600], "1.1×", 1.1, "MB")]


def _resident(master: int) -> float:
    total = 0
    for path in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = path.read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if int(fields[1]) == master or int(path.parent.name) == master:
            total += int(fields[21]) * 4096
    return float(total)
