"""A sensor that sends a hundred samples a second for a minute, one at a time, while a page listens."""

import json
import statistics
import threading
import time
from collections.abc import Iterator
from uuid import uuid4

from bench.ratio import Row
from bench.served import Client, Served
from cavrel import catalogue, sensor
from cavrel.service import live
from cavrel.store import runs as run_store
from cavrel.store.pool import transaction

SECONDS, RATE = 60.0, 100.0
PLACE = "force.a.1"


def minute(here: Served) -> Iterator[Row]:
    """How many of its samples are kept, and what one costs against a bare insert in turns with it."""
    cart = catalogue.experiments()["newton-second-law"]
    with transaction(here.pool) as connection:
        run = run_store.start(connection, here.course, here.bench, cart, "Live", uuid4())
    take = live.listen(here.pool, run, PLACE, "m/s")
    seen: list[float] = []
    over = threading.Event()

    def page() -> None:
        """Asks five times a second, as a page does."""
        last = 0
        while not over.is_set():
            found = live.since(here.pool, run, PLACE, take.id, last)
            last = found.last
            seen.extend(found.values)
            time.sleep(0.2)

    watching = threading.Thread(target=page)
    watching.start()
    began = time.monotonic()
    sent = round(RATE * SECONDS)
    kept = sensor.play(
        f"http://127.0.0.1:{here.ours}", run, sensor.cart(RATE, SECONDS, 0.5, 1), 1, 1.0, lambda words: None
    )
    lasted = time.monotonic() - began
    time.sleep(0.5)
    over.set()
    watching.join()
    yield Row(f"{sent} samples, {RATE:.0f} a second: sent, against kept", sent, kept, "none lost", 1.0, "samples")
    yield Row("the same: kept, against seen by a page", kept, len(seen), "all seen", 1.0, "samples")
    yield Row("the same: time it took, against the time it stands for", lasted, SECONDS, "1.05×", 1.05)
    ours, bare, mine, other = Client(here.ours), Client(here.bare), [], []
    live.listen(here.pool, run, PLACE, "m/s")  # of another sensor, which has a take of its own
    token, _ = live.token_of(here.pool, run)
    for i in range(300):
        before = time.perf_counter()
        ours.http.request(
            "POST", f"/live/{token}", json.dumps({"t": SECONDS + i, "v": 1.0}), {"Content-Type": "application/json"}
        )
        answer = ours.http.getresponse()
        answer.read()
        assert answer.status == 200
        mine.append(time.perf_counter() - before)
        other.append(bare.bare())
    yield Row("a live sample, against a bare insert", statistics.median(mine), statistics.median(other), "5×", 5.0)
