"""The kinds there are. Adding one is a folder beside these and a line here."""

from __future__ import annotations

from .base import Connector
from .ledger.connector import Ledger
from .market.connector import Market
from .supplier.connector import SupplierInbox
from .till.connector import Till
from .web_shop.connector import WebShop

KINDS: dict[str, type[Connector]] = {c.kind: c for c in (WebShop, Market, Till, Ledger, SupplierInbox)}
