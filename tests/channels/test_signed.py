"""Calls that are signed: by the standard's own example, and by an account that looks at each signature."""

from __future__ import annotations

import base64
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import pytest
from django.utils import timezone
from http_message_signatures import HTTPMessageSigner, HTTPMessageVerifier, algorithms

from tests.channels.conftest import Standins
from tests.world import make_company
from yuvrel.channels import actions
from yuvrel.connectors.sign_in import SIGNED, _Call, _Secret
from yuvrel.people.roles import SYSTEM

ORDER = b"<Order/>"


def test_the_example_of_the_standard() -> None:
    """RFC 9421, B.2.5: a request signed with hmac-sha256; its key, base and signature stand there."""
    key = base64.b64decode("uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ==")
    headers = httpx.Headers({
        "Host": "example.com", "Date": "Tue, 20 Apr 2021 02:07:55 GMT", "Content-Type": "application/json",
        "Signature-Input": 'sig-b25=("date" "@authority" "content-type");created=1618884473;keyid="test-shared-secret"',
        "Signature": "sig-b25=:pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8=:",
    })  # fmt: skip
    secret = _Secret("")
    secret._secret = key
    verifier = HTTPMessageVerifier(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=secret)
    (found,) = verifier.verify(_Call("POST", "https://example.com/foo?param=Value&Pet=dog", headers), max_age=None)
    assert found.parameters["keyid"] == "test-shared-secret"
    # Signed by us in the same second, it is the same signature.
    signed = _Call("POST", "https://example.com/foo?param=Value&Pet=dog", httpx.Headers(list(headers.items())[:3]))
    HTTPMessageSigner(signature_algorithm=algorithms.HMAC_SHA256, key_resolver=secret).sign(
        signed,
        key_id="test-shared-secret",
        created=datetime.fromtimestamp(1618884473, tz=UTC),
        label="sig-b25",
        include_alg=False,
        covered_component_ids=("date", "@authority", "content-type"),
    )
    assert signed.headers["Signature"] == headers["Signature"]


class Account:
    """The supplier's stand-in, called as a connector calls it; the last call as it went out."""

    def __init__(self, base: str, key: str = "us", secret: str = "s") -> None:
        self.address = f"{base}/supplier/joinery/api"
        self.auth = SIGNED.signer(self.address, {"key": key, "secret": secret})

    def call(self, method: str, path: str, body: bytes | None = None) -> httpx.Response:
        with httpx.Client() as client:
            return client.request(method, f"{self.address}/{path}", content=body, auth=self.auth)

    def again(self, sent: httpx.Request, **other: Any) -> int:
        """Send what was sent before, or something else under its signature."""
        facts = {"method": sent.method, "url": str(sent.url), "content": sent.content} | other
        headers = {name: value for name, value in sent.headers.items() if name != "content-length"}
        return httpx.request(headers=headers, **facts).status_code


def test_a_signed_call_is_known_and_is_good_once(standins: Standins) -> None:
    account = Account(standins.base)
    answer = account.call("GET", "inbox")
    assert answer.json() == {"name": "Joinery", "scopes": ["orders:send", "answers:read"]}
    assert "Authorization" not in answer.request.headers
    assert account.again(answer.request) == 401, "the same signature twice"
    # Each call is signed anew.
    assert account.call("GET", "inbox").status_code == 200


def test_what_is_signed_cannot_be_changed_on_the_way(standins: Standins) -> None:
    account = Account(standins.base)
    sent = account.call("POST", "orders", b"this is no order").request
    assert "Content-Digest" in sent.headers
    fresh = httpx.Request("POST", sent.url, content=ORDER)
    (signed,) = list(account.auth.auth_flow(fresh))
    assert account.again(signed, content=b"<Order>more</Order>") == 401, "another body"
    assert account.again(signed, content=b"") == 401, "no body"
    assert account.again(signed, url=str(sent.url).replace("orders", "answers"), method="GET", content=None) == 401
    # Untouched it is heard: what is refused is what it says, not who says it.
    assert account.again(signed) != 401


@pytest.mark.parametrize(("key", "secret"), [("us", "another"), ("nobody", "s"), ("", "")])
def test_another_secret_or_key_is_not_known(standins: Standins, key: str, secret: str) -> None:
    assert Account(standins.base, key, secret).call("GET", "inbox").status_code == 401
    assert httpx.get(f"{standins.base}/supplier/joinery/api/inbox", headers={"Authorization": "Bearer s"}).status_code == 401


def test_an_old_signature_is_not_taken(standins: Standins, monkeypatch: pytest.MonkeyPatch) -> None:
    account = Account(standins.base)
    monkeypatch.setattr("standins.common.GOOD_FOR", timedelta(seconds=-60))
    assert account.call("GET", "inbox").status_code == 401


@pytest.mark.django_db
def test_a_connection_says_when_its_secret_is_wrong(standins: Standins) -> None:
    make_company()
    sign_in = {"key": "us", "secret": "mistyped"}
    row = actions.add(SYSTEM, kind="supplier", name="Joinery", address=f"{standins.base}/supplier/joinery", sign_in=sign_in)
    assert not actions.test(SYSTEM, row.pk, timezone.now()).test_report["ok"]
    actions.change_settings(SYSTEM, row.pk, 1, {"sign_in": {"secret": "s"}})
    assert actions.test(SYSTEM, row.pk, timezone.now()).test_report["ok"]
