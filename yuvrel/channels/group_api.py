"""Routes of the groups of customers that an account knows and shows prices of their own."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema

from yuvrel.connectors.errors import ConnectorError
from yuvrel.core.errors import RefusedError
from yuvrel.platform.auth import actor
from yuvrel.platform.wire import Id

from . import group_prices

router = Router(tags=["connections"])
GROUP = "/channel-groups/{int:group_id}"


class ToChooseOut(Schema):
    """Something to choose."""

    id: int
    name: str


class ChannelGroupOut(Schema):
    """A group of an account's customers; `speaks`: the lists it is shown prices from, none: it sees what everybody does;
    `counts`: its prices by state."""

    id: int
    key: str
    title: str
    group_id: int | None
    price_list_id: int | None
    speaks: list[str]
    counts: dict[str, int]
    version: int


class ChannelGroupsOut(Schema):
    """The groups of a connection, and our groups and lists to choose from."""

    groups: list[ChannelGroupOut]
    ours: list[ToChooseOut]
    lists: list[ToChooseOut]


class ChannelGroupIn(Schema):
    """Who a group is here, and its list; none of either: it sees what everybody does."""

    version: int
    group_id: Id | None = None
    price_list_id: Id | None = None


class GroupRehearsalOut(Schema):
    """What a group would be shown: how many prices of its own, how many otherwise than now, how many below their floor;
    `kept_here`: whether prices of the connection are shown from here at all."""

    listings: int
    changing: int
    below: int
    kept_here: bool


@router.get("/connections/{int:connection_id}/groups", response=ChannelGroupsOut, operation_id="list_channel_groups")
def groups(request: HttpRequest, connection_id: int) -> Any:
    """Groups of customers of a connection."""
    actor(request)
    return group_prices.groups_page(connection_id)


@router.post("/connections/{int:connection_id}/groups", response=ChannelGroupsOut, operation_id="read_channel_groups")
def read(request: HttpRequest, connection_id: int) -> Any:
    """Ask the account for its groups of customers."""
    try:
        group_prices.read_groups(actor(request), connection_id)
    except ConnectorError as error:
        raise RefusedError(f"The account did not tell its groups: {error}", field="address") from error
    return group_prices.groups_page(connection_id)


@router.put(GROUP, response=ChannelGroupsOut, operation_id="keep_channel_group")
def keep(request: HttpRequest, group_id: int, body: ChannelGroupIn) -> Any:
    """Say who a group is here and which list speaks for it."""
    one = group_prices.keep(actor(request), group_id, body.version, body.model_dump(exclude={"version"}))
    return group_prices.groups_page(one.connection_id)


@router.post(f"{GROUP}/rehearsal", response=GroupRehearsalOut, operation_id="rehearse_channel_group")
def rehearse(request: HttpRequest, group_id: int, body: ChannelGroupIn) -> Any:
    """What a group would be shown; nothing is kept."""
    return group_prices.rehearse(actor(request), group_id, body.version, body.model_dump(exclude={"version"}))
