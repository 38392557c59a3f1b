"""Mail to people of the house, by whatever the deployment has: nothing is sent where nothing is set."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from smtplib import SMTPException

from django.conf import settings
from django.core.mail import send_mail
from django.db.models import Q

from yuvrel.ownership import company_id

from .epochs import why_held
from .models import Company, User
from .roles import Ability, actor_of

log = logging.getLogger("yuvrel.mail")


def is_set() -> bool:
    """Whether this deployment sends mail at all."""
    return bool(settings.MAIL_IS_SET)


def who_may(ability: Ability) -> list[str]:
    """Addresses of those of the company that is worked for who may do something, in their order."""
    first = Company.objects.order_by("pk").values_list("pk", flat=True).first()
    here = Q(company=company_id()) | (Q(company=None) if first == company_id() else Q(pk=None))
    people = User.objects.filter(here, is_active=True).exclude(email="").prefetch_related("groups").order_by("pk")
    return [person.email for person in people if actor_of(person).may(ability)]


def send(to: Sequence[str], subject: str, text: str) -> bool:
    """Whether a mail went out to all of them; a fault of the mail server is logged, and whoever sends tries again."""
    if not to or not is_set() or why_held():
        return False
    try:
        send_mail(" ".join(subject.split())[:200], text, settings.DEFAULT_FROM_EMAIL, list(to))
    except (SMTPException, OSError) as error:
        log.warning("a mail could not be sent", extra={"error": str(error)})
        return False
    return True
