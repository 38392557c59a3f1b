"""How long what is drawn by chance goes on: short in each run, long where somebody asks for it (`script/test long`)."""

from __future__ import annotations

import os

LONG = bool(os.environ.get("YUVREL_LONG"))


def drawn(long: int, short: int) -> int:
    """How many are drawn: in the long form, and in each run."""
    return long if LONG else short
