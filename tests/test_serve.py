"""Starting: what stands in the way is said in one line that tells what to do."""

import os
import signal
import socket
import subprocess
import sys

import psycopg
import pytest

from cavrel.store.cluster import Cluster, free_port
from cavrel.store.migrate import migrate
from tools.chromium import wait_until_served


def start(*arguments: str, **environment: str) -> subprocess.Popen[str]:
    return subprocess.Popen(
        [sys.executable, "-m", "cavrel", *arguments],
        env={**os.environ, **environment},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


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
def test_a_port_that_is_no_number(cluster: Cluster, port: str) -> None:
    process = start("serve", CAVREL_PORT=port, DATABASE_URL=cluster.url())
    _, said = process.communicate(timeout=60)
    assert f"CAVREL_PORT is '{port}'" in said
    assert "Traceback" not in said


def test_an_address_that_is_none() -> None:
    _, said = start("serve", CAVREL_PORT=str(free_port()), DATABASE_URL="notaurl").communicate(timeout=60)
    assert "DATABASE_URL is no address of a database" in said
    assert said.count("\n") == 1


def test_a_database_of_a_newer_version(cluster: Cluster) -> None:
    cluster.create_database("from_the_future")
    url = cluster.url("from_the_future")
    migrate(url)
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("insert into migration (number) values (999)")
    process = start("serve", CAVREL_PORT=str(free_port()), DATABASE_URL=url)
    _, said = process.communicate(timeout=60)
    assert process.returncode == 1
    assert "newer Cavrel" in said


def test_a_database_that_does_not_answer() -> None:
    process = start("serve", CAVREL_PORT=str(free_port()), DATABASE_URL=f"postgresql://x@127.0.0.1:{free_port()}/x")
    _, said = process.communicate(timeout=60)
    assert process.returncode == 1
    assert "the database does not answer" in said
    assert "DATABASE_URL" in said


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM])
def test_it_stops_cleanly(cluster: Cluster, how: signal.Signals) -> None:
    cluster.create_database("stopping")
    port = free_port()
    process = start("demo", CAVREL_PORT=str(port), DATABASE_URL=cluster.url("stopping"))
    wait_until_served(f"http://127.0.0.1:{port}")
    process.send_signal(how)
    out, said = process.communicate(timeout=20)
    assert process.returncode == 0, said
    assert f"http://127.0.0.1:{port}/" in out
    assert "stopped; everything shown as saved is in the database" in out
    assert "Traceback" not in said
