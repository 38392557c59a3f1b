"""What something costs the buyer: lists that are typed, derived from another or worked out from cost, and who speaks.

A list gives an item a price at a quantity on a day, or stays silent; then the next list in the order of precedence
speaks. Every amount is rounded half up to the list's currency at each step, the ending comes last. `price_columns`
does for many items and lists at once what `PriceBook` does for one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from decimal import ROUND_FLOOR, Decimal
from enum import StrEnum
from typing import Literal

from .errors import BadInputError
from .money import ZERO, minor_unit, round_money, spoken
from .working import Step, Working

HUNDRED = Decimal(100)
ONE = Decimal(1)
MOST_PRICE = Decimal(10) ** 7


class Method(StrEnum):
    """How a list comes to a price that was not typed."""

    TYPED = "typed"
    DERIVED = "derived"
    MARGIN = "margin"
    MARKUP = "markup"
    PARTS = "parts"


class Rounding(StrEnum):
    """Which price with the ending is taken."""

    UP = "up"
    NEAREST = "nearest"
    DOWN = "down"


Basis = Literal["average", "last"]
BASES = {"average": "moving average cost", "last": "last cost"}


@dataclass(frozen=True)
class PriceList:
    """A list: `taxed` prices hold the tax; `percent` is what is put on the parent, the margin or the markup; `rate` is
    how much of its currency one unit of the parent's (or, from cost, of the company's) is worth."""

    key: int
    name: str
    currency: str = "EUR"
    taxed: bool = True
    method: Method = Method.TYPED
    parent: int = 0
    percent: Decimal = ZERO
    amount: Decimal = ZERO
    rate: Decimal = ONE
    ending: Decimal | None = None
    rounding: Rounding = Rounding.UP
    basis: Basis = "average"
    starts: date | None = None
    ends: date | None = None

    def __post_init__(self) -> None:
        if self.method == Method.DERIVED and not self.parent:
            raise BadInputError("A derived list needs a list to follow.", field="parent_id")
        if self.method == Method.DERIVED and self.percent <= -HUNDRED:
            raise BadInputError("More than everything cannot be taken off.", field="percent")
        if self.method == Method.MARGIN and not 0 <= self.percent < HUNDRED:
            raise BadInputError("A margin lies between 0 and below 100 %.", field="percent")
        if self.method == Method.MARKUP and self.percent < 0:
            raise BadInputError("A markup is not below zero.", field="percent")
        if self.rate <= 0:
            raise BadInputError("A rate must be greater than zero.", field="rate")
        if self.ending is not None:
            ending_step(self.ending, self.currency)
        if self.starts and self.ends and self.ends < self.starts:
            raise BadInputError("It ends before it starts.", field="ends_on")

    def speaks(self, day: date) -> bool:
        """Whether the list is in force on a day; both days count."""
        return within(day, self.starts, self.ends)


def within(day: date, starts: date | None, ends: date | None) -> bool:
    """Whether a day lies between two days that both count; None is open."""
    return (starts is None or starts <= day) and (ends is None or day <= ends)


@dataclass(frozen=True)
class Entry:
    """A price typed into a list, from a quantity on, between two days that both count."""

    list: int
    item: int
    price: Decimal
    from_quantity: Decimal = ZERO
    previous: Decimal | None = None
    starts: date | None = None
    ends: date | None = None
    key: int = 0

    @property
    def is_dated(self) -> bool:
        """Whether it stands in for another price only for a time."""
        return self.starts is not None or self.ends is not None


@dataclass(frozen=True)
class ItemFacts:
    """What an item brings to its prices: per cent of tax, cost of one by basis (None where it is not known)."""

    tax_percent: Decimal = ZERO
    average: Decimal | None = None
    last: Decimal | None = None

    def cost(self, basis: Basis) -> Decimal | None:
        """Cost of one in the company's currency."""
        found = self.average if basis == "average" else self.last
        return found if found else None


@dataclass(frozen=True)
class Together:
    """A bundle that costs what its parts do: (item, how many in one), its SKU as the Working says it, and the per cent
    taken off the sum."""

    parts: tuple[tuple[int, Decimal, str], ...]
    percent_off: Decimal = ZERO

    def __post_init__(self) -> None:
        if not 0 <= self.percent_off < HUNDRED:
            raise BadInputError("What is taken off the parts lies between 0 and below 100 %.", field="percent_off")


@dataclass(frozen=True)
class Price:
    """What a list says of an item: the amount in the list's currency, how it came about, and what stood there before."""

    amount: Decimal
    list: PriceList
    how: Method
    steps: tuple[Step, ...]
    previous: Decimal | None = None
    entry: Entry | None = None


def ending_step(ending: Decimal, currency: str) -> Decimal:
    """How far apart prices with an ending lie: 1 for .95, 10 for 9.00. Raises BadInputError when the ending is below
    zero, above 99.99… or finer than the currency."""
    unit = minor_unit(currency)
    if not 0 <= ending < HUNDRED:
        raise BadInputError("An ending lies between 0 and below 100, such as 0.95 or 9.00.", field="ending")
    if ending % unit:
        raise BadInputError(f"{spoken(ending)} is finer than {currency} has coins.", field="ending")
    return ONE if ending < 1 else Decimal(10) if ending < 10 else HUNDRED


def with_ending(amount: Decimal, ending: Decimal, rounding: Rounding = Rounding.UP, currency: str = "EUR") -> Decimal:
    """The price with the ending: the one above, below or nearest (at the half, the one above); never zero or less.

    Check: 13.80 with .95 -> 13.95; 13.95 stays.
    """
    step = ending_step(ending, currency)
    below = ((amount - ending) / step).to_integral_value(rounding=ROUND_FLOOR) * step + ending
    if below == amount:
        return amount
    above = below + step
    down = rounding == Rounding.DOWN or (rounding == Rounding.NEAREST and amount - below < above - amount)
    return below if down and below > 0 else above


def put_tax(net: Decimal, percent: Decimal, currency: str = "EUR") -> Decimal:
    """A net price with its tax, rounded half up. Check: 10.00 at 20 % -> 12.00."""
    return round_money(net * (HUNDRED + percent) / HUNDRED, currency)


def take_tax(gross: Decimal, percent: Decimal, currency: str = "EUR") -> Decimal:
    """The net of a price with tax, rounded half up."""
    return round_money(gross * HUNDRED / (HUNDRED + percent), currency)


def in_other_terms(price: Decimal, taxed: bool, wanted: bool, percent: Decimal, currency: str = "EUR") -> Decimal:
    """A price that holds the tax, or not, as one that does, or not; rounded half up where it differs."""
    if taxed == wanted:
        return price
    return put_tax(price, percent, currency) if wanted else take_tax(price, percent, currency)


def from_quantity(least: Decimal | None) -> Decimal:
    """The quantity from which a price counts, as it is kept: from one on is from the first, which is 0."""
    return ZERO if least is None or least <= 1 else least


def net_from_cost(cost: Decimal, method: Method, percent: Decimal) -> Decimal:
    """The net price, not rounded, at which `percent` is the margin (of the price) or the markup (on the cost).

    Check: 6.00 at 40 % -> margin 10.00, markup 8.40.
    """
    return cost * HUNDRED / (HUNDRED - percent) if method == Method.MARGIN else cost * (HUNDRED + percent) / HUNDRED


def sum_of_parts(parts: Iterable[tuple[Decimal, Decimal]], percent_off: Decimal, currency: str = "EUR") -> Decimal | None:
    """What a bundle of (price of one, how many) comes to less `percent_off`, rounded half up once, at the end; None where
    that is nothing, or more than a price can be.

    Check: 19.95 × 2 + 7.55 less 10 % = 47.45 × 0.9 = 42.705 -> 42.71.
    """
    worth = sum((price * each for price, each in parts), ZERO)
    amount = round_money(worth * (HUNDRED - percent_off) / HUNDRED, currency)
    return amount if 0 < amount < MOST_PRICE else None


def margin_percent(net: Decimal, cost: Decimal) -> Decimal | None:
    """(net - cost) ÷ net in per cent, not rounded; None where there is no price to speak of."""
    return (net - cost) * HUNDRED / net if net > 0 else None


def newest_first(entry: Entry) -> tuple[Decimal, bool, date, int]:
    """The order in which entries of one item speak: the highest quantity they begin at, then what began last."""
    return entry.from_quantity, entry.is_dated, entry.starts or date.min, entry.key


def in_order_of_parents(lists: Iterable[PriceList]) -> list[PriceList]:
    """Lists with each parent before what follows it. Raises BadInputError naming a circle, or a parent that is missing."""
    by_key = {one.key: one for one in lists}
    done: dict[int, PriceList] = {}
    for one in by_key.values():
        way: list[PriceList] = []
        at: PriceList | None = one
        while at is not None and at.key not in done:
            if at in way:
                names = " → ".join(each.name for each in [*way[way.index(at) :], at])
                raise BadInputError(f"These lists follow each other in a circle: {names}.", field="parent_id")
            way.append(at)
            if at.method != Method.DERIVED:
                break
            if at.parent not in by_key:
                raise BadInputError(f"{at.name} follows a list that is not there.", field="parent_id")
            at = by_key[at.parent]
        for each in reversed(way):
            done.setdefault(each.key, each)
    return list(done.values())


def rate_of(lists: Mapping[int, PriceList], key: int, base_currency: str = "EUR") -> Decimal | None:
    """How much of a list's currency one of the company's is worth, by the rates on its way; None where nobody says.

    A list typed in another currency says it by its own rate, when that is not 1.
    """
    one = lists[key]
    if one.method == Method.DERIVED:
        above = rate_of(lists, one.parent, base_currency)
        return None if above is None else round(above * one.rate, 6)
    if one.method == Method.TYPED:
        return ONE if one.currency == base_currency else one.rate if one.rate != ONE else None
    return one.rate


def followed(lists: Mapping[int, PriceList], key: int) -> list[PriceList]:
    """A list and those that it follows, itself first; in a circle each once."""
    way: list[PriceList] = []
    at = lists.get(key)
    while at is not None and at not in way:
        way.append(at)
        at = lists.get(at.parent) if at.method == Method.DERIVED else None
    return way


def related(lists: Mapping[int, PriceList], key: int) -> dict[int, PriceList]:
    """A list with those it follows, and those that follow it with what they follow: all that a change of it can touch."""
    found: dict[int, PriceList] = {}
    for one in lists:
        way = followed(lists, one)
        if any(each.key == key for each in way):
            found |= {each.key: each for each in way}
    return found


@dataclass(frozen=True)
class Left:
    """What a price leaves: without tax, less the cost and what a channel keeps, all in the list's currency; `percent` of the
    net, not rounded."""

    net: Decimal
    cost: Decimal
    percent: Decimal | None
    fee: Decimal = ZERO


@dataclass(frozen=True)
class PriceBook:
    """Lists, what is typed into them, and the items. In the list `base` a bundle of `together` costs what its parts cost
    there, until a price is typed for it. Raises BadInputError for lists in a circle."""

    lists: Mapping[int, PriceList]
    entries: Mapping[tuple[int, int], Sequence[Entry]] = field(default_factory=dict)
    items: Mapping[int, ItemFacts] = field(default_factory=dict)
    base_currency: str = "EUR"
    base: int = 0
    together: Mapping[int, Together] = field(default_factory=dict)

    def __post_init__(self) -> None:
        in_order_of_parents(self.lists.values())

    def price(self, key: int, item: int, day: date, quantity: Decimal = ONE) -> Price | None:
        """What a list says; None when it is silent. With it goes a higher price that stood before: one that was typed
        beside it, else what the list would say without dated prices, its own or of those it follows."""
        found = self._price(key, item, day, quantity, dated=True)
        if found is None:
            return None
        previous = found.entry.previous if found.entry else None
        if previous is None:
            before = self._price(key, item, day, quantity, dated=False)
            previous = before.amount if before else None
        return replace(found, previous=previous if previous is not None and previous > found.amount else None)

    def regular(self, key: int, item: int, day: date, quantity: Decimal = ONE) -> Price | None:
        """What a list says apart from dated prices."""
        return self._price(key, item, day, quantity, dated=False)

    def quantities(self, key: int, item: int, day: date) -> list[Decimal]:
        """The quantities at which the price of an item may change in a list or in those it follows, 1 first."""
        found = {ONE}
        for one in followed(self.lists, key):
            found |= {e.from_quantity for e in self.entries.get((one.key, item), ()) if within(day, e.starts, e.ends)}
        return sorted(q for q in found if q >= 1)

    def left(self, price: Price, item: int, fee_percent: Decimal = ZERO) -> Left | None:
        """What a price of an item leaves; None where its cost, or the rate of its list, is not known. `fee_percent` is what
        a channel keeps of the price with tax, rounded half up.

        Check: 12.00 with 20 % tax, cost 6.00, fee 8 % -> net 10.00, fee 0.96, margin 30.4 %.
        """
        one, facts = price.list, self.items[item]
        cost, rate = facts.cost(one.basis), rate_of(self.lists, one.key, self.base_currency)
        if cost is None or rate is None:
            return None
        net = in_other_terms(price.amount, one.taxed, False, facts.tax_percent, one.currency)
        gross = in_other_terms(price.amount, one.taxed, True, facts.tax_percent, one.currency)
        fee = round_money(gross * fee_percent / HUNDRED, one.currency)
        return Left(net, cost * rate, margin_percent(net, cost * rate + fee), fee)

    def _price(self, key: int, item: int, day: date, quantity: Decimal, *, dated: bool) -> Price | None:
        one = self.lists[key]
        if not one.speaks(day):
            return None
        fitting = [
            e
            for e in self.entries.get((key, item), ())
            if e.from_quantity <= quantity and within(day, e.starts, e.ends) and (dated or not e.is_dated)
        ]
        if fitting:
            entry = max(fitting, key=newest_first)
            return Price(entry.price, one, Method.TYPED, (_typed_step(one, entry),), entry=entry)
        if key == self.base and item in self.together:
            return self._of_parts(one, self.together[item], day, dated=dated)
        if one.method == Method.DERIVED:
            return self._derived(one, item, day, quantity, dated=dated)
        return self._from_cost(one, item) if one.method != Method.TYPED else None

    def _derived(self, one: PriceList, item: int, day: date, quantity: Decimal, *, dated: bool) -> Price | None:
        above = self._price(one.parent, item, day, quantity, dated=dated)
        if above is None:
            return None
        parent, facts = above.list, self.items.get(item, ItemFacts())
        amount = above.amount
        steps = [Step(f"Price in {parent.name}", amount, _tax_words(parent), kind="term", unit=parent.currency)]
        if parent.taxed and not one.taxed:
            amount = take_tax(amount, facts.tax_percent, parent.currency)
            steps.append(Step("Without tax", amount, f"÷ {_factor(facts.tax_percent)}", kind="fact"))
        if not parent.taxed and one.taxed:
            amount = put_tax(amount, facts.tax_percent, parent.currency)
            steps.append(Step("With tax", amount, f"× {_factor(facts.tax_percent)}", kind="fact"))
        if one.currency != parent.currency or one.rate != 1:
            amount = round_money(amount * one.rate, one.currency)
            steps.append(Step(f"In {one.currency}", amount, f"at {spoken(one.rate)}", kind="fact"))
        if one.percent:
            amount = round_money(amount * (HUNDRED + one.percent) / HUNDRED, one.currency)
            steps.append(Step(f"{spoken(one.percent, signed=True)} %", amount, kind="fact"))
        if one.amount:
            amount += one.amount
            steps.append(Step(f"{spoken(one.amount, signed=True)}", amount, kind="fact"))
        return self._ended(one, Method.DERIVED, amount, steps)

    def _of_parts(self, one: PriceList, bundle: Together, day: date, *, dated: bool) -> Price | None:
        """What one of each part costs, whatever is cheaper from a quantity on; silent where one of them is."""
        steps, prices = [], []
        for part, each, sku in bundle.parts:
            price = self._price(one.key, part, day, ONE, dated=dated)
            if price is None:
                return None
            prices.append((price.amount, each))
            steps.append(Step(sku, price.amount * each, f"{spoken(each)} × {price.amount:.2f}", kind="term", unit=one.currency))
        amount = sum_of_parts(prices, bundle.percent_off, one.currency)
        if amount is None:
            return None
        if bundle.percent_off:
            taken = f"{spoken(-bundle.percent_off, signed=True)} % of the sum"
            steps.append(Step("As a bundle", amount, taken, kind="fact"))
        return Price(amount, one, Method.PARTS, tuple(steps))

    def _from_cost(self, one: PriceList, item: int) -> Price | None:
        facts = self.items.get(item, ItemFacts())
        cost = facts.cost(one.basis)
        if cost is None:
            return None
        net = round_money(net_from_cost(cost, one.method, one.percent) * one.rate, one.currency)
        if one.method == Method.MARGIN:
            how = f"÷ {spoken((HUNDRED - one.percent) / HUNDRED)}: {spoken(one.percent)} % of the price is margin"
        else:
            how = f"× {_factor(one.percent)}: {spoken(one.percent)} % on the cost"
        if one.currency != self.base_currency or one.rate != 1:
            how += f", in {one.currency} at {spoken(one.rate)}"
        steps = [
            Step("Cost of one", round(cost, 4), BASES[one.basis], unit=self.base_currency),
            Step("Net", net, how, kind="fact"),
        ]
        amount = net
        if one.taxed:
            amount = put_tax(net, facts.tax_percent, one.currency)
            steps.append(Step("With tax", amount, f"× {_factor(facts.tax_percent)}", kind="fact"))
        return self._ended(one, one.method, amount, steps)

    @staticmethod
    def _ended(one: PriceList, how: Method, amount: Decimal, steps: list[Step]) -> Price | None:
        if amount < 0:
            return None
        if one.ending is not None and amount > 0:
            amount = with_ending(amount, one.ending, one.rounding, one.currency)
            words = {"up": "the next above", "down": "the next below", "nearest": "the nearest"}[one.rounding]
            steps.append(Step(f"Ending {one.ending:.2f}", amount, words, kind="fact"))
        return Price(amount, one, how, tuple(steps)) if amount < MOST_PRICE else None


def _factor(percent: Decimal) -> str:
    return spoken((HUNDRED + percent) / HUNDRED)


def _tax_words(one: PriceList) -> str:
    return "with tax" if one.taxed else "without tax"


def _typed_step(one: PriceList, entry: Entry) -> Step:
    notes = ["typed"]
    if entry.from_quantity > 1:
        notes.append(f"from {spoken(entry.from_quantity)}")
    if entry.starts:
        notes.append(f"from {entry.starts:%-d %b %Y}")
    if entry.ends:
        notes.append(f"until {entry.ends:%-d %b %Y}")
    return Step(f"Price in {one.name}", entry.price, ", ".join([*notes, _tax_words(one)]), unit=one.currency)


@dataclass(frozen=True)
class Speaker:
    """A list in the order of precedence, and whose it is: *customer's own*, *group*, *connection*, *place*, *company*."""

    whose: str
    list: int


@dataclass(frozen=True)
class Asked:
    """The price somebody is asked: None when every list is silent. `heard`: each list, with what it said or why not."""

    price: Price | None
    whose: str
    heard: tuple[tuple[Speaker, Price | None, str], ...]

    def working(self, subject: str, margin: Sequence[Step] = ()) -> Working:
        """Who speaks, who was overruled or silent, and the sum behind the price."""
        steps: list[Step] = []
        for speaker, said, why in self.heard:
            steps.append(Step(speaker.whose, said.amount if said else "silent", why, kind="fact"))
        if self.price is None:
            steps.append(Step("Price", "none", "no list gives one", kind="result"))
            return Working("What is it sold for?", subject, (*steps, *margin))
        steps += self.price.steps
        notes = f"from {self.price.list.name}"
        if self.price.previous is not None:
            notes += f", {spoken(self.price.previous)} before"
        steps.append(Step("Price", self.price.amount, notes, kind="result", unit=self.price.list.currency))
        return Working("What is it sold for?", subject, (*steps, *margin))


def asked_price(
    book: PriceBook,
    speakers: Sequence[Speaker],
    item: int,
    day: date,
    *,
    quantity: Decimal = ONE,
    currency: str = "EUR",
) -> Asked:
    """The price by the order of precedence: customer's own, customer group, connection, place, company's base list.

    A list in another currency, out of its dates or without a price for the item is passed over.
    """
    heard: list[tuple[Speaker, Price | None, str]] = []
    found: Price | None = None
    whose = ""
    for speaker in speakers:
        one = book.lists[speaker.list]
        if one.currency != currency:
            heard.append((speaker, None, f"{one.name} is in {one.currency}"))
            continue
        said = book.price(speaker.list, item, day, quantity)
        if said is None:
            why = "has no price for it" if one.speaks(day) else "is not in force"
            heard.append((speaker, None, f"{one.name} {why}"))
        elif found is None:
            found, whose = said, speaker.whose
            heard.append((speaker, said, f"{one.name}, counts"))
        else:
            heard.append((speaker, said, f"{one.name}, overruled"))
    return Asked(found, whose, tuple(heard))
