"""Routes of settings: one for every kind of subject."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from yuvrel.platform.auth import actor

from . import actions, queries
from .schemas import SettingChangeOut, SettingsChangeIn, SettingsOut

router = Router(tags=["settings"])


@router.get("/settings/{way}/{key}", response=SettingsOut, operation_id="get_settings")
def get_settings(request: HttpRequest, way: str, key: str) -> Any:
    """What can be set for a subject, what counts, and where it comes from."""
    actor(request)
    return queries.sheet(way, key)


@router.get("/settings/{way}/{key}/changes", response=list[SettingChangeOut], operation_id="setting_changes")
def changes(request: HttpRequest, way: str, key: str) -> Any:
    """Who changed what, at every level that counts for a subject; newest first."""
    actor(request)
    return queries.history(way, key)


@router.patch("/settings/{way}/{key}", response=SettingsOut, operation_id="change_settings")
def change(request: HttpRequest, way: str, key: str, body: SettingsChangeIn) -> Any:
    """Set values at one level, or let it inherit again."""
    who = actor(request)
    rung = actions.rung_at(way, key, body.level)
    actions.change(who, rung, wanted(body), timezone.now(), body.version)
    return queries.sheet(way, key)


def wanted(body: SettingsChangeIn) -> dict[str, Any]:
    """The changes as the actions take them."""
    return {**body.values, **dict.fromkeys(body.inherit, queries.INHERIT)}
