"""The process that works apart: it hears what to do over one line, and ends with it."""

from __future__ import annotations

import resource
import signal
import sys
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from yuvrel.core.content import render
from yuvrel.core.errors import BadInputError, YuvrelError
from yuvrel.core.sheet_reading import read_any

JOBS = {"render": render, "read_any": read_any}
TOO_MUCH = "It takes more memory than is allowed, and was broken off."


def bound(megabytes: int) -> None:
    """No more memory than so much beyond what is in use now."""
    pages = int(Path("/proc/self/statm").read_text().split()[0])
    most = pages * resource.getpagesize() + megabytes * 1_000_000
    resource.setrlimit(resource.RLIMIT_AS, (most, most))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def answer(line: Connection, job: str, given: tuple[Any, ...], told: bool) -> Any:
    """What the job makes of it, or the error of ours it ends with."""
    try:
        if told:
            return JOBS[job](*given, tell=lambda done, total: line.send(("told", (done, total))))  # type: ignore[operator]
        return JOBS[job](*given)  # type: ignore[operator]
    except YuvrelError as error:
        return type(error)(error.detail, field=error.field)
    except MemoryError:
        return BadInputError(TOO_MUCH)
    except Exception as error:
        return BadInputError(f"It cannot be read ({type(error).__name__}).")


def serve(line: Connection) -> None:
    """Work until the other end is gone. Who asked may be gone as well: a job that outlives its time ends the process."""
    line.send("ready")
    while True:
        try:
            job, given, seconds, told = line.recv()
        except EOFError:
            return
        signal.alarm(int(seconds) + 5)
        line.send(("done", answer(line, job, given, told)))
        signal.alarm(0)


if __name__ == "__main__":
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    bound(int(sys.argv[2]))
    serve(Connection(int(sys.argv[1])))
