"""Signing in, and staying so: how often it may be tried, from where, when it ends, and what a token may do.

The bounds are those of OWASP ASVS 4.0.3: 2.1.1 and 2.1.7 (passwords), 2.2.1 (tries), 3.3.2 and 3.3.4 (sessions)."""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from ipaddress import ip_network
from typing import Any

import pytest
from django.db import connection
from django.test import Client, RequestFactory
from django.utils import timezone

from tests.world import make_item, make_user
from yuvrel.people.door import MOST_FROM, MOST_OF_BOTH, address_of
from yuvrel.people.models import ApiToken, Location, OpenSession, SignInTry
from yuvrel.people.roles import Role
from yuvrel.people.sessions import SEEN

pytestmark = pytest.mark.django_db
CHROME = "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/140.0 Safari/537.36"


def sign_in(name: str, password: str, client: Client | None = None, **meta: str) -> Any:
    body = json.dumps({"username": name, "password": password})
    return (client or Client()).post("/api/v1/session", body, content_type="application/json", **meta)  # type: ignore[arg-type]


def send(client: Client, method: str, path: str, body: Any = None) -> Any:
    return getattr(client, method)(f"/api/v1/{path}", json.dumps(body or {}), content_type="application/json")


def test_too_many_wrong_passwords_lock_the_door_for_a_while(company: Location) -> None:
    make_user(Role.MANAGER)
    tries = [sign_in("Manager" if n % 2 else "manager", "wrong") for n in range(10)]
    assert [answer.status_code for answer in tries] == [401] * MOST_OF_BOTH + [429] * 2
    assert tries[-1].json()["detail"].startswith("Too many tries.")
    assert sign_in("manager", "larkmead").status_code == 429
    # From elsewhere the same person comes in; and everywhere when the quarter of an hour is over.
    assert sign_in("manager", "larkmead", REMOTE_ADDR="192.0.2.7").status_code == 200
    SignInTry.objects.update(at=timezone.now() - timedelta(minutes=16))
    assert sign_in("manager", "larkmead").status_code == 200


def test_one_password_against_many_names_is_slowed(company: Location) -> None:
    make_user(Role.MANAGER)
    said = [sign_in(f"name{n}", "summer2026!!").status_code for n in range(60)]
    assert said == [401] * MOST_FROM + [429] * (60 - MOST_FROM)
    assert sign_in("manager", "larkmead").status_code == 429
    assert sign_in("manager", "larkmead", REMOTE_ADDR="192.0.2.7").status_code == 200


def test_one_name_guessed_from_many_addresses_is_slowed_but_not_for_who_comes_as_always(company: Location) -> None:
    make_user(Role.MANAGER)
    assert sign_in("manager", "larkmead", REMOTE_ADDR="192.0.2.7").status_code == 200
    said = [sign_in("manager", "wrong", REMOTE_ADDR=f"198.51.100.{n}").status_code for n in range(30)]
    assert said == [401] * 25 + [429] * 5
    # An address that has guessed before has no further guess either.
    assert sign_in("manager", "wrong", REMOTE_ADDR="198.51.100.3").status_code == 429
    assert sign_in("manager", "larkmead", REMOTE_ADDR="192.0.2.7").status_code == 200


@pytest.mark.django_db(transaction=True)
def test_guesses_at_the_same_moment_do_not_slip_through_beside_one_another(company: Location) -> None:
    make_user(Role.MANAGER)

    def guess(n: int) -> int:
        try:
            return int(sign_in("manager", f"wrong {n}").status_code)
        finally:
            connection.close()

    with ThreadPoolExecutor(8) as pool:
        said = list(pool.map(guess, range(24)))
    assert sorted(said) == [401] * MOST_OF_BOTH + [429] * (24 - MOST_OF_BOTH)


@pytest.mark.parametrize(
    ("remote", "forwarded", "found"),
    [
        ("203.0.113.9", "", "203.0.113.9"),
        ("203.0.113.9", "10.1.1.1", "203.0.113.9"),  # no proxy of ours: what it says could be anything
        ("10.0.0.2", "198.51.100.4", "198.51.100.4"),
        ("10.0.0.2", "1.2.3.4, 198.51.100.4", "198.51.100.4"),  # the first is the visitor's own word
        ("10.0.0.2", "198.51.100.4, 10.0.0.3", "198.51.100.4"),
        ("10.0.0.2", "", "10.0.0.2"),
        ("10.0.0.2", "nonsense", "nonsense"),
    ],
)
def test_behind_a_proxy_everybody_has_an_address_of_their_own(settings: Any, remote: str, forwarded: str, found: str) -> None:
    settings.TRUSTED_PROXIES = [ip_network("10.0.0.0/24")]
    assert address_of(RequestFactory().get("/", REMOTE_ADDR=remote, headers={"X-Forwarded-For": forwarded})) == found


def test_a_session_ends_when_nothing_is_done_and_a_page_that_looks_for_itself_does_nothing(company: Location) -> None:
    user, client = make_user(Role.MANAGER), Client()
    assert sign_in("manager", "larkmead", client).status_code == 200

    def later(minutes: int, **headers: str) -> Any:
        session = client.session
        session[SEEN] = (timezone.now() - timedelta(minutes=minutes)).timestamp()
        session.save()
        return client.get("/api/v1/changes", headers=headers)

    assert later(29).status_code == 200
    assert client.session[SEEN] < (timezone.now() - timedelta(minutes=28)).timestamp()
    assert later(29, **{"X-Active": "1"}).status_code == 200
    assert client.session[SEEN] > (timezone.now() - timedelta(minutes=1)).timestamp()
    assert OpenSession.objects.filter(user=user).count() == 1
    gone = later(31, **{"X-Active": "1"})
    assert (gone.status_code, "nothing was done for 30 minutes" in gone.json()["detail"]) == (401, True)
    assert client.get("/api/v1/session").status_code == 401
    assert not OpenSession.objects.filter(user=user).exists()


def test_one_sees_where_one_is_signed_in_and_ends_it_there(company: Location) -> None:
    make_user(Role.MANAGER), make_user(Role.BUYER)
    here, there, other = Client(), Client(), Client()
    sign_in("manager", "larkmead", here)
    sign_in("manager", "larkmead", there, REMOTE_ADDR="192.0.2.7", HTTP_USER_AGENT=CHROME)
    sign_in("buyer", "larkmead", other)
    rows = here.get("/api/v1/account/sessions").json()
    assert [(row["device"], row["address"], row["current"]) for row in rows] == [
        ("Chromium on Linux", "192.0.2.7", False),
        ("A program", "127.0.0.1", True),
    ]
    foreign = OpenSession.objects.get(user__username="buyer").pk
    assert here.delete(f"/api/v1/account/sessions/{foreign}").status_code == 404
    assert here.delete(f"/api/v1/account/sessions/{rows[0]['id']}").status_code == 204
    assert [client.get("/api/v1/session").status_code for client in (here, there, other)] == [200, 401, 200]


@pytest.mark.parametrize(
    ("old", "new", "field", "why"),
    [
        ("wrong", "quiet bees at noon", "old", "That is not your password."),
        ("larkmead", "short bees", "new", "at least 12 characters"),
        ("larkmead", "q1w2e3r4t5y6", "new", "too common"),
        ("larkmead", "manager12345", "new", "too similar"),
        ("larkmead", "827364512930", "new", "entirely numeric"),
    ],
)
def test_a_weak_password_is_refused(company: Location, old: str, new: str, field: str, why: str) -> None:
    make_user(Role.MANAGER)
    client = Client()
    sign_in("manager", "larkmead", client)
    answer = send(client, "put", "account/password", {"old": old, "new": new})
    assert (answer.status_code, answer.json()["field"], why in answer.json()["detail"]) == (422, field, True), answer.content


def test_a_new_password_ends_the_other_sessions_and_keeps_this_one(company: Location) -> None:
    make_user(Role.MANAGER)
    here, there = Client(), Client()
    sign_in("manager", "larkmead", here)
    sign_in("manager", "larkmead", there)
    answer = send(here, "put", "account/password", {"old": "larkmead", "new": "quiet bees at noon"})
    assert answer.json()["said"] == "Your password was changed. 1 other session was ended."
    assert [client.get("/api/v1/session").status_code for client in (here, there)] == [200, 401]
    assert [row["current"] for row in here.get("/api/v1/account/sessions").json()] == [True]
    assert (sign_in("manager", "larkmead").status_code, sign_in("manager", "quiet bees at noon").status_code) == (401, 200)
    wrong = [send(here, "put", "account/password", {"old": "x", "new": "quiet bees at noon"}).status_code for _ in range(10)]
    assert wrong[-1] == 429, "guessing the old one is signing in by another door"


def test_a_token_does_what_it_was_given_for_until_it_ends(company: Location) -> None:
    make_user(Role.MANAGER)
    item = make_item(on_hand=5)
    here, program = Client(), Client()
    sign_in("manager", "larkmead", here)
    given = send(here, "post", "account/tokens", {"name": "counter", "days": 30, "abilities": ["adjust stock"]}).json()
    bearer = {"Authorization": f"Bearer {given['token']}"}
    (shown,) = here.get("/api/v1/account/tokens").json()
    assert (shown["name"], shown["abilities"]) == ("counter", ["adjust stock", "read"])
    assert given["token"] not in str(here.get("/api/v1/account/tokens").content)
    change = json.dumps({"item_id": item.pk, "location_id": company.pk, "reason": "lost", "change": "-1"})
    assert program.get("/api/v1/stock", headers=bearer).status_code == 200
    assert program.post("/api/v1/adjustments", change, content_type="application/json", headers=bearer).status_code == 200
    refused = program.post("/api/v1/categories", '{"name": "x"}', content_type="application/json", headers=bearer)
    assert (refused.status_code, refused.json()["detail"]) == (403, "This token may not change the range. Give out one that may.")
    more = program.post("/api/v1/account/tokens", '{"name": "x"}', content_type="application/json", headers=bearer)
    assert (more.status_code, more.json()["detail"]) == (422, "Sign in for that; a token does not do.")
    ApiToken.objects.update(expires_at=timezone.now())
    assert program.get("/api/v1/stock", headers=bearer).status_code == 401
    ApiToken.objects.update(expires_at=timezone.now() + timedelta(days=1))
    assert program.get("/api/v1/stock", headers=bearer).status_code == 200
    assert here.delete(f"/api/v1/account/tokens/{given['id']}").status_code == 204
    assert program.get("/api/v1/stock", headers=bearer).status_code == 401


def test_a_token_may_no_more_than_its_owner(company: Location) -> None:
    make_user(Role.VIEWER)
    client = Client()
    sign_in("viewer", "larkmead", client)
    answer = send(client, "post", "account/tokens", {"name": "x", "abilities": ["adjust stock"]})
    assert (answer.status_code, answer.json()["field"]) == (422, "abilities")
    for days in (0, 367):
        assert send(client, "post", "account/tokens", {"name": "x", "days": days}).status_code == 422
