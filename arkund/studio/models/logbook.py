"""Moves and decisions: what was done, why, and what was left alone."""

from django.db import models

from arkund.core.plan.plan import SCHEMA


class Move(models.Model):
    """One change of the Plan: paths with their values before and after, the reason and what was measured."""

    DONE, UNDONE, DROPPED = "done", "undone", "dropped"

    session = models.ForeignKey("studio.Session", on_delete=models.CASCADE, related_name="moves")
    number = models.PositiveIntegerField()
    made_on = models.PositiveIntegerField()  # the version of the Plan that it was made on
    last_version = models.PositiveIntegerField(default=0)  # that its being made, undone or done again last gave
    unattended = models.BooleanField(default=False)  # a job made it by itself
    reverts = models.PositiveIntegerField(null=True)  # number of the Move that it takes back
    schema = models.PositiveSmallIntegerField(default=SCHEMA)  # of the Plan whose settings it names
    step = models.CharField(max_length=20)
    title = models.CharField(max_length=200)
    reason = models.CharField(max_length=500, blank=True)
    measured = models.CharField(max_length=600, blank=True)
    before = models.JSONField()
    after = models.JSONField()
    state = models.CharField(max_length=8, default=DONE)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("number",)
        constraints = (models.UniqueConstraint(fields=("session", "number"), name="move_number"),)

    def __str__(self) -> str:
        return f"{self.number}: {self.title}"

    @property
    def closed(self) -> bool:
        """Say that it names settings of a former form of the Plan: it can be read, and neither be taken back nor done again."""
        return self.schema != SCHEMA


class Decision(models.Model):
    """What was decided about a finding: done, or left with a reason."""

    DONE, LEFT = "done", "left"

    session = models.ForeignKey("studio.Session", on_delete=models.CASCADE, related_name="decisions")
    key = models.CharField(max_length=80)
    verdict = models.CharField(max_length=4)
    reason = models.CharField(max_length=500, blank=True)
    title = models.CharField(max_length=200, blank=True)
    evidence = models.CharField(max_length=600, blank=True, default="")  # what was measured when it was decided
    step = models.CharField(max_length=20, blank=True)
    move = models.ForeignKey(Move, on_delete=models.SET_NULL, null=True)  # by which it was done
    at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("at",)
        constraints = (models.UniqueConstraint(fields=("session", "key"), name="decision_key"),)

    def __str__(self) -> str:
        return f"{self.key}: {self.verdict}"
