"""A server of the bench's own, on a database of its own; and the bare one next to it, on the same."""

import json
import math
import os
import random
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, timezone
from http.client import HTTPConnection
from pathlib import Path
from uuid import UUID, uuid4

from cavrel import catalogue
from cavrel.core.laboratory import EMPTY
from cavrel.serve import workers_wanted
from cavrel.store import courses
from cavrel.store import entries as entry_store
from cavrel.store import runs as run_store
from cavrel.store.cluster import Cluster
from cavrel.store.courses import About
from cavrel.store.entries import NewEntry
from cavrel.store.migrate import migrate
from cavrel.store.pool import Pool, open_pool, transaction

PENDULUM = catalogue.experiments()["pendulum"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Served:
    """``ours`` and ``bare``: ports on loopback. ``pool``: the database behind both. ``course`` and ``bench``: where runs are made."""

    ours: int
    bare: int
    pool: Pool
    course: int
    bench: int
    process: int


@contextmanager
def served() -> Iterator[Served]:
    """Both servers until the block ends."""
    folder = Path(tempfile.mkdtemp(prefix="cavrel-bench-"))
    folder.chmod(0o755)
    cluster = Cluster(folder)
    cluster.start()
    url = cluster.url()
    migrate(url)
    try:
        with open_pool(url, size=4) as pool, transaction(pool) as connection:
            connection.execute(
                "create table bare (id bigint generated always as identity primary key, body jsonb not null)"
            )
            course = courses.make(connection, "bench", About(title="Bench"), EMPTY, ["Beacon"])
            bench = courses.benches(connection, course.id)[0]
        with (
            open_pool(url, size=4) as pool,
            _process("cavrel.workers", url) as ours,
            _process("bench.bare", url) as bare,
        ):
            yield Served(ours=ours[0], bare=bare[0], pool=pool, course=course.id, bench=bench.id, process=ours[1])
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def _process(module: str, url: str) -> Iterator[tuple[int, int]]:
    place = socket.create_server(("127.0.0.1", 0), backlog=1024)
    port = place.getsockname()[1]
    own = {"DATABASE_URL": url, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    process = subprocess.Popen(
        [sys.executable, "-m", module, str(place.fileno()), str(workers_wanted())],
        pass_fds=[place.fileno()],
        env={**os.environ, **own},
    )
    try:
        for _ in range(1200):
            try:
                client = HTTPConnection("127.0.0.1", port, timeout=5)
                client.request("GET", "/health")
                if client.getresponse().status == 200:
                    break
            except OSError:
                time.sleep(0.05)
        yield port, process.pid
    finally:
        process.terminate()
        process.wait()
        place.close()


class Client:
    """A page: one connection, one session, and what it shows."""

    def __init__(self, port: int, run: int = 0) -> None:
        self.http = HTTPConnection("127.0.0.1", port, timeout=60)
        self.run, self.last, self.token, self.cookie, self.sent = run, 0, "", "", 0
        if run:
            self.http.request("GET", f"/runs/{run}/measure")
            answer = self.http.getresponse()
            page = answer.read().decode()
            found = re.search(r'csrf-token" content="([^"]+)"', page)
            last = re.search(r'data-last="(\d+)"', page)
            assert found and last and answer.status == 200
            self.token, self.last = found[1], int(last[1])
            self.cookie = (answer.headers["Set-Cookie"] or "").partition(";")[0]

    def save(self, slot: str, text: str, kind: str = "reading") -> float:
        """Save one reading and take what follows from it; how long that took, s."""
        return self.saved_and_shown(slot, text, kind)[1]

    def saved_and_shown(self, slot: str, text: str, kind: str = "reading") -> tuple[float, float]:
        """Save one reading: how long until it is known to be saved, and until the page has what follows from it, s."""
        entry = {
            "key": str(uuid4()),
            "kind": kind,
            "slot": slot,
            "body": {"text": text},
            "made_at": datetime.now(timezone.utc).isoformat(),
        }
        body = json.dumps({"page": "measure", "since": self.last, "entries": [entry]})
        began = time.perf_counter()
        self.http.request(
            "POST",
            f"/runs/{self.run}/entries",
            body,
            {
                "Content-Type": "application/json",
                "X-CSRFToken": self.token,
                "Cookie": self.cookie,
                "Accept": "application/x-ndjson",
            },
        )
        answer = self.http.getresponse()
        assert answer.status == 200, answer.read()[:300]
        first = answer.readline()
        saved = time.perf_counter() - began
        rest = answer.readline()
        shown = time.perf_counter() - began
        answer.read()  # the server's own work for other pages, before it takes the next one
        assert json.loads(first)["keys"], first
        self.sent = len(first) + len(rest)
        self.last = json.loads(rest)["last"]
        return saved, shown

    def bare(self) -> float:
        """The bare route with a body of the same size; how long it took, s."""
        body = json.dumps(
            {
                "key": str(uuid4()),
                "kind": "reading",
                "slot": "swings.t.8.5",
                "body": {"text": "67.61"},
                "made_at": "x" * 32,
            }
        )
        began = time.perf_counter()
        self.http.request("POST", "/bare", body, {"Content-Type": "application/json"})
        answer = self.http.getresponse()
        answer.read()
        assert answer.status == 200
        return time.perf_counter() - began

    def get(self, path: str) -> float:
        """A page; how long it took, s."""
        began = time.perf_counter()
        self.http.request("GET", path)
        answer = self.http.getresponse()
        answer.read()
        assert answer.status == 200, path
        return time.perf_counter() - began


def pendulum_run(here: Served, title: str, rows: int = 8, trials: int = 5, spoilt: bool = False) -> int:
    """A run with all its readings, imported at once; ``spoilt``: with swapped digits and miscounts here and there."""
    draw = random.Random(rows + spoilt)
    now = datetime.now(timezone.utc)

    def made(slot: str, text: str) -> NewEntry:
        return NewEntry(
            kind="reading",
            slot=slot,
            body={"text": text},
            author="Beacon",
            made_at=now,
            client_key=UUID(int=draw.getrandbits(128)),
        )

    new = [made("quantities.N.1", "20")]
    for row in range(1, rows + 1):
        length = 0.6 + 2.0 * row / rows
        new.append(made(f"swings.L.{row}.1", f"{100 * length:.1f}"))
        for trial in range(1, trials + 1):
            t = 20 * 2 * math.pi * math.sqrt(length / 9.81) + draw.gauss(0, 0.05)
            if spoilt and draw.random() < 0.2:
                t *= 0.95
            new.append(made(f"swings.t.{row}.{trial}", f"{t:.2f}"))
    with transaction(here.pool) as connection:
        run = run_store.start(connection, here.course, here.bench, PENDULUM, title, uuid4())
        entry_store.append(
            connection,
            run,
            [
                NewEntry(kind=e.kind, slot=e.slot, body=e.body, author=e.author, made_at=e.made_at, client_key=uuid4())
                for e in new
            ],
        )
    return run
