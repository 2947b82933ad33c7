"""What it costs to export data, against writing the same bytes by hand."""

import io
import tempfile
import time
import zipfile
from pathlib import Path

from bench.ratio import Row, compare
from bench.served import Served, pendulum_run
from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.document import package, tables
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from cavrel.present import export
from cavrel.service import archive

RUNS, SAMPLES = 200, 5000


def trace() -> Row:
    """The package of a run with a trace of 5 000 samples, against zipping the same files."""
    program = catalogue.program_of(catalogue.experiments()["newton-second-law"])
    document = simulate(program, 2)
    samples = [round(0.0016 * i + 0.004 * ((i * 7919) % 13 - 6), 4) for i in range(SAMPLES)]
    document["traces"] = {"force": {"a": [{"rate": "100 Hz", "values": samples, "unit": "m/s"}]}}
    analysis = analyse(program, load(document))

    def ours() -> bytes:
        return package.archive("A trace", "newton-second-law", tables.tables(analysis), {"run.json": document})

    with zipfile.ZipFile(io.BytesIO(ours())) as packed:
        files = {name: packed.read(name) for name in packed.namelist()}
    what = f"package of a trace of {SAMPLES} samples, against zipping its bytes"
    return compare(what, ours, lambda: _zipped(files), "within 10×", 10.0, rounds=15)


def course(here: Served) -> list[Row]:
    """The archive of 200 runs, against zipping the same packages."""
    for i in range(RUNS):
        pendulum_run(here, f"One of two hundred {i}")
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "course.zip"

        def ours() -> None:
            file.unlink(missing_ok=True)
            archive.course(here.pool, "", file, lambda o: (f"{export.file_name(o)}.zip", export.package_of(o)))

        began = time.perf_counter()
        ours()
        took = time.perf_counter() - began
        with zipfile.ZipFile(file) as packed:
            files = {name: packed.read(name) for name in packed.namelist()}
        inner = {}
        for name, body in files.items():
            if name.endswith(".zip"):
                with zipfile.ZipFile(io.BytesIO(body)) as one:
                    inner[name] = {part: one.read(part) for part in one.namelist()}

        def by_hand() -> None:
            _zipped({name: _zipped(parts) for name, parts in inner.items()})

        began = time.perf_counter()
        by_hand()
        theirs = time.perf_counter() - began
        return [Row(f"archive of {RUNS} runs, against zipping its bytes", took, theirs, "within 30×", 30.0)]


def _zipped(files: dict[str, bytes]) -> bytes:
    sink = io.BytesIO()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, body in files.items():
            packed.writestr(name, body)
    return sink.getvalue()
