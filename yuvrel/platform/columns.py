"""How quantities, money and costs are kept, said once."""

from typing import Any

QUANTITY: dict[str, Any] = {"max_digits": 18, "decimal_places": 3}
MONEY: dict[str, Any] = {"max_digits": 18, "decimal_places": 2}
UNIT_COST: dict[str, Any] = {"max_digits": 18, "decimal_places": 6}
RATE: dict[str, Any] = {"max_digits": 18, "decimal_places": 6}
PERCENT: dict[str, Any] = {"max_digits": 5, "decimal_places": 2}
