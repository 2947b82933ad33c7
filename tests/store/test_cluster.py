"""The private cluster and the ways in which it cannot be had."""

import shutil
from collections import namedtuple
from pathlib import Path

import psycopg
import pytest

from cavrel.store import cluster as clusters
from cavrel.store.cluster import Cluster, ClusterError


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    # pytest's folders are closed to other users; the database's user must be able to enter.
    for place in (tmp_path, *tmp_path.parents):
        if place == Path("/tmp"):
            break
        place.chmod(0o755)
    return tmp_path / "data"


def test_it_is_made_started_stopped_and_keeps_what_it_held(folder: Path) -> None:
    made = Cluster(folder)
    with made.running() as url, psycopg.connect(url) as connection:
        connection.execute("create table kept as select 42 as answer")
        assert made.start() is False
        with pytest.raises(ClusterError, match="another Cavrel already serves"), Cluster(folder).running():
            pass
    with Cluster(folder).running() as url, psycopg.connect(url) as connection:
        assert connection.execute("select answer from kept").fetchone() == (42,)
        assert connection.execute("show listen_addresses").fetchone() == ("127.0.0.1",)
    with pytest.raises(psycopg.OperationalError), psycopg.connect(url, connect_timeout=2):
        pass


def test_without_the_password_nobody_gets_in(cluster: Cluster) -> None:
    url = cluster.url()
    with (
        pytest.raises(psycopg.OperationalError, match="password"),
        psycopg.connect(url.replace(url.split(":")[2].split("@")[0], "guess")),
    ):
        pass
    assert cluster.password_file.stat().st_mode & 0o077 == 0


def test_a_full_disk_says_what_to_do(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    usage = namedtuple("usage", "total used free")
    monkeypatch.setattr(clusters.shutil, "disk_usage", lambda _: usage(10**9, 10**9, 5 * 2**20))
    with (
        pytest.raises(ClusterError, match="only 5 MB are free.*CAVREL_DATA.*Nothing was changed"),
        Cluster(folder).running(),
    ):
        pass
    assert not (folder / "postgres").exists()


def test_a_folder_that_cannot_be_made_says_so(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    with (
        pytest.raises(ClusterError, match="cannot make the data folder"),
        Cluster(tmp_path / "file" / "data").running(),
    ):
        pass


def test_data_of_a_version_that_is_not_installed(folder: Path) -> None:
    made = Cluster(folder)
    (folder / "postgres").mkdir(parents=True)
    (folder / "postgres" / "PG_VERSION").write_text("7\n")
    with pytest.raises(ClusterError, match="belong to PostgreSQL 7, which is not installed"), made.running():
        pass
    shutil.rmtree(folder)
