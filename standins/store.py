"""The stand-ins' own storage: documents in SQLite, one transaction a request."""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

Doc = dict[str, Any]


def now() -> str:
    """The time here, as ISO 8601 in UTC."""
    return datetime.now(UTC).isoformat(timespec="microseconds")


class Store:
    """Documents by account, kind and id, in the order in which they were last written."""

    def __init__(self, path: str) -> None:
        self._lock = threading.RLock()
        self._db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        self._db.execute("PRAGMA journal_mode=WAL")
        self._db.execute(
            "CREATE TABLE IF NOT EXISTS doc (account TEXT, kind TEXT, id TEXT, seq INTEGER, body TEXT,"
            " PRIMARY KEY (account, kind, id))"
        )
        self._db.execute("CREATE INDEX IF NOT EXISTS doc_seq ON doc (account, kind, seq)")

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All or nothing; requests take turns."""
        with self._lock:
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
            except BaseException:
                self._db.execute("ROLLBACK")
                raise
            self._db.execute("COMMIT")

    def get(self, account: str, kind: str, key: str) -> Doc | None:
        """One document, or None."""
        row = self._db.execute("SELECT body FROM doc WHERE account=? AND kind=? AND id=?", (account, kind, key)).fetchone()
        return json.loads(row[0]) if row else None

    def put(self, account: str, kind: str, key: str, body: Doc) -> None:
        """Write a document; it becomes the newest of its kind."""
        seq = self._db.execute("SELECT coalesce(max(seq), 0) + 1 FROM doc").fetchone()[0]
        self._db.execute(
            "INSERT INTO doc VALUES (?,?,?,?,?) ON CONFLICT (account, kind, id)"
            " DO UPDATE SET seq=excluded.seq, body=excluded.body",
            (account, kind, key, seq, json.dumps(body)),
        )

    def amend(self, account: str, kind: str, key: str, body: Doc) -> None:
        """Write a document that exists without changing its place."""
        self._db.execute("UPDATE doc SET body=? WHERE account=? AND kind=? AND id=?", (json.dumps(body), account, kind, key))

    def rows(self, account: str, kind: str, after: int = 0, limit: int = -1) -> list[tuple[int, Doc]]:
        """(place, document) in writing order."""
        found = self._db.execute(
            "SELECT seq, body FROM doc WHERE account=? AND kind=? AND seq>? ORDER BY seq LIMIT ?",
            (account, kind, after, limit),
        )
        return [(seq, json.loads(body)) for seq, body in found]

    def all(self, account: str, kind: str) -> list[Doc]:
        """Every document of a kind."""
        return [body for _, body in self.rows(account, kind)]

    def accounts(self) -> list[tuple[str, str]]:
        """(account, sort) of everything set up."""
        found = self._db.execute("SELECT account, body FROM doc WHERE kind='account' ORDER BY seq")
        return [(account, json.loads(body)["sort"]) for account, body in found]

    def load(self, setup: dict[str, dict[str, Any]]) -> None:
        """Fill with accounts: {account: {"account": {...}, kind: [documents with id]}}."""
        with self.transaction():
            for account, kinds in setup.items():
                self.put(account, "account", account, kinds["account"])
                for kind, documents in kinds.items():
                    if kind != "account":
                        for document in documents:
                            self.put(account, kind, str(document["id"]), document)
