"""Secrets and settings from the environment; a missing one fails loudly at start."""

from __future__ import annotations

import os
from pathlib import Path

from django.core.exceptions import ImproperlyConfigured


def setting(name: str, default: str | None = None) -> str:
    """The value of `name`, or of the file that `name`_FILE points at, or the default."""
    if name in os.environ:
        return os.environ[name]
    path = os.environ.get(f"{name}_FILE")
    if path:
        return Path(path).read_text().strip()
    if default is None:
        raise ImproperlyConfigured(f"Set {name} (or {name}_FILE) in the environment; script/demo writes one to .data/env.")
    return default


def flag(name: str, default: bool = False) -> bool:
    """True for 1, true, yes, on."""
    return setting(name, str(default)).lower() in ("1", "true", "yes", "on")
