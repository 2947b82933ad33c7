"""Templates compiled once on a machine, not once a process: a second of the processor at each start."""

from contextlib import suppress

from jinja2 import FileSystemBytecodeCache
from jinja2.bccache import Bucket


class Compiled(FileSystemBytecodeCache):
    """Kept among the temporary files of whoever runs Cavrel. A folder that was cleared away or a full disk costs time, never a page."""

    def load_bytecode(self, bucket: Bucket) -> None:
        try:
            super().load_bytecode(bucket)
        except Exception:  # a file that a crash cut short, wherever it was cut
            bucket.reset()

    def dump_bytecode(self, bucket: Bucket) -> None:
        with suppress(OSError):
            super().dump_bytecode(bucket)


def templates() -> Compiled | None:
    """None where no such folder can be had."""
    try:
        return Compiled()
    except (RuntimeError, OSError):
        return None
