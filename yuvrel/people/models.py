"""Who works here, where, and what they did."""

from typing import ClassVar

from django.contrib.auth.models import AbstractUser
from django.db import models

from yuvrel.ownership import company_or_none, owned


class Company(models.Model):
    """A legal entity: its base currency, time zone and books."""

    name = models.CharField(max_length=120, unique=True)
    base_currency = models.CharField(max_length=3, default="EUR")
    time_zone = models.CharField(max_length=60, default="Europe/Dublin")
    held_at = models.DateTimeField(null=True, help_text="Since a restore nothing goes out, until somebody agrees")

    def __int__(self) -> int:
        """Its number, for what stands below companies and knows no more of them."""
        return int(self.pk)


class Epoch(models.Model):
    """A restore began it; without any row the installation is in its first."""

    number = models.PositiveIntegerField(unique=True)
    begun_at = models.DateTimeField()
    data_until = models.DateTimeField(null=True, help_text="The newest that the backup knows of")
    firsts = models.JSONField(default=dict, help_text="Table to the first id of its rows in this epoch")


class Location(models.Model):
    """A place that holds stock."""

    company = models.ForeignKey(Company, on_delete=models.PROTECT, related_name="locations")
    code = models.SlugField(max_length=20)
    name = models.CharField(max_length=80)
    position = models.PositiveSmallIntegerField(default=0)
    for_sale = models.BooleanField(default=True, help_text="What lies here may be offered; not so at a bench for repairs")

    objects: ClassVar[models.Manager["Location"]] = owned("company")

    class Meta:
        ordering = ["position", "id"]
        constraints = [
            models.UniqueConstraint(fields=["company", "code"], name="place_code_once"),
            models.UniqueConstraint(fields=["company", "name"], name="place_name_once"),
        ]


class User(AbstractUser):
    """A person who signs in; the role is the one group the person belongs to."""

    company = models.ForeignKey(
        Company, on_delete=models.PROTECT, null=True, related_name="people", help_text="Works for; empty: the first"
    )


class ApiToken(models.Model):
    """A token for programs: shown once, kept as a digest."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=80)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    revoked_at = models.DateTimeField(null=True)
    last_used_at = models.DateTimeField(null=True)
    expires_at = models.DateTimeField(null=True, help_text="Empty: good until it is revoked")
    abilities = models.JSONField(null=True, help_text="What it may be used for; empty: whatever its owner may do")


class OpenSession(models.Model):
    """Where a person is signed in."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="open_sessions")
    key = models.CharField(max_length=40, unique=True)
    address = models.CharField(max_length=45)
    device = models.CharField(max_length=80)
    begun_at = models.DateTimeField()
    seen_at = models.DateTimeField()


class SignInTry(models.Model):
    """A try to sign in: counted before its password is looked at, and gone after two days."""

    name = models.CharField(max_length=150)
    address = models.CharField(max_length=45)
    at = models.DateTimeField()
    passed = models.BooleanField(default=False)

    class Meta:
        indexes = [
            models.Index(fields=["address", "at"], name="try_from"),
            models.Index(fields=["name", "at"], name="try_of_name"),
        ]


class SheetView(models.Model):
    """A way to look at a sheet that somebody gave a name: columns, order and filters."""

    owner = models.ForeignKey(User, on_delete=models.CASCADE, related_name="views")
    sheet = models.CharField(max_length=40)
    name = models.CharField(max_length=60)
    settings = models.JSONField()
    shared = models.BooleanField(default=False)
    version = models.PositiveIntegerField(default=1)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["owner", "sheet", "name"], name="view_named_once"),
            models.CheckConstraint(condition=~models.Q(name=""), name="view_has_a_name"),
        ]


class SheetHabit(models.Model):
    """How a person last had a sheet, and the view it opens with, if any."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="habits")
    sheet = models.CharField(max_length=40)
    settings = models.JSONField(null=True)
    opens_with = models.ForeignKey(SheetView, on_delete=models.SET_NULL, null=True, related_name="+")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["user", "sheet"], name="habit_once")]


class AuditRow(models.Model):
    """Who did what to which thing; before and after where something was changed."""

    at = models.DateTimeField(auto_now_add=True, db_index=True)
    user = models.ForeignKey(User, on_delete=models.PROTECT, null=True)
    actor = models.CharField(max_length=120)
    action = models.CharField(max_length=60)
    subject = models.CharField(max_length=40)
    subject_id = models.BigIntegerField(null=True)
    before = models.JSONField(default=dict)
    after = models.JSONField(default=dict)
    # What is shared may have facts of one company alone: a price of an item.
    company = models.ForeignKey("people.Company", on_delete=models.SET_NULL, null=True, default=company_or_none, related_name="+")

    class Meta:
        indexes = [models.Index(fields=["subject", "subject_id"], name="audit_subject")]


class IdempotencyKey(models.Model):
    """The answer to a POST that named a key, so that the same POST is carried out once."""

    owner = models.CharField(max_length=80)
    key = models.CharField(max_length=120)
    digest = models.CharField(max_length=64)
    status = models.PositiveSmallIntegerField(null=True)
    body = models.TextField(blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["owner", "key"], name="idempotency_once")]
