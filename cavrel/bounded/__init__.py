"""Work within limits, in a process of its own: see the README."""

from cavrel.bounded.pool import Over, Task, run, within

__all__ = ["Over", "Task", "run", "within"]
