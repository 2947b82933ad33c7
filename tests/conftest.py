"""Fixtures: a PostgreSQL of the tests' own, a fresh database for each module, the application on it."""

import gc
import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from uuid import uuid4

import psycopg
import pytest
from flask.testing import FlaskClient
from psycopg import sql

from cavrel import catalogue, demo
from cavrel.core.definition.steps import Program
from cavrel.service import opening
from cavrel.service.recent import Recent
from cavrel.store.cluster import Cluster
from cavrel.store.migrate import migrate
from cavrel.store.pool import Pool, open_pool
from cavrel.web import create_app

os.environ["CAVREL_NICE"] = (
    "0"  # two processes of tests leave no time over, and a child that stands back would wait for both
)


@pytest.fixture(scope="session")
def cluster() -> Iterator[Cluster]:
    """A cluster in a folder of its own; the user's data and DATABASE_URL are never touched."""
    os.environ.pop("DATABASE_URL", None)
    folder = Path(tempfile.mkdtemp(prefix="cavrel-test-"))
    folder.chmod(0o755)
    made = Cluster(folder)
    made.start()
    yield made
    made.crash()  # nobody wants what it holds; an orderly stop writes it all down first
    shutil.rmtree(folder, ignore_errors=True)


def copied(cluster: Cluster, template: str) -> str:
    """The URL of a new database that is a copy of another, which nobody is connected to."""
    name = f"test_{uuid4().hex[:12]}"
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as connection:
        connection.execute(sql.SQL("create database {} template {}").format(*map(sql.Identifier, (name, template))))
    # Copies hold the same runs with the same moments: what this process remembers of another copy's is not theirs.
    opening._recent = Recent()
    return cluster.url(name)


@pytest.fixture(scope="session")
def migrated(cluster: Cluster) -> str:
    """The name of an empty database of the newest schema, to be copied."""
    cluster.create_database("migrated")
    migrate(cluster.url("migrated"))
    return "migrated"


@pytest.fixture(scope="session")
def demonstrated(cluster: Cluster) -> str:
    """The name of a database with the demonstration course, to be copied: loading it takes two seconds, and thirty modules want it."""
    cluster.create_database("demonstrated")
    migrate(cluster.url("demonstrated"))
    with open_pool(cluster.url("demonstrated"), size=2) as pool:
        demo.load(pool)
    return "demonstrated"


@pytest.fixture(scope="module")
def database(request: pytest.FixtureRequest, cluster: Cluster) -> str:
    """The URL of a fresh, migrated database; with the demonstration course where the module drives the application."""
    here = (item for item in request.session.items if item.path == request.path)
    driven = any("client" in getattr(item, "fixturenames", ()) for item in here)
    return copied(cluster, request.getfixturevalue("demonstrated" if driven else "migrated"))


@pytest.fixture(scope="module")
def pool(database: str) -> Iterator[Pool]:
    made = open_pool(database, size=6)
    yield made
    made.close(timeout=0.2)  # a thread of it that still asks for a database that a test took away is not waited for


@pytest.fixture(scope="module")
def client(pool: Pool) -> FlaskClient:
    """A client of the application with the demonstration course loaded. CSRF is on, as in service."""
    return create_app(pool, testing=True).test_client()


@pytest.fixture(scope="session")
def pendulum() -> Program:
    return catalogue.program_of(catalogue.experiments()["pendulum"])


LONG = (
    "test_every_experiment.py",
    "test_keeping.py",
    "test_hands_full.py",
    "test_access.py",
    "test_serve.py",
    "test_first_start.py",
    "test_thick.py",
    "test_renewal.py",
    "test_limits.py",
    "test_stored.py",
    "test_bounded.py",
    "test_nightly.py",
    "test_slips.py",
    "test_plan.py",
    "test_signed.py",
    "test_measure.py",
    "test_fuzz.py",
    "test_coverage.py",
    "test_backup.py",
)
"""Files that take longest: begun first, so that no worker is left alone with one of them at the end."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: LONG.index(item.path.name) if item.path.name in LONG else len(LONG))


def pytest_collection_finish() -> None:
    """What was collected stays to the end: a collector that goes through it again and again takes a tenth of the time."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(100_000, 20, 20)
