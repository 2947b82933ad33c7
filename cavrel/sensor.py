"""A simulation for a sensor with a program of its own: it sends samples into a run over HTTP, as any other sensor would."""

import json
import math
import random
import secrets
import time
from collections.abc import Callable, Iterator
from urllib.error import HTTPError, URLError
from urllib.request import Request, urlopen

from cavrel.core.errors import CavrelError


def ask(url: str, body: object = None) -> tuple[int, dict[str, object]]:
    """(status, answer) of a request. Raises CavrelError where nobody answers."""
    data = None if body is None else json.dumps(body).encode()
    request = Request(url, data, {"Content-Type": "application/json", "Accept": "application/json"})
    try:
        with urlopen(request, timeout=10) as answer:
            return answer.status, json.load(answer)
    except HTTPError as fault:
        try:
            return fault.code, json.load(fault)
        except ValueError:
            return fault.code, {}
    except (URLError, TimeoutError, ConnectionError) as fault:
        raise CavrelError(url, f"does not answer: {fault}") from fault


def cart(rate: float, seconds: float, slope: float, seed: int) -> Iterator[tuple[float, float]]:
    """Speeds of a cart that rests, speeds up and is stopped, again and again: (time s, m/s)."""
    draw = random.Random(seed)
    for i in range(round(rate * seconds)):
        t = i / rate
        phase = t % 4
        v = 0.0 if phase < 0.6 or phase > 3 else slope * (phase - 0.6)
        yield t, v + draw.gauss(0.0, 0.01 * slope)


def swing(rate: float, seconds: float, size: float, seed: int) -> Iterator[tuple[float, float]]:
    """A swing that dies away: (time s, position)."""
    draw = random.Random(seed)
    for i in range(round(rate * seconds)):
        t = i / rate
        yield t, size * math.exp(-t / 40) * math.cos(2 * math.pi * t / 1.7) + draw.gauss(0.0, 0.01 * size)


STAND_INS = {"cart": cart, "swing": swing}


def play(
    server: str,
    run: int,
    samples: Iterator[tuple[float, float]],
    block: int,
    speed: float,
    say: Callable[[str], None],
    patience: float = 60.0,
) -> int:
    """Send ``samples`` in blocks of ``block`` at the times they were taken, ``speed`` times as fast, as soon as a page listens; return how many were
    kept. A block that got no answer is sent again. Raises CavrelError."""
    status, where = ask(f"{server}/runs/{run}/live.json")
    if status != 200:
        raise CavrelError(f"run {run}", "is no run of this server")
    url = f"{server}{where['send_to']}"
    kept, seq, began, source = 0, 0, 0.0, secrets.token_hex(8)
    pending: list[tuple[float, float]] = []

    def send() -> bool:
        nonlocal kept, seq
        body = {"source": source, "seq": seq + 1, "times": [t for t, _ in pending], "values": [v for _, v in pending]}
        give_up = time.monotonic() + patience
        while True:
            try:
                status, answer = ask(url, body)
            except CavrelError:
                status, answer = 503, {}
            if status == 200:
                seq, kept = seq + 1, int(str(answer["kept"]))
                pending.clear()
                return True
            if status == 409 and seq:
                return False  # the page has stopped
            if status in (404, 422):
                raise CavrelError(url, str(answer.get("what", "is not known")))
            if time.monotonic() > give_up:
                raise CavrelError(url, "nobody listens: press Listen at a row that takes samples")
            if status == 409 and give_up - time.monotonic() > patience - 0.3:
                say("waiting until a page listens")
            time.sleep(0.2)

    for t, v in samples:
        pending.append((t, v))
        if len(pending) < block:
            continue
        first = seq == 0
        if not first:
            time.sleep(max(0.0, began + t / speed - time.monotonic()))
        if not send():
            break
        if first:
            began = time.monotonic() - t / speed
    if pending:
        send()
    return kept
