"""Whose session it is."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.backends import ModelBackend

from .models import User

WITH_GROUPS = """
    SELECT people_user.*, ARRAY(
        SELECT auth_group.name FROM auth_group JOIN people_user_groups AS within ON within.group_id = auth_group.id
        WHERE within.user_id = people_user.id) AS group_names
    FROM people_user WHERE id = %s
"""


class PeopleBackend(ModelBackend):
    """Django's own, but that a person is read together with the groups, and by a statement that is ready: both are asked
    for in every request, of which they took a quarter of the time."""

    def get_user(self, user_id: Any) -> User | None:
        """The person of this id, if still active."""
        found: User | None = next(iter(User.objects.raw(WITH_GROUPS, [user_id])), None)
        return found if found is not None and self.user_can_authenticate(found) else None
