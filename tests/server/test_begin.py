"""From an empty database to a company that works: the commands, the first steps, and every sheet while it is empty."""

from __future__ import annotations

import io
from typing import Any

import pytest
from django.contrib.auth.models import Group
from django.core.management import CommandError, call_command
from django.test import Client

from tests.world import NOW as AT
from tests.world import give, incoming, make_connection, make_item, make_listing, make_supplier, make_user, order_line
from yuvrel.books.models import Account
from yuvrel.people.models import AuditRow, Company, Location, User
from yuvrel.people.roles import SYSTEM, Ability, Actor, Role, actor_of
from yuvrel.sales.actions import ship, take_order
from yuvrel.server.api import api
from yuvrel.server.first_steps import first_steps

pytestmark = pytest.mark.django_db

ME = Actor("Alex", Role.MANAGER)


def begin(**options: Any) -> str:
    """Open a company; what the command said."""
    out = io.StringIO()
    call_command("begin", "Fen & Daughter", stdout=out, **options)
    return out.getvalue()


def person(monkeypatch: pytest.MonkeyPatch, password: str, *args: str, **options: Any) -> None:
    """Run manage.py person with a password on standard input."""
    monkeypatch.setattr("sys.stdin", io.StringIO(password + "\n"))
    call_command("person", *args, stdout=io.StringIO(), **options)


def sign_in(name: str, password: str) -> Any:
    """Through the API, as the page does it; the answer."""
    body = {"username": name, "password": password}
    return Client().post("/api/v1/session", body, content_type="application/json")


def test_a_company_of_ones_own(monkeypatch: pytest.MonkeyPatch) -> None:
    said = begin(currency="PLN", zone="Europe/Warsaw", tax="23", place=["barn=The Barn", "stall=Stall"])
    assert "manage.py person" in said
    firm = Company.objects.get()
    assert (firm.name, firm.base_currency, firm.time_zone) == ("Fen & Daughter", "PLN", "Europe/Warsaw")
    assert list(Location.objects.order_by("pk").values_list("code", "name")) == [("barn", "The Barn"), ("stall", "Stall")]
    assert Account.objects.filter(role="inventory").exists()
    person(monkeypatch, "quiet-marsh-41", "alex", role="manager", name="Alex Fen")
    me = sign_in("alex", "quiet-marsh-41").json()
    assert (me["role"], me["company"], me["currency"]) == ("manager", "Fen & Daughter", "PLN")
    with pytest.raises(CommandError, match="holds a company already"):
        begin()


@pytest.mark.parametrize(
    ("options", "said"),
    [
        ({"currency": "XXQ"}, "XXQ"),
        ({"currency": "JPY"}, "two decimals"),
        ({"zone": "Mars/Olympus"}, "no time zone"),
        ({"tax": "much"}, "much"),
        ({"tax": "nan"}, "nan"),
        ({"tax": "120"}, "between 0 and 100"),
        ({"place": ["the barn=Barn"]}, "short name"),
        ({"place": ["a=Barn", "b=Barn"]}, "Two places"),
        ({"place": ["a=" + "B" * 81]}, "at most 20 characters"),
    ],
)
def test_a_company_that_cannot_be_is_refused_whole(options: dict[str, Any], said: str) -> None:
    with pytest.raises(CommandError, match=said):
        begin(**options)
    assert not Company.objects.exists()
    assert not Location.objects.exists()


def test_people_come_change_their_role_and_are_shut_out(company: Location, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(CommandError, match="Say which role"):
        person(monkeypatch, "quiet-marsh-41", "kim")
    with pytest.raises(CommandError, match="too short"):
        person(monkeypatch, "abc", "kim", role="buyer")
    assert not User.objects.filter(username="kim").exists()
    person(monkeypatch, "quiet-marsh-41", "kim", role="buyer", name="Kim Sedge")
    person(monkeypatch, "", "kim", role="stockkeeper")
    kim = User.objects.get(username="kim")
    assert actor_of(kim).role is Role.STOCKKEEPER
    assert sign_in("kim", "quiet-marsh-41").json()["role"] == "stockkeeper"
    person(monkeypatch, "", "kim", shut_out=True)
    assert sign_in("kim", "quiet-marsh-41").status_code == 401
    person(monkeypatch, "", "kim", role="buyer")
    assert sign_in("kim", "quiet-marsh-41").status_code == 401, "another role is no way back in"
    person(monkeypatch, "", "kim", let_in=True)
    assert sign_in("kim", "quiet-marsh-41").json()["role"] == "buyer"
    assert AuditRow.objects.filter(subject="person").count() == 5


def test_only_the_demo_is_dropped(company: Location) -> None:
    Company.objects.update(name="Fen & Daughter")
    with pytest.raises(CommandError, match="holds Fen & Daughter"):
        call_command("startover")
    assert Company.objects.exists()


def test_without_a_company_the_api_says_what_to_do(client: Client) -> None:
    client.force_login(User.objects.create_superuser("root", password=None))
    answer = client.get("/api/v1/session")
    assert answer.status_code == 422
    assert "manage.py begin" in answer.json()["detail"]


def test_every_sheet_of_an_empty_company_answers(client: Client) -> None:
    begin()
    client.force_login(User.objects.create_superuser("root", password=None))
    for path, methods in api.get_openapi_schema()["paths"].items():
        if "get" in methods and "{" not in path:
            assert client.get(path).status_code in (200, 422), path
    assert client.get("/api/v1/today").json()["begun"] is False


def state() -> dict[str, bool]:
    """Which steps are done."""
    return {step["name"]: step["done"] for step in first_steps(ME)["steps"]}


def test_each_step_is_done_by_doing_it(company: Location) -> None:
    assert not any(state().values())
    shop = make_connection(state="live")
    make_connection("ledger", state="live")
    item = make_item()
    assert [name for name, done in state().items() if done] == ["Connect your channels", "Connect the ledger"]
    make_listing(shop, item)
    give(item, 5, "2.00")
    order = take_order(SYSTEM, incoming(shop, order_line(item, 1)), AT).order
    done = state()
    assert done["Pair listings with items"]
    assert done["Import opening stock"]
    assert done["See an order arrive"]
    assert not done["Ship an order"]
    ship(SYSTEM, order.pk, at=AT)
    assert state()["Ship an order"]
    assert not state()["Add your suppliers"]
    make_supplier(item)
    assert state()["Add your suppliers"]
    assert not state()["Reorder what is running low"]


def test_a_step_says_who_may_not_take_it(company: Location) -> None:
    mine = {step["name"]: step["may"] for step in first_steps(Actor("V", Role.VIEWER))["steps"]}
    assert mine["See an order arrive"]
    assert not mine["Connect your channels"]
    assert Actor("S", Role.STOCKKEEPER).may(Ability.SHIP)


def test_a_session_is_who_the_person_is_by_now(company: Location, client: Client) -> None:
    """The role, the company and whether the person may come in at all are read anew for each request."""
    user = make_user(Role.BUYER)
    client.force_login(user)

    def seen() -> tuple[str, str]:
        me = client.get("/api/v1/session").json()
        return me["role"], me["company"]

    assert seen() == ("buyer", "Larkmead")
    user.groups.set([])
    assert seen() == ("viewer", "Larkmead")
    user.groups.set([Group.objects.create(name=Role.MANAGER.value)])
    user.company = Company.objects.create(name="Fen & Daughter")
    user.save()
    assert seen() == ("manager", "Fen & Daughter")
    user.is_active = False
    user.save()
    assert client.get("/api/v1/session").status_code == 401
