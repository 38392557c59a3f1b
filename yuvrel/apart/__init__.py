"""Work on what strangers send, done apart: in a process of its own, with bounds on its time and memory, that may be killed
without harm to whoever waits. What may be asked of it is on a list; it is given no secret and reaches no database."""

from __future__ import annotations

import atexit
import os
import subprocess
import sys
import threading
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, Pipe
from pathlib import Path
from time import monotonic
from typing import Any

from yuvrel.core.errors import BadInputError, YuvrelError

ROOT = Path(__file__).resolve().parents[2]
# What a process that starts is given of our own surroundings: where things are, and no key.
GIVEN = ("PATH", "LANG", "LC_ALL", "PYTHONPYCACHEPREFIX", "OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE")
START_SECONDS = 60.0

Tell = Callable[[int, int], bool]


class StoppedError(Exception):
    """Somebody asked for the work to stop."""


@dataclass
class _Helper:
    """One such process, and the line to it."""

    process: subprocess.Popen[bytes]
    line: Connection

    @classmethod
    def start(cls, megabytes: int) -> _Helper:
        """A new one, ready to work. Raises BadInputError where it does not come up."""
        ours, theirs = Pipe()
        surroundings = {name: os.environ[name] for name in GIVEN if name in os.environ} | {"OPENBLAS_NUM_THREADS": "1"}
        process = subprocess.Popen(  # noqa: S603 - our own interpreter and module
            [sys.executable, "-m", "yuvrel.apart", str(theirs.fileno()), str(megabytes)],
            pass_fds=(theirs.fileno(),),
            cwd=ROOT,
            env=surroundings,
            stdin=subprocess.DEVNULL,
        )
        theirs.close()
        made = cls(process, ours)
        if not ours.poll(START_SECONDS) or ours.recv() != "ready":
            made.end()
            raise BadInputError("The process that reads it did not start. Try again.")
        return made

    def end(self) -> None:
        """Kill it and leave nothing behind."""
        with suppress(OSError):
            self.line.close()
        with suppress(OSError):
            self.process.kill()
        with suppress(Exception):
            self.process.wait(10)


@dataclass
class Apart:
    """A few processes that do one sort of work: at most `at_once` at a time in this process of ours, each call for at most
    `seconds` and each process with at most `megabytes` beyond what it starts with."""

    seconds: float
    megabytes: int
    at_once: int = 2
    patience: float = 30.0
    _free: list[_Helper] = field(default_factory=list)
    _guard: threading.Lock = field(default_factory=threading.Lock)
    _owner: int = 0
    _turns: threading.BoundedSemaphore | None = None

    def call(self, job: str, *given: Any, name: str = "", tell: Tell | None = None) -> Any:
        """What the job on this list makes of what it is given. `tell` hears how far it is (done, total) and may answer
        that it shall stop.

        Raises BadInputError, for the field `name`, where it takes too long, takes too much memory or breaks off, and
        whatever error of ours the work itself ends with; StoppedError where it was stopped.
        """
        turns = self._ready()
        if not turns.acquire(timeout=self.patience):
            raise BadInputError("Others are being worked on just now. Try again in a moment.", field=name)
        helper, whole = None, False
        try:
            helper = self._take()
            answer = self._ask(helper, job, given, name, tell)
            whole = True
        finally:
            if helper is not None and whole:
                with self._guard:
                    self._free.append(helper)
            elif helper is not None:
                helper.end()
            turns.release()
        if isinstance(answer, YuvrelError):
            answer.field = answer.field or name
            raise answer
        return answer

    def _ready(self) -> threading.BoundedSemaphore:
        """Made anew in a process that was forked from another: lines are not shared."""
        with self._guard:
            if self._owner != os.getpid() or self._turns is None:
                self._owner, self._free = os.getpid(), []
                self._turns = threading.BoundedSemaphore(self.at_once)
                atexit.register(self.end)
            return self._turns

    def _take(self) -> _Helper:
        with self._guard:
            while self._free:
                helper = self._free.pop()
                if helper.process.poll() is None:
                    return helper
                helper.end()
        return _Helper.start(self.megabytes)

    def _ask(self, helper: _Helper, job: str, given: tuple[Any, ...], name: str, tell: Tell | None) -> Any:
        end = monotonic() + self.seconds
        try:
            helper.line.send((job, given, self.seconds, tell is not None))
            while True:
                if not helper.line.poll(max(0.0, end - monotonic())):
                    raise BadInputError(f"It takes longer than {self.seconds:g} seconds and was broken off.", field=name)
                what, answer = helper.line.recv()
                if what == "done":
                    return answer
                if tell is not None and tell(*answer):
                    raise StoppedError
        except (EOFError, OSError) as error:
            raise BadInputError("It takes more memory or time than is allowed, and was broken off.", field=name) from error

    def end(self) -> None:
        """End every process that waits for work."""
        with self._guard:
            mine, self._free = (self._free, []) if self._owner == os.getpid() else ([], [])
        for helper in mine:
            helper.end()


def rendered(text: str, facts: Mapping[str, Any], field: str) -> str:
    """What a template says of an item, as `core.content.render`, within two seconds. Raises BadInputError."""
    return str(TEMPLATES.call("render", text, dict(facts), field, name=field))


TEMPLATES = Apart(seconds=2.0, megabytes=256)
# Files in the background, and those that somebody waits for in a request.
FILES = Apart(seconds=120.0, megabytes=1024, patience=600.0)
SMALL_FILES = Apart(seconds=20.0, megabytes=512, patience=5.0)
