"""Processes that answer pages are followed by others when they have grown old, and nobody's answer is dropped."""

import threading
import time
from http.client import HTTPConnection
from pathlib import Path

from cavrel.store.cluster import Cluster, free_port
from tests.conftest import copied
from tests.test_serve import start
from tests.thorough import thorough
from tools.chromium import wait_until_served


def workers_of(parent: int) -> set[int]:
    found = set()
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            fields = (folder / "stat").read_text().rpartition(")")[2].split()
        except OSError:
            continue
        if int(fields[1]) == parent:
            found.add(int(folder.name))
    return found


@thorough
def test_none_is_dropped_while_they_are_renewed(cluster: Cluster, demonstrated: str) -> None:
    port = free_port()
    # A few megabytes: each looks at itself after twenty answers, and goes.
    process = start(
        "serve",
        DATABASE_URL=copied(cluster, demonstrated),
        CAVREL_PORT=str(port),
        CAVREL_WORKERS="2",
        CAVREL_MEMORY="1",
    )
    try:
        wait_until_served(f"http://127.0.0.1:{port}")
        [master] = [one for one in workers_of(process.pid) if workers_of(one)]
        first = workers_of(master)
        answers: list[int] = []
        faults: list[BaseException] = []

        def ask(keep_alive: bool) -> None:
            http = HTTPConnection("127.0.0.1", port, timeout=60)
            for _ in range(60):
                try:
                    http.request("GET", "/health", headers={} if keep_alive else {"Connection": "close"})
                    answer = http.getresponse()
                    answer.read()
                    answers.append(answer.status)
                    if answer.headers.get("Connection", "").lower() == "close":
                        http.close()
                except BaseException as fault:
                    faults.append(fault)
                    http.close()

        threads = [threading.Thread(target=ask, args=(i % 2 == 0,)) for i in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert faults == []
        assert answers == [200] * 240
        end = time.monotonic() + 20
        while first & workers_of(master):
            assert time.monotonic() < end, "none was renewed"
            time.sleep(0.1)
    finally:
        process.terminate()
        process.communicate(timeout=60)
