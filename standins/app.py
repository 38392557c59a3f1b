"""All stand-ins in one process: simulated outside services with their own storage and pages."""

from __future__ import annotations

import json
from email import message_from_bytes
from email.policy import default
from pathlib import Path
from typing import Any

from flask import Flask, Response, current_app, redirect, render_template, request

from . import faults, hooks, ledger, market, shop, supplier, till
from .common import refusal, store
from .store import Store


def create_app(path: str, setup: dict[str, Any] | None = None) -> Flask:
    """The application on a store; `setup` fills a store that is empty."""
    app = Flask(__name__)
    app.config["STORE"] = Store(path)
    app.config["MAX_CONTENT_LENGTH"] = 5_000_000
    if setup and not app.config["STORE"].accounts():
        app.config["STORE"].load(setup)
    for module in (shop, market, till, ledger, supplier):
        app.register_blueprint(module.bp)

    app.add_url_rule("/mail", view_func=_mail)

    @app.get("/")
    def home() -> Any:
        return render_template(
            "home.html", accounts=[(sort, name, store().get(name, "account", name)) for name, sort in store().accounts()]
        )

    @app.get("/switchboard/<account>")
    def read_switchboard(account: str) -> Any:
        """The faults there are and which are on."""
        if store().get(account, "account", account) is None:
            return refusal(404, "There is no such account.")
        return {"faults": faults.FAULTS, **faults.board(store(), account)}

    @app.post("/switchboard/<account>")
    def switchboard(account: str) -> Any:
        """Set the faults of an account: JSON {"on": {fault: share}, "seed": n, "late": seconds}, or a form."""
        data = request.get_json(silent=True)
        if data is None:
            share = float(request.form.get("share") or 100) / 100
            on = {name: share for name in request.form if name in faults.FAULTS}
            data = {"on": on, "seed": request.form.get("seed") or 1}
        with store().transaction():
            if store().get(account, "account", account) is None:
                return refusal(404, "There is no such account.")
            board = faults.switch(
                store(), account, data.get("on", {}), int(data.get("seed", 1)), float(data.get("late", faults.LATE))
            )
        back = request.form.get("back", "")
        return redirect(back) if back.startswith("/") else board

    @app.errorhandler(ValueError)
    def bad_value(error: ValueError) -> Response:
        return refusal(422, f"Cannot read a value: {error}")

    return app


def _mail() -> Any:
    """What would have been sent, the newest first."""
    return render_template("mail.html", letters=letters(current_app.config.get("MAIL")))


def letters(folder: str | None) -> list[dict[str, str]]:
    """The newest mails in a folder, each file of which may hold several."""
    found: list[dict[str, str]] = []
    files = sorted(Path(folder).glob("*.log"), key=lambda path: path.stat().st_mtime) if folder and Path(folder).is_dir() else []
    for path in files[-30:]:
        for text in path.read_bytes().split(b"\n" + b"-" * 79 + b"\n"):
            if text.strip():
                letter = message_from_bytes(text.lstrip(), policy=default)
                body = letter.get_body(("plain",))
                heads = {name: str(letter[name] or "") for name in ("To", "Subject", "Date")}
                found.append({**heads, "text": body.get_content() if body else ""})
    return found[::-1]


def read_setup(path: str | None) -> dict[str, Any] | None:
    """The accounts to start with, from a JSON file."""
    if not path or not Path(path).exists():
        return None
    found: dict[str, Any] = json.loads(Path(path).read_text())
    return found


def start_background() -> None:
    """Threads that belong to a serving process."""
    hooks.start()
