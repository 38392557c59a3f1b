"""Values of declared settings, by level, and every change of them."""

from typing import ClassVar

from django.db import models

from yuvrel.ownership import owned, owner


class SettingValue(models.Model):
    """What is set at one level for one subject. Without a row a level inherits.

    `subject` is the id at that level (0 for the company and for kinds), `within` the connection of a category on it,
    `kind` the kind of connection. `value` is JSON, numbers as texts; null is *no limit*.
    """

    company = owner()
    name = models.CharField(max_length=40)
    level = models.CharField(max_length=30)
    subject = models.BigIntegerField(default=0)
    within = models.BigIntegerField(default=0)
    kind = models.CharField(max_length=20, blank=True)
    value = models.JSONField(null=True)

    objects: ClassVar[models.Manager["SettingValue"]] = owned()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["company", "name", "level", "subject", "within", "kind"], name="setting_once"),
            models.CheckConstraint(condition=~models.Q(name=""), name="setting_named"),
            models.CheckConstraint(
                condition=models.Q(level__in=("company", "kind of connection"), subject=0)
                | ~models.Q(level__in=("company", "kind of connection")) & models.Q(subject__gt=0),
                name="setting_has_its_subject",
            ),
        ]
        indexes = [models.Index(fields=["level", "subject"], name="setting_subject")]


class SettingChange(models.Model):
    """One change of a value, never edited: what it was and what it is; empty where it is inherited."""

    company = owner()
    name = models.CharField(max_length=40)
    level = models.CharField(max_length=30)
    subject = models.BigIntegerField(default=0)
    within = models.BigIntegerField(default=0)
    kind = models.CharField(max_length=20, blank=True)
    title = models.CharField(max_length=200, help_text="What the subject was called")
    before = models.JSONField(default=dict, help_text="{} where it was inherited, else {value: …}")
    after = models.JSONField(default=dict)
    by = models.CharField(max_length=150)
    at = models.DateTimeField()

    objects: ClassVar[models.Manager["SettingChange"]] = owned()

    class Meta:
        indexes = [models.Index(fields=["level", "subject", "-id"], name="setting_change_subject")]
