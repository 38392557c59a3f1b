"""How quantities, money and costs are kept, said once; and how many ids are asked for at once."""

from collections.abc import Iterable
from typing import Any

from django.db.models import Field, ForeignKey, Lookup

QUANTITY: dict[str, Any] = {"max_digits": 18, "decimal_places": 3}
MONEY: dict[str, Any] = {"max_digits": 18, "decimal_places": 2}
UNIT_COST: dict[str, Any] = {"max_digits": 18, "decimal_places": 6}
RATE: dict[str, Any] = {"max_digits": 18, "decimal_places": 6}
PERCENT: dict[str, Any] = {"max_digits": 5, "decimal_places": 2}


class Many:
    """Ids that several statements ask for: put together once, and not looked through one by one for each of them."""

    def __init__(self, ids: Iterable[int]) -> None:
        self.ids = frozenset(ids)
        self.array = f"{{{','.join(map(str, self.ids))}}}"


@Field.register_lookup
@ForeignKey.register_lookup
class AnyOf(Lookup):  # type: ignore[type-arg]
    """`pk__any_of=ids`, whole numbers or Many: as `in`, but they go as one array. With tens of thousands of them a statement
    with a place for each took longer to put together here than to carry out."""

    lookup_name = "any_of"
    prepare_rhs = False

    def as_sql(self, compiler: Any, connection: Any) -> Any:
        """The column is one of the array."""
        lhs, params = self.process_lhs(compiler, connection)
        asked = self.rhs if isinstance(self.rhs, Many) else Many(self.rhs)
        return f"{lhs} = ANY(%s::bigint[])", (*params, asked.array)
