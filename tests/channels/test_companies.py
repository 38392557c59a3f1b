"""Two companies side by side: one in euro at Dublin, one in pounds at Auckland. They share what they sell and who they
buy from, and nothing else."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from decimal import Decimal as D
from typing import Any

import pytest
from django.contrib.auth.models import Group
from django.core.management import CommandError, call_command
from django.db import IntegrityError, connection, transaction
from django.test import Client
from django.utils import timezone

from tests.channels.conftest import Standins
from tests.channels.test_journey import World, settle
from tests.companies import forget_company
from tests.invariants import assert_invariants, assert_nothing_crosses, owned_models
from tests.world import give, make_bundle, make_item, make_supplier
from yuvrel.agreement import actions as agreement
from yuvrel.agreement.models import Check, Drift
from yuvrel.books.actions import accounts_of
from yuvrel.books.begin import begin
from yuvrel.books.models import JournalEntry, LedgerDocument, Period
from yuvrel.buying.actions import Arrived, Wanted, draft, receive, send
from yuvrel.buying.models import PurchaseOrder, Supplier
from yuvrel.buying.suppliers import Terms, keep_terms, set_rate
from yuvrel.buying.suppliers import keep as keep_supplier
from yuvrel.catalogue import products
from yuvrel.catalogue import queries as catalogue
from yuvrel.catalogue.models import Item, TaxClass
from yuvrel.catalogue.obstacles import obstacles
from yuvrel.catalogue.products import retire
from yuvrel.channels import inbound, jobs, linking
from yuvrel.channels.models import Connection, Listing
from yuvrel.core.errors import BadInputError, RefusedError
from yuvrel.core.rules import Level
from yuvrel.events.models import Event
from yuvrel.ownership import NoCompanyError, in_hand, working_for
from yuvrel.people import mail
from yuvrel.people.models import Company, Location, User
from yuvrel.people.queries import company_day
from yuvrel.people.roles import SYSTEM, Ability, Role
from yuvrel.pricing.changes import Typed, type_prices
from yuvrel.pricing.loading import base_list
from yuvrel.rules.actions import change, rung_at
from yuvrel.rules.queries import sheet
from yuvrel.sales.actions import ship
from yuvrel.sales.models import SalesOrder
from yuvrel.stock.models import ItemCost, StockBalance

pytestmark = pytest.mark.django_db


class Two:
    """Larkmead, and Larkmead South beside it: its own place, shop and ledger, the same two smokers."""

    def __init__(self, standins: Standins) -> None:
        self.first = World(standins)
        self.larkmead = Company.objects.get()
        with standins.store.transaction():
            shop = standins.store.get("trade", "account", "trade") or {}
            standins.store.put("trade", "account", "trade", {**shop, "currency": "GBP"})
        places = [("tannery-yard", "Tannery Yard")]
        self.south = begin("Larkmead South", "GBP", "Pacific/Auckland", places, D("20.00"), further=True)
        forget_company()
        with self.at_south():
            self.shop = self.first.connect("web_shop", "Web", "shop/trade")
            linking.take_listings(SYSTEM, self.shop.pk, timezone.now(), create=False)
            self.ledger = self.first.connect("ledger", "Books", "ledger/ledger-b")
            self.small = self.first.small
            self.place = Location.objects.get(code="tannery-yard")
            give(self.small, 6, "5.50", self.place)
            type_prices(SYSTEM, base_list().pk, [Typed(self.small.pk, D("19.95"))], timezone.now())
            settle()

    @contextmanager
    def at_larkmead(self) -> Iterator[None]:
        """Working for the first."""
        with working_for(self.larkmead):
            yield

    @contextmanager
    def at_south(self) -> Iterator[None]:
        """Working for the second."""
        with working_for(self.south):
            yield

    def signed_in(self, company: Company) -> Client:
        """A manager of one of them, in the browser."""
        user = User.objects.create_user(username=f"m{company.pk}", password="larkmead", company=company)
        user.groups.add(Group.objects.get_or_create(name=Role.MANAGER.value)[0])
        client = Client()
        client.force_login(user)
        return client


@pytest.fixture
def two(db: None, standins: Standins) -> Two:
    """Both, live."""
    return Two(standins)


def on_hand(item: Item) -> D:
    return sum((row.on_hand for row in StockBalance.objects.filter(item=item)), D(0))


def test_the_database_takes_no_row_that_points_to_another_company_s(two: Two) -> None:
    """Wherever two tables say whose their rows are, as the models have it."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT t.relname, a.attname FROM pg_constraint c JOIN pg_class t ON t.oid = c.conrelid"
            " JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = c.conkey[2]"
            " WHERE c.contype = 'f' AND array_length(c.conkey, 1) = 2"
        )
        held = set(cursor.fetchall())
    direct = {model for model in owned_models() if model._default_manager.company_path == "company"}
    wanted = {
        (model._meta.db_table, column.column)
        for model in direct
        for column in model._meta.concrete_fields
        if column.related_model in direct
    }
    assert held == wanted
    assert len(held) > 30
    with two.at_south():
        strange = two.place.pk
    for column in ("fulfils_from", "their_place"):
        with pytest.raises(IntegrityError), transaction.atomic():
            assert Connection._base_manager.filter(company=two.larkmead).update(**{column: strange})
            connection.check_constraints()


def test_what_another_company_asks_for_an_item_is_in_nobody_else_s_history(two: Two) -> None:
    """What is said of the product is for both; a price is its own company's."""
    small = two.small
    with two.at_south():
        products.set_prices(SYSTEM, {small.pk: D("31.70")})
        product = small.product
        product.refresh_from_db()
        products.change(SYSTEM, product.pk, product.version, {"brand": "Southern"})
        small.refresh_from_db()
        products.change_items(SYSTEM, {small.pk: {"price": D("32.80"), "weight_grams": 777, "version": small.version}})
        there = [row.after for row in catalogue.history(small.product_id, [small.pk])]
    with working_for(two.larkmead):
        here = [row.after for row in catalogue.history(small.product_id, [small.pk])]
    assert there[:3] == [{"price": "32.80", "weight_grams": "777"}, {"brand": "Southern"}, {"price": "31.70"}]
    assert here[:2] == [{"weight_grams": "777"}, {"brand": "Southern"}]
    assert not any("31.70" in row.values() for row in here)


def test_one_order_travels_in_each_of_them(two: Two) -> None:
    sold = {"web": two.first.buy({"v1": 3}), "trade": two.first.buy({"v1": 2}, account="trade")}
    numbers = []
    for company, account, left in ((two.larkmead, "web", 7), (two.south, "trade", 4)):
        with working_for(company):
            shop = Connection.objects.get(name="Web")
            assert inbound.poll(shop) == 1
            order = SalesOrder.objects.get()
            numbers.append(order.number)
            assert (order.state, order.currency) == ("ready", company.base_currency)
            assert order.total == D(sold[account]["total"]), "in its own currency there is nothing to convert"
            settle()
            assert two.first.shown("SMK-S", account) == left
            shipment = ship(SYSTEM, order.pk, at=timezone.now())
            settle()
            assert on_hand(two.small) == left
            ledger = {"web": "books", "trade": "ledger-b"}[account]
            told = two.first.standins.store.get(ledger, "document", shipment.number)
            assert told is not None
            assert {"account": "2100", "amount": sold[account]["total"]} in told["postings"], "what was paid ahead"
            assert agreement.check_all() == 0
            assert {row.code for row in Check.objects.all()} >= {"A1", "A3", "A4", "A5", "A6"}
            assert not Drift.objects.filter(healed_at=None).exists()
            assert_invariants()
    assert numbers[0] == numbers[1], "each numbers its orders for itself"
    assert_nothing_crosses()


def test_cost_price_rules_and_days_are_each_ones_own(two: Two) -> None:
    at = datetime(2027, 3, 14, 22, 30, tzinfo=UTC)
    rung = ("item", str(two.small.pk))
    with two.at_larkmead():
        assert (ItemCost.objects.get(item=two.small).last_average, two.small.price) == (8, D("24.60"))
        change(SYSTEM, rung_at(*rung, "item"), {"buffer": "2"}, timezone.now())
        assert company_day(at).isoformat() == "2027-03-14"
    with two.at_south():
        assert (ItemCost.objects.get(item=two.small).last_average, two.small.price) == (D("5.50"), D("19.95"))
        assert company_day(at).isoformat() == "2027-03-15"
        buffer = next(s for s in sheet(*rung)["settings"] if s["name"] == "buffer")
        assert (buffer["value"], buffer["level"]) == ("0", Level.DEFAULT.value)
        assert two.first.standins.store.get("trade", "product", "p1")["variants"][0]["price"] == "24.60"  # type: ignore[index]
        change(SYSTEM, rung_at("connection", str(two.shop.pk), "connection"), {"price_owner": "here"}, timezone.now())
        settle()
        assert two.first.standins.store.get("trade", "product", "p1")["variants"][0]["price"] == "19.95"  # type: ignore[index]
    with two.at_larkmead():
        settle()
        assert two.first.shown("SMK-S") == 8, "its own buffer"
    assert two.first.shown("SMK-S", "trade") == 6


def test_goods_are_ordered_and_received_for_one_of_them(two: Two) -> None:
    for company, count in ((two.larkmead, 12), (two.south, 5)):
        with working_for(company):
            if not Supplier.objects.exists():
                make_supplier(two.small)
            supplier = Supplier.objects.get()
            if company == two.south:
                set_rate(SYSTEM, supplier.currency, company_day(timezone.now()), D("1.16"))
            place = Location.objects.get(code="tannery-yard")
            (order,) = draft(SYSTEM, [Wanted(two.small.pk, place.pk, D(count))], timezone.now())
            assert order.number == "PO-1001", "each numbers its orders for itself"
            send(SYSTEM, order.pk, order.version, timezone.now())
            line = order.lines.get()
            receive(SYSTEM, order.pk, [Arrived(line.pk, D(count))], timezone.now())
            assert order.supplier == supplier
            assert_invariants()
    with two.at_larkmead():
        assert (on_hand(two.small), PurchaseOrder.objects.count()) == (22, 1)
    with two.at_south():
        assert (on_hand(two.small), PurchaseOrder.objects.count()) == (11, 1)
    assert_nothing_crosses()


def test_a_month_closed_in_one_is_open_in_the_other(two: Two) -> None:
    today = company_day_of(two.south)
    with two.at_south():
        Period.objects.create(month=today.replace(day=1), closed_at=timezone.now())
        with pytest.raises(RefusedError, match="is closed"):
            give(two.small, 1, "5.00", two.place)
    with two.at_larkmead():
        entries = JournalEntry.objects.count()
        give(two.small, 1, "5.00")
        assert JournalEntry.objects.count() == entries + 1


def company_day_of(company: Company) -> Any:
    with working_for(company):
        return company_day(datetime(2027, 3, 14, 9, 30, tzinfo=UTC))


def test_a_person_sees_the_company_that_the_person_works_for(two: Two) -> None:
    two.first.buy({"v1": 1})
    with two.at_larkmead():
        inbound.poll(two.first.shop)
        order, listing = SalesOrder.objects.get(), Listing.objects.filter(connection__name="Web").earliest("pk")
    here, there = two.signed_in(two.larkmead), two.signed_in(two.south)
    assert [c.get("/api/v1/session").json()["currency"] for c in (here, there)] == ["EUR", "GBP"]
    assert [len(c.get("/api/v1/locations").json()) for c in (here, there)] == [3, 1]
    for path, counts in {
        "/api/v1/orders": (1, 0),
        "/api/v1/connections": (3, 2),
        "/api/v1/stock": (2, 1),
        "/api/v1/purchase-orders": (0, 0),
        "/api/v1/moves": (2, 1),
        "/api/v1/items": (3, 3),
    }.items():
        found = [c.get(path) for c in (here, there)]
        assert [answer.status_code for answer in found] == [200, 200], path
        shown = [answer.json() for answer in found]
        assert tuple(len(one["rows"] if isinstance(one, dict) else one) for one in shown) == counts, path
    prices = [{row["sku"]: row["price"] for row in c.get("/api/v1/items").json()["rows"]}["SMK-S"] for c in (here, there)]
    assert prices == ["24.60", "19.95"]
    assert there.get(f"/api/v1/orders/{order.pk}").status_code == 404
    assert here.get(f"/api/v1/orders/{order.pk}").status_code == 200
    assert there.get(f"/api/v1/listings/{listing.pk}").status_code == 404
    body = {"item_id": two.small.pk, "version": listing.version}
    refused = there.post(f"/api/v1/listings/{listing.pk}/link", body, content_type="application/json")
    assert refused.status_code == 404, "what is another's cannot be changed either"


def test_mail_goes_to_those_who_work_for_the_company(two: Two) -> None:
    group = Group.objects.get_or_create(name=Role.BUYER.value)[0]
    for name, company in (("ivo", None), ("mara", two.larkmead), ("tui", two.south)):
        User.objects.create_user(username=name, email=f"{name}@larkmead.example", company=company).groups.add(group)
    with two.at_larkmead():
        assert mail.who_may(Ability.BUY) == ["ivo@larkmead.example", "mara@larkmead.example"]
    with two.at_south():
        assert mail.who_may(Ability.BUY) == ["tui@larkmead.example"]


def test_jobs_of_the_clock_work_for_each_in_turn(
    two: Two, monkeypatch: pytest.MonkeyPatch, django_capture_on_commit_callbacks: Any
) -> None:
    for one in (two.larkmead, two.south):
        with working_for(one):
            Listing.objects.filter(link="linked").update(offer_state="pending")
    asked: set[int] = set()

    def noted(task: str, lock: str, values: tuple[tuple[str, int], ...]) -> None:
        if task == "channels.push_offers":
            asked.add(dict(values)["company"])

    monkeypatch.setattr("yuvrel.events.actions._defer", noted)
    begun = jobs.begin_day

    def stumbles(today: Any) -> None:
        if in_hand() == two.larkmead:
            raise RuntimeError("only Larkmead")
        begun(today)

    with monkeypatch.context() as patch, django_capture_on_commit_callbacks(execute=True):
        patch.setattr(jobs, "begin_day", stumbles)
        with pytest.raises(RuntimeError, match="only Larkmead"):
            jobs.pulse(0)
    assert asked == {two.south.pk}, "one that fails keeps no other waiting"
    with django_capture_on_commit_callbacks(execute=True):
        jobs.pulse(0)
    assert asked == {two.larkmead.pk, two.south.pk}


def test_an_item_is_retired_when_nothing_stands_in_the_way_in_any_company(two: Two) -> None:
    with two.at_larkmead():
        item = make_item("ONLY-SOUTH")
        part_of = make_bundle("KIT-1", {item: 2})
    with two.at_south():
        give(item, 3, "2.00", two.place)
        here = obstacles(item.pk)
    with two.at_larkmead():
        there = obstacles(item.pk)
        with pytest.raises(RefusedError, match="Another company"):
            retire(SYSTEM, item.pk, item.version)
    shared = [one for one in here if part_of.title in one.said]
    assert len(shared) == 1, "what is shared is said once"
    assert [one for one in there if part_of.title in one.said] == shared
    assert [(one.link, one.said[:15]) for one in there if one not in shared] == [("", "Another company")]
    assert all(one.link for one in here)


def test_commands_tokens_and_figures_know_several(two: Two, settings: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    call_command("begin", "North", further=True, currency="PLN", zone="Europe/Warsaw", tax="8", stdout=io.StringIO())
    for name, company in (("nora", "North"), ("tui", "Larkmead South")):
        monkeypatch.setattr("sys.stdin", io.StringIO("quiet-marsh-41\n"))
        call_command("person", name, role="manager", company=company, stdout=io.StringIO())
    with pytest.raises(CommandError, match="no company called Nowhere"):
        call_command("person", "nora", company="Nowhere", stdout=io.StringIO())
    said = io.StringIO()
    call_command("token", "tui", "export", stdout=said)
    token = next(word for word in said.getvalue().split() if len(word) > 30)
    headers = {"Authorization": f"Bearer {token}"}
    assert {row["name"] for row in Client().get("/api/v1/connections", headers=headers).json()} == {"Books", "Web"}
    out = io.StringIO()
    call_command("agree", stdout=out)
    assert out.getvalue().count("A5: ") == 3, "the books of each"
    settings.METRICS_TOKEN = "figures"
    told = Client().get("/metrics", headers={"Authorization": "Bearer figures"}).content.decode()
    webs = [line for line in told.splitlines() if line.startswith("yuvrel_connection_lag_seconds{") and '"Web"' in line]
    assert len({line.partition("}")[0] for line in webs}) == len(webs) == 2


def test_a_consumer_takes_up_what_is_its_companys_alone(two: Two) -> None:
    for company in (two.larkmead, two.south):
        with working_for(company):
            give(two.small, 1, "5.00", Location.objects.get(code="tannery-yard"))
    with two.at_south():
        assert jobs.relay_now() > 0
        assert not Event.objects.filter(done_at=None, consumer__in=jobs.RELAYS).exists()
    with two.at_larkmead():
        assert Event.objects.filter(done_at=None, consumer__in=jobs.RELAYS).exists()


def test_what_they_share_is_told_to_each_of_them(two: Two) -> None:
    with two.at_larkmead():
        supplier = make_supplier(two.small)
        assert supplier.items.get().version == 1
        kit, lid = make_bundle("KIT-2", {two.small: 2}), make_item("LID-1")
        zero = TaxClass.objects.create(name="Zero", percent=D(0))
        product = two.small.product
    whole = Terms(code="X-1", pack=D(6), minimum=D(0), preferred=True, prices=[(D(0), D("4.00"))])
    facts = {"name": supplier.name, "lead_days": 40, "currency": supplier.currency}
    availability, price = Event.Kind.AVAILABILITY, Event.Kind.PRICE
    changes: list[tuple[Callable[[], object], Item, set[str]]] = [
        (lambda: keep_terms(SYSTEM, supplier.pk, two.small.pk, 1, whole), two.small, {availability}),
        (lambda: keep_supplier(SYSTEM, supplier.pk, supplier.version, facts), two.small, {availability}),
        (lambda: products.set_parts(SYSTEM, kit.pk, kit.version, [(lid.pk, D(1))]), kit, {availability, price}),
        (lambda: products.change(SYSTEM, product.pk, product.version, {"tax_class_id": zero.pk}), two.small, {price}),
        (
            lambda: products.change(SYSTEM, product.pk, product.version + 1, {"category": "Pots"}),
            two.small,
            {availability, price, Event.Kind.TEXT},
        ),
        (lambda: retire(SYSTEM, kit.pk, kit.version + 1), kit, {availability}),
    ]
    for change_it, item, kinds in changes:
        for company in (two.larkmead, two.south):
            with working_for(company):
                Event.objects.all().delete()
        with two.at_larkmead():
            change_it()
        for company in (two.larkmead, two.south):
            with working_for(company):
                assert set(Event.objects.filter(subject_id=item.pk).values_list("kind", flat=True)) == kinds
    with two.at_south():
        settle()
        place = Location.objects.get(code="tannery-yard")
        set_rate(SYSTEM, supplier.currency, company_day(timezone.now()), D("1.16"))
        draft(SYSTEM, [Wanted(two.small.pk, place.pk, D(6))], timezone.now())
    with two.at_larkmead(), pytest.raises(RefusedError, match="Orders in the old currency are open"):
        keep_supplier(SYSTEM, supplier.pk, supplier.version + 1, {**facts, "currency": "PLN"})


def test_where_nobody_says_for_which_company_nothing_is_read_or_written(two: Two) -> None:
    for asked in (
        lambda: list(SalesOrder.objects.all()),
        lambda: Connection.objects.filter(name="Web").exists(),
        lambda: LedgerDocument(number="X"),
        lambda: company_day(timezone.now()),
    ):
        with pytest.raises(Exception, match="company"):
            asked()
    with pytest.raises(NoCompanyError):
        company_day(timezone.now())


def test_another_company_is_opened_only_when_asked_for(two: Two) -> None:
    places = [("yard", "Yard")]
    with pytest.raises(RefusedError, match="--further"):
        begin("Third", "EUR", "Europe/Dublin", places, D(0))
    with pytest.raises(BadInputError, match="called Larkmead South"):
        begin("Larkmead South", "EUR", "Europe/Dublin", places, D(0), further=True)
    third = begin("Third", "PLN", "Europe/Warsaw", places, D("20.00"), further=True)
    assert len(accounts_of(third.pk)) == len(accounts_of(two.south.pk)) > 20
