"""In which language a connection is told of goods: texts of products and words, where they were said in it."""

from __future__ import annotations

from collections.abc import Iterable

from yuvrel.catalogue.languages import LANGUAGES, wording
from yuvrel.connectors.capabilities import Capability
from yuvrel.core.rules import OF_CONNECTIONS, Setting
from yuvrel.core.wording import Wording
from yuvrel.people.roles import Ability
from yuvrel.rules.queries import settled
from yuvrel.rules.registry import declare

from .models import Connection
from .rules import connection_rungs

NAME = "language_there"
declare(
    Setting(
        NAME,
        "Language there",
        "In which titles, descriptions, options, categories and tags are sent and read. What has no text in it yet waits.",
        "choice",
        "",
        choices=(("", "as they are written here"), *LANGUAGES.items()),
        levels=OF_CONNECTIONS,
        group="Listings",
        ability=Ability.CONNECT.value,
        needs=Capability.LISTINGS.value,
    )
)


def language_of(connection: Connection) -> str:
    """The code of a connection's language; empty: ours."""
    return str(settled(connection_rungs(connection), [NAME])[NAME].value)


def wording_of(connection: Connection, products: Iterable[int]) -> Wording:
    """How products are said there, in two queries and those for the rule."""
    return wording(language_of(connection), products)
