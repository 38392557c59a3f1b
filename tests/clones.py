"""Databases for tests: each cloned in a moment from a template that was migrated, or seeded with Larkmead, once.

A template's name holds a hash of what it is made from, so a change of the code makes a new one. Nobody may be
connected to a template while it is cloned, so templates are made and cloned under a lock of their kind: who wants an
empty database does not wait until the demo is seeded.
"""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg
from django.conf import settings
from django.core.management import call_command
from django.db import connection, connections
from psycopg import sql

ROOT = Path(__file__).resolve().parents[1]
FOLDER = Path(os.environ.get("YUVREL_DATA") or ROOT / ".data" / "test")
LARKMEAD_AT = datetime(2027, 3, 14, 10, 0, tzinfo=UTC)
# Nobody answers there: a demo that runs beside the tests is none of their business.
STANDINS = "http://127.0.0.1:9"


def mine(kind: str) -> str:
    """The name of this process's own database of a kind."""
    return f"{kind}_{os.getpid()}"


def _hash(*patterns: str) -> str:
    found = hashlib.sha256()
    for pattern in patterns:
        for path in sorted(ROOT.glob(pattern)):
            found.update(str(path.relative_to(ROOT)).encode() + b"\0" + path.read_bytes())
    return found.hexdigest()[:12]


@contextmanager
def _alone(kind: str) -> Iterator[None]:
    FOLDER.mkdir(parents=True, exist_ok=True)
    with (FOLDER / f"{kind}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def _server(statement: str, *names: str) -> list[Any]:
    """A statement about whole databases, said outside all of them."""
    db = settings.DATABASES["default"]
    address = {"host": db["HOST"], "port": db["PORT"], "user": db["USER"], "password": db["PASSWORD"], "dbname": "postgres"}
    with psycopg.connect(**address, autocommit=True) as server:
        cursor = server.execute(sql.SQL(statement).format(*(sql.Identifier(name) for name in names)))
        return cursor.fetchall() if cursor.description else []


def point_at(name: str) -> None:
    """Have this process work on another database."""
    connections.close_all()
    connection.settings_dict["NAME"] = settings.DATABASES["default"]["NAME"] = name


def _databases() -> set[str]:
    return {row[0] for row in _server("SELECT datname FROM pg_database")}


def drop(name: str) -> None:
    """Take a database away, whoever is still connected."""
    _server("DROP DATABASE IF EXISTS {} WITH (FORCE)", name)


def _template(kind: str, key: str, make: Callable[[], None], source: str = "template0") -> str:
    """The template of a kind, made when there is none of this key; the caller holds the lock."""
    name = f"like_{kind}_{key}"
    known = _databases()
    if name in known:
        return name
    for old in (n for n in known if re.fullmatch(rf"(making_)?like_{kind}_\w+", n)):
        drop(old)
    before = connection.settings_dict["NAME"]
    draft = f"making_{name}"
    _server("CREATE DATABASE {} TEMPLATE {}", draft, source)
    point_at(draft)
    try:
        make()
    finally:
        point_at(before)
    _server("ALTER DATABASE {} RENAME TO {}", draft, name)
    return name


def _migrated() -> str:
    """The template with all tables and nothing in them; the caller holds its lock."""
    key = _hash("yuvrel/*/migrations/*.py", "requirements.lock")
    return _template("migrated", key, lambda: call_command("migrate", verbosity=0, skip_checks=True))


def _sweep() -> None:
    """Databases of processes that are no more."""
    for name in _databases():
        owner = re.fullmatch(r"(?:test|larkmead)_(\d+)", name)
        if owner and not Path(f"/proc/{owner[1]}").exists():
            drop(name)


def fresh(name: str) -> str:
    """A database of this name with all tables and nothing in them."""
    with _alone("migrated"):
        _sweep()
        _server("CREATE DATABASE {} TEMPLATE {}", name, _migrated())
    return name


def _seed(setup: Path) -> None:
    from tests.world import forget_accounts
    from yuvrel.demo.seed import Seeder

    forget_accounts()
    setup.write_text(json.dumps(Seeder(STANDINS, LARKMEAD_AT).run(), default=str))
    forget_accounts()


def larkmead(name: str) -> dict[str, dict[str, Any]]:
    """A database of this name with the demo as it stands on first opening; what its stand-ins begin with."""
    with _alone("larkmead"):
        with _alone("migrated"):
            empty = _migrated()
        key = _hash("yuvrel/**/*.py", "requirements.lock")
        setup = FOLDER / f"larkmead-{key}.json"
        seeded = _template("larkmead", key, lambda: _seed(setup), empty)
        _server("CREATE DATABASE {} TEMPLATE {}", name, seeded)
    found: dict[str, dict[str, Any]] = json.loads(setup.read_text())
    return found
