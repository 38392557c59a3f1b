"""Files that people send in: what they were found to say, and what became of them."""

from typing import ClassVar

from django.db import models

from yuvrel.ownership import owned, owner


class Intake(models.Model):
    """One file: checked first, taken in when somebody says so."""

    class State(models.TextChoices):
        CHECKING = "checking"
        CHECKED = "checked"
        APPLYING = "applying"
        DONE = "done"
        STOPPED = "stopped"
        FAILED = "failed"

    AT_WORK = (State.CHECKING, State.APPLYING)

    company = owner()
    kind = models.CharField(max_length=30)
    name = models.CharField(max_length=200, help_text="The file's")
    data = models.BinaryField()
    state = models.CharField(max_length=8, choices=State.choices, default=State.CHECKING)
    whole = models.BooleanField(default=False, help_text="Nothing is taken in while a row is wrong")
    counts = models.JSONField(default=dict)
    unknown = models.JSONField(default=list, help_text="Columns that are none of this sheet's")
    shown = models.JSONField(default=list, help_text="The first rows of each outcome")
    wrong = models.JSONField(default=dict, help_text="Line to what is wrong with it")
    total = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    stop = models.BooleanField(default=False, help_text="Somebody asked it to stop")
    said = models.CharField(max_length=300, blank=True)
    undo_rows = models.PositiveIntegerField(default=0)
    undoes = models.OneToOneField("self", on_delete=models.SET_NULL, null=True, related_name="undone_by")
    by = models.CharField(max_length=150)
    role = models.CharField(max_length=20)
    user_id = models.BigIntegerField(null=True)
    made_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)

    objects: ClassVar[models.Manager["Intake"]] = owned()

    class Meta:
        indexes = [models.Index(fields=["kind", "-id"], name="intake_newest")]
        constraints = [models.CheckConstraint(condition=models.Q(done__lte=models.F("total")), name="intake_done_of_total")]


class Before(models.Model):
    """What a changed row is known by, and what stood in its cells before: what undoes a file, a line at a time."""

    intake = models.ForeignKey(Intake, on_delete=models.CASCADE, related_name="befores")
    line = models.PositiveIntegerField()
    cells = models.JSONField()

    objects: ClassVar[models.Manager["Before"]] = owned("intake__company")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["intake", "line"], name="intake_before_once")]
