"""What a user keeps under a name for other sessions: templates, and styles of one's own."""

from django.conf import settings
from django.db import models


class OfUser(models.Model):
    """Plain data under a name; without logins of this machine."""

    name = models.CharField(max_length=80)
    data = models.JSONField()
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="+")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        abstract = True
        ordering = ("name",)
        constraints = (models.UniqueConstraint(fields=("name", "user"), name="%(class)s_name"),)

    def __str__(self) -> str:
        return self.name


class Template(OfUser):
    """A starting point: what ``core.plan.template`` makes of a Plan, by kind of mic."""

    @property
    def kinds(self) -> int:
        """For how many kinds of mic it has settings."""
        return len(self.data.get("mics", {}))


class Style(OfUser):
    """A style of one's own: ``core.card.own_style``, and the style of the table that it is made of."""

    name = models.CharField(max_length=40)
    school = models.CharField(max_length=10)
