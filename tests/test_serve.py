"""Starting: what stands in the way is said in one line that tells what to do."""

import json
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from urllib.parse import urlsplit, urlunsplit
from urllib.request import urlopen
from uuid import UUID

import psycopg
import pytest
from click.testing import CliRunner

from cavrel import cli, demo, workers
from cavrel.store import course_exists
from cavrel.store.cluster import Cluster, free_port
from cavrel.store.migrate import migrate
from cavrel.store.pool import DatabaseAway, open_pool, transaction
from tests.conftest import copied
from tests.thorough import THOROUGH, thorough
from tools.chromium import wait_until_served


def start(*arguments: str, **environment: str) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "cavrel", *arguments],
        env={**os.environ, **environment},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def refused(monkeypatch: pytest.MonkeyPatch, **environment: str) -> str:
    """The one line that ``cavrel serve`` says before it ends with 1."""
    monkeypatch.setenv("CAVREL_PORT", str(free_port()))
    for name, value in environment.items():
        monkeypatch.setenv(name, value)
    ended = CliRunner().invoke(cli.main, ["serve"])
    assert ended.exit_code == 1, ended.output
    assert ended.stderr.count("\n") == 1, ended.stderr
    return ended.stderr


def test_a_busy_port(cluster: Cluster) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        process = start("serve", CAVREL_PORT=str(port), DATABASE_URL=cluster.url())
        _, said = process.communicate(timeout=60)
    assert process.returncode == 1
    assert f"port {port} cannot be had" in said
    assert "CAVREL_PORT" in said
    assert said.count("\n") == 1


@pytest.mark.parametrize("port", ["http", "²", "-1"])
def test_a_port_that_is_no_number(cluster: Cluster, monkeypatch: pytest.MonkeyPatch, port: str) -> None:
    assert f"CAVREL_PORT is '{port}'" in refused(monkeypatch, CAVREL_PORT=port, DATABASE_URL=cluster.url())


@pytest.mark.parametrize("many", ["two", "0", "²", "99"])
def test_a_number_of_processes_that_is_none(cluster: Cluster, monkeypatch: pytest.MonkeyPatch, many: str) -> None:
    assert f"CAVREL_WORKERS is '{many}'" in refused(monkeypatch, CAVREL_WORKERS=many, DATABASE_URL=cluster.url())


def test_an_address_that_is_none(monkeypatch: pytest.MonkeyPatch) -> None:
    assert "DATABASE_URL is no address of a database" in refused(monkeypatch, DATABASE_URL="notaurl")


def test_a_database_of_a_newer_version(cluster: Cluster, monkeypatch: pytest.MonkeyPatch) -> None:
    cluster.create_database("from_the_future")
    url = cluster.url("from_the_future")
    migrate(url)
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("insert into migration (number) values (999)")
    assert "newer Cavrel" in refused(monkeypatch, DATABASE_URL=url)


def test_a_database_that_does_not_answer(monkeypatch: pytest.MonkeyPatch) -> None:
    said = refused(monkeypatch, DATABASE_URL=f"postgresql://x@127.0.0.1:{free_port()}/x")
    assert "the database does not answer" in said
    assert "DATABASE_URL" in said


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM] if THOROUGH else [signal.SIGTERM])
def test_it_stops_cleanly(cluster: Cluster, demonstrated: str, how: signal.Signals) -> None:
    port = free_port()
    process = start("demo", CAVREL_PORT=str(port), DATABASE_URL=copied(cluster, demonstrated))
    wait_until_served(f"http://127.0.0.1:{port}")
    time.sleep(1)  # it answers a moment before it says so
    process.send_signal(how)
    out, said = process.communicate(timeout=20)
    assert process.returncode == 0, said
    assert f"http://127.0.0.1:{port}/" in out
    assert "stopped; everything shown as saved is in the database" in out
    assert "Traceback" not in said


class Valve:
    """A relay between server and database that can be shut: connections stay open and nothing comes through, as when a database hangs."""

    def __init__(self, port: int) -> None:
        self.to, self.port = port, free_port()
        self.open = threading.Event()
        self.open.set()
        self.door = socket.create_server(("127.0.0.1", self.port))
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                near, _ = self.door.accept()
            except OSError:
                return
            far = socket.create_connection(("127.0.0.1", self.to))
            for source, sink in ((near, far), (far, near)):
                threading.Thread(target=self._carry, args=(source, sink), daemon=True).start()

    def _carry(self, source: socket.socket, sink: socket.socket) -> None:
        try:
            while data := source.recv(65536):
                self.open.wait()
                sink.sendall(data)
        except OSError:
            pass
        sink.close()


@thorough
def test_a_hung_database_holds_up_no_file(cluster: Cluster, demonstrated: str) -> None:
    """Eighty requests wait for a database that says nothing; styles still come, and all goes on when it does."""
    url = urlsplit(copied(cluster, demonstrated))
    assert url.port
    valve = Valve(url.port)
    port = free_port()
    here = f"http://127.0.0.1:{port}"
    process = start(
        "demo",
        CAVREL_PORT=str(port),
        DATABASE_URL=urlunsplit(url._replace(netloc=url.netloc.replace(str(url.port), str(valve.port)))),
    )
    try:
        wait_until_served(here)
        style = re.search(r'href="(/static/[^"]+\.css)"', urlopen(here, timeout=20).read().decode())
        assert style
        valve.open.clear()
        waiting = [threading.Thread(target=_asked, args=(f"{here}/runs/1/measure",), daemon=True) for _ in range(80)]
        for thread in waiting:
            thread.start()
        time.sleep(1)
        assert urlopen(f"{here}{style[1]}", timeout=5).status == 200
        valve.open.set()
        for _ in range(40):
            if _asked(f"{here}/health"):
                break
            time.sleep(0.5)
        else:
            pytest.fail("it did not come back with its database")
    finally:
        valve.open.set()
        process.send_signal(signal.SIGTERM)
        process.communicate(timeout=30)
        valve.door.close()


def _asked(address: str) -> bool:
    try:
        return bool(urlopen(address, timeout=30).status == 200)
    except OSError:
        return False


def children(pid: int) -> list[int]:
    """The processes that a process started, from Linux's own list."""
    found = []
    for path in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = path.read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if int(fields[1]) == pid and fields[0] != "Z":
            found.append(int(path.parent.name))
    return found


@pytest.fixture
def served(cluster: Cluster, demonstrated: str) -> Iterator[tuple[subprocess.Popen[str], str]]:
    port = free_port()
    process = start("demo", CAVREL_PORT=str(port), DATABASE_URL=copied(cluster, demonstrated), CAVREL_WORKERS="3")
    # Its own word, not only an answer: until it has seen one itself, workers that die are a start that failed.
    assert process.stdout is not None
    assert any("Cavrel is ready" in line for line in process.stdout)
    yield process, f"http://127.0.0.1:{port}"
    process.send_signal(signal.SIGTERM)
    process.communicate(timeout=30)


def until(true: Callable[[], bool]) -> bool:
    for _ in range(100):
        if true():
            return True
        time.sleep(0.1)
    return False


def test_a_killed_worker_comes_back_and_no_page_notices(served: tuple[subprocess.Popen[str], str]) -> None:
    process, here = served
    [master] = children(process.pid)
    assert until(lambda: len(children(master)) >= 3)
    for victim in children(master)[:2]:
        os.kill(victim, signal.SIGKILL)
        assert all(_asked(f"{here}/runs/1/measure") for _ in range(6))
        assert until(lambda victim=victim: victim not in children(master) and len(children(master)) == 3)


@thorough
def test_all_workers_killed_come_back(served: tuple[subprocess.Popen[str], str]) -> None:
    process, here = served
    [master] = children(process.pid)
    os.kill(master, signal.SIGKILL)
    assert until(lambda: bool(children(process.pid)) and children(process.pid) != [master])
    assert until(lambda: _asked(f"{here}/health"))


@thorough
def test_one_that_died_is_counted(served: tuple[subprocess.Popen[str], str]) -> None:
    process, here = served
    [master] = children(process.pid)

    def died() -> int:
        with urlopen(f"{here}/health", timeout=10) as answer:
            found: int = json.loads(answer.read())["workers_died"]
            return found

    before = died()
    os.kill(sorted(children(master))[0], signal.SIGKILL)
    assert until(lambda: died() == before + 1)


@thorough
def test_workers_end_with_who_started_them(served: tuple[subprocess.Popen[str], str]) -> None:
    """Nothing is left that holds the port, even when there was no time to say goodbye."""
    process, here = served
    [master] = children(process.pid)
    process.kill()
    process.wait()
    assert until(lambda: not Path(f"/proc/{master}/stat").exists() or not children(master))
    assert until(lambda: not _asked(f"{here}/health"))


def test_a_worker_waits_for_a_database_that_is_away(monkeypatch: pytest.MonkeyPatch) -> None:
    tried: list[object] = []

    def make(pool: object) -> str:
        tried.append(pool)
        if len(tried) < 3:
            raise DatabaseAway("away")
        return "application"

    master = workers._Master.__new__(workers._Master)
    master.url, master.many, master.make, master.first = "postgresql://nowhere", 2, make, False
    monkeypatch.setattr(workers, "open_pool", lambda url, size: (url, size))
    monkeypatch.setattr(workers.time, "sleep", lambda seconds: None)
    assert master.load() == "application"
    assert tried == [("postgresql://nowhere", 30)] * 3


def test_a_server_starts_without_the_computation() -> None:
    """Which takes a second to load, and is loaded by the processes that answer pages."""
    asks = "import sys, cavrel.cli.server, cavrel.serve, cavrel.demo; print(*{'numpy', 'scipy', 'pydantic', 'flask'} & {*sys.modules})"
    assert subprocess.run([sys.executable, "-c", asks], capture_output=True, text=True, check=True).stdout == "\n"


def test_the_catalogue_needs_no_library_of_units_and_no_algebra() -> None:
    """Half a second each; what they say of the catalogue ships with it."""
    asks = "import sys; from cavrel import catalogue; catalogue.warm(); print(*{'pint', 'sympy'} & {*sys.modules})"
    assert subprocess.run([sys.executable, "-c", asks], capture_output=True, text=True, check=True).stdout == "\n"


def test_a_course_that_stands_is_not_made_again(cluster: Cluster, demonstrated: str) -> None:
    with open_pool(copied(cluster, demonstrated), size=1) as pool, transaction(pool) as connection:
        runs, none = [demo.key(f"run {i}") for i in range(3)], list[UUID]()
        assert course_exists.there(connection, "tallow-quay", ["Beacon", "Wick"], [demo.key("lesson 0")], runs)
        assert not course_exists.there(connection, "tallow-quay", ["Beacon", "Buoy"], none, runs)
        assert not course_exists.there(connection, "tallow-quay", ["Beacon"], [demo.key("another lesson")], runs)
        assert not course_exists.there(connection, "tallow-quay", ["Beacon"], none, [*runs, demo.key("another run")])
        assert not course_exists.there(connection, "another-course", ["Beacon"], none, runs)
