"""The stand-ins' own storage: documents in SQLite, one transaction a request."""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

Doc = dict[str, Any]


def _stamp(body: Doc) -> str:
    """When a document last changed, by its account's own clock; empty for what carries no such time."""
    return str(body.get("updated_at") or body.get("uploaded_at") or "")


class Store:
    """Documents by account, kind and id, in the order in which they were last written."""

    def __init__(self, path: str) -> None:
        self._lock = threading.RLock()
        self._indexes: dict[tuple[str, str], tuple[int, dict[str, str]]] = {}
        self._db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        self._db.execute("PRAGMA journal_mode=WAL")
        self._db.execute("PRAGMA synchronous=NORMAL")
        self._db.execute(
            "CREATE TABLE IF NOT EXISTS doc (account TEXT, kind TEXT, id TEXT, seq INTEGER, stamp TEXT, body TEXT,"
            " PRIMARY KEY (account, kind, id))"
        )
        self._db.execute("CREATE INDEX IF NOT EXISTS doc_seq ON doc (account, kind, seq)")
        self._db.execute("CREATE INDEX IF NOT EXISTS doc_newest ON doc (seq)")

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
            "INSERT INTO doc VALUES (?,?,?,?,?,?) ON CONFLICT (account, kind, id)"
            " DO UPDATE SET seq=excluded.seq, stamp=excluded.stamp, body=excluded.body",
            (account, kind, key, seq, _stamp(body), json.dumps(body)),
        )

    def amend(self, account: str, kind: str, key: str, body: Doc) -> None:
        """Write a document that exists without changing its place."""
        self._db.execute(
            "UPDATE doc SET body=?, stamp=? WHERE account=? AND kind=? AND id=?",
            (json.dumps(body), _stamp(body), account, kind, key),
        )

    def rows(self, account: str, kind: str, after: int = 0, limit: int = -1, since: str = "") -> list[tuple[int, Doc]]:
        """(place, document) in writing order, changed at `since` or later."""
        found = self._db.execute(
            "SELECT seq, body FROM doc WHERE account=? AND kind=? AND seq>? AND stamp>=? ORDER BY seq LIMIT ?",
            (account, kind, after, since, limit),
        )
        return [(seq, json.loads(body)) for seq, body in found]

    def before(self, account: str, kind: str, place: int, limit: int, since: str = "") -> list[tuple[int, Doc]]:
        """The page that ended at a place."""
        found = self._db.execute(
            "SELECT seq, body FROM doc WHERE account=? AND kind=? AND seq<=? AND stamp>=? ORDER BY seq DESC LIMIT ?",
            (account, kind, place, since, limit),
        )
        return [(seq, json.loads(body)) for seq, body in found][::-1]

    def all(self, account: str, kind: str) -> list[Doc]:
        """Every document of a kind."""
        return [body for _, body in self.rows(account, kind)]

    def index(self, account: str, kind: str, keys: Callable[[Doc], list[str]]) -> dict[str, str]:
        """From each key inside a document to the document's id; built once for as long as no document is added."""
        count = self._db.execute("SELECT count(*) FROM doc WHERE account=? AND kind=?", (account, kind)).fetchone()[0]
        held = self._indexes.get((account, kind))
        if held is None or held[0] != count:
            held = count, {key: str(body["id"]) for body in self.all(account, kind) for key in keys(body)}
            self._indexes[account, kind] = held
        return held[1]

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
