"""Workers that are there at once: this program has loaded everything and forks one whenever a line asks for it.

Run as a process of its own: `start` answers when a worker runs, `stop` when it has ended; the end of input ends both.
"""

from __future__ import annotations

import os
import signal
import sys
import time

import django
from django.core.management import call_command

from yuvrel.platform.memory import look_seldom

PATIENCE = 15.0


def start() -> int:
    """Fork a worker. Returns its process id."""
    worker = os.fork()
    if worker:
        return worker
    silent = os.open(os.devnull, os.O_RDWR)
    for stream in (0, 1, 2):
        os.dup2(silent, stream)
    try:
        call_command("work", "--concurrency", "3")
    finally:
        os._exit(0)


def stop(worker: int) -> None:
    """Ask a worker to end, and see to it that it does."""
    os.kill(worker, signal.SIGTERM)
    end = time.monotonic() + PATIENCE
    while os.waitpid(worker, os.WNOHANG) == (0, 0):
        if time.monotonic() > end:
            os.kill(worker, signal.SIGKILL)
        time.sleep(0.02)


def main() -> None:
    """Do as the lines say."""
    django.setup()
    look_seldom()  # each worker would look through all of this anew
    worker = 0
    for line in sys.stdin:
        if line.strip() == "start":
            worker = start()
        elif worker:
            stop(worker)
            worker = 0
        print(worker, flush=True)
    if worker:
        stop(worker)


if __name__ == "__main__":
    main()
