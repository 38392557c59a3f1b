"""python -m standins --port 8071 --store FILE [--setup FILE]"""

from __future__ import annotations

import argparse
import logging

from waitress import serve

from .app import create_app, read_setup, start_background


def main() -> None:
    parser = argparse.ArgumentParser(description="Simulated shops, tills, ledgers and suppliers on loopback.")
    parser.add_argument("--port", type=int, default=8071)
    parser.add_argument("--store", default=".data/standins.sqlite")
    parser.add_argument("--setup")
    parser.add_argument("--mail", help="the folder that mail is put into instead of being sent")
    options = parser.parse_args()
    app = create_app(options.store, read_setup(options.setup))
    app.config["MAIL"] = options.mail
    start_background()
    print(f"stand-ins on http://127.0.0.1:{options.port}", flush=True)
    # Several connections reading at once fill its queue for a moment; that is no news.
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    serve(app, host="127.0.0.1", port=options.port, threads=8, _quiet=True)


if __name__ == "__main__":
    main()
