"""How orders stand here, told to the channel they came from in its own words, where a rule says so."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping

from yuvrel.connectors.base import Connector, capable, told_states
from yuvrel.connectors.capabilities import OrderStates
from yuvrel.connectors.messages import StateNotice
from yuvrel.connectors.registry import KINDS
from yuvrel.core.errors import BadInputError
from yuvrel.core.rules import Level, Rung, Value, meanings
from yuvrel.documents.registry import Moment, add_moments
from yuvrel.rules.registry import add_check
from yuvrel.sales.documents import TO_LEAVE
from yuvrel.sales.models import SalesOrder
from yuvrel.sales.rules import OUR_STATES, order_rules, order_rules_of

from .models import Connection, OutboundMessage
from .queueing import queue_again

STATE = "order_state"


@add_check
def _check_words(rung: Rung, found: Mapping[str, Value]) -> None:
    given = meanings(found["states_told"]) if isinstance(found.get("states_told"), str) else {}
    kind = rung.kind
    if given and rung.level == Level.CONNECTION:
        kind = Connection.objects.get(pk=rung.subject).kind
    known = told_states(KINDS[kind]) if kind else {word for one in KINDS.values() for word in told_states(one)}
    for ours, theirs in given.items():
        if ours not in OUR_STATES:
            raise BadInputError(f"An order stands here as {', '.join(OUR_STATES)}.", field="states_told")
        if theirs not in known:
            raise BadInputError(f"The account knows no state {theirs}.", field="states_told")


def words_of(kind: type[Connector]) -> list[dict[str, str]]:
    """How an order can stand here, for a kind that can be told of it."""
    titles = {SalesOrder.State.RECEIVED.value: "received, waits for goods"}
    words = OUR_STATES if told_states(kind) else ()
    return [{"sort": "our_states", "word": word, "proposed": "", "title": titles.get(word, "")} for word in words]


def queue_states(order_ids: Iterable[int]) -> set[int]:
    """Queue orders whose channel is to be told how they stand now. Returns the connections to wake."""
    able = [kind for kind, one in KINDS.items() if told_states(one)]
    found = SalesOrder.objects.filter(pk__in=list(order_ids), kind=SalesOrder.Kind.ORDER, connection__kind__in=able)
    orders = list(found.exclude(history=True).select_related("connection"))
    rules = order_rules_of({order.connection for order in orders})
    last = told_last(order.pk for order in orders)
    tell: dict[Connection, list[int]] = defaultdict(list)
    for order in orders:
        word = rules[order.connection_id].states_told.get(order.state)
        if word and word != last.get(order.pk):
            tell[order.connection].append(order.pk)
    return set[int]().union(*(queue_again(STATE, ids, connection) for connection, ids in tell.items()))


def waiting_orders(connection: Connection) -> set[int]:
    """Orders of a connection of which something is still to leave: what a changed rule tells it of."""
    rows = SalesOrder.objects.filter(connection=connection, kind=SalesOrder.Kind.ORDER, state__in=TO_LEAVE)
    return set(rows.values_list("pk", flat=True))


def told_last(order_ids: Iterable[int]) -> dict[int, str]:
    """The word that the channel of each order was told last, of those that were told one."""
    rows = OutboundMessage.objects.filter(kind=STATE, subject_id__in=list(order_ids)).exclude(answer={})
    return {order: str(answer["id"]) for order, answer in rows.values_list("subject_id", "answer")}


def send_state(connector: Connector, row: OutboundMessage) -> str:
    """Tell how an order stands by now; the word for it. One that came to stand otherwise since, without a word for that, is
    not told of."""
    order = SalesOrder.objects.select_related("connection").get(pk=row.subject_id)
    word, last = order_rules(order.connection).states_told.get(order.state, ""), str(row.answer.get("id", ""))
    if not word or word == last:
        return last
    why = order.cancelled_because or order.stopped_because
    capable(connector, OrderStates).tell_state(StateNotice(order_id=order.external_id, state=word, why=why))
    return word


def _moments(order: SalesOrder) -> list[Moment]:
    """What of an order its channel was told last."""
    row = OutboundMessage.objects.filter(kind=STATE, subject_id=order.pk).select_related("connection").first()
    if row is None:
        return []
    if row.state == OutboundMessage.State.SENT and row.sent_at:
        said = str(row.answer["id"]).replace("_", " ")
        return [Moment(row.sent_at, "", f"{row.connection.name} was told how it stands", said)] if said else []
    return [Moment(row.next_try_at, "", f"{row.connection.name} is still to be told how it stands", row.last_error)]


add_moments("order", _moments)
