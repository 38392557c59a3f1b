"""Somebody looks after their own account, and lets a restored company send again."""

from __future__ import annotations

from typing import Any

import pytest
from django.utils import timezone
from playwright.sync_api import Page, expect

from tests.browser.conftest import assert_accessible
from tests.browser.test_journey import Person
from tests.channels.conftest import Standins
from tests.world import make_connection
from yuvrel.people.models import ApiToken, Company
from yuvrel.recovery.actions import begin
from yuvrel.recovery.models import FoundThere, Recovery


@pytest.fixture
def manager(page: Page, live_server: Any, house: Standins) -> Person:
    found = Person(page, live_server.url, house)
    found.sign_in("manager")
    return found


def test_a_token_is_given_out_and_a_password_changed(manager: Person) -> None:
    page = manager.page
    manager.go("/account")
    expect(page.get_by_role("region", name="Sessions").get_by_text("this session")).to_be_visible()
    page.get_by_role("button", name="New token").click()
    page.get_by_label("What it is for").fill("stock export")
    page.get_by_label("adjust stock").check()
    page.get_by_role("button", name="Give it out").click()
    expect(page.get_by_text("it is not shown again")).to_be_visible()
    assert ApiToken.objects.get().abilities == ["adjust stock", "read"]
    assert_accessible(page)
    page.get_by_role("button", name="Revoke").click()
    expect(page.get_by_text("No program acts in your name.")).to_be_visible()
    page.get_by_label("Your password now").fill("larkmead")
    page.get_by_label("New password").fill("too short")
    page.get_by_role("button", name="Change password").click()
    expect(page.get_by_role("alert")).to_contain_text("at least 12 characters")
    page.get_by_label("New password").fill("quiet bees at noon")
    page.get_by_role("button", name="Change password").click()
    expect(page.get_by_text("Your password was changed.")).to_be_visible()


def test_a_restored_company_sends_again_when_somebody_agrees(page: Page, live_server: Any, house: Standins) -> None:
    company = Company.objects.get()
    ledger = make_connection("ledger", name="Daybook", state="paused")
    begin(timezone.now())
    recovery = Recovery.objects.get()
    FoundThere.objects.create(
        recovery=recovery, connection=ledger, kind="ledger document", key="J-9", title="Document J-9", said="journal", body={}
    )
    Recovery.objects.update(asked_at=timezone.now(), said=[["Daybook", "holds 1 document of ours, 1 is not here"]])
    manager = Person(page, live_server.url, house)
    manager.sign_in("manager")
    page.get_by_role("link", name="See what happened since").click()
    expect(page.get_by_text("Document J-9")).to_be_visible()
    expect(page.get_by_role("button", name="Send again")).to_have_count(0)
    page.get_by_role("button", name="Take back there", exact=True).click()
    expect(page.get_by_text("What was found cannot be read any more.")).to_be_visible()
    assert_accessible(page)
    page.get_by_role("button", name="Leave").click()
    page.get_by_label("Why it stays").fill("booked by hand there")
    page.get_by_role("button", name="Keep").click()
    page.get_by_role("button", name="Send again").click()
    expect(page.get_by_text("Nothing is held back.")).to_be_visible()
    assert Company.objects.get(pk=company.pk).held_at is None
