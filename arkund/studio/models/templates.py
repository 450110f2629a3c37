"""Starting points: a session's settings by kind of mic, under a name."""

from django.conf import settings
from django.db import models


class Template(models.Model):
    """What ``core.plan.template`` makes of a Plan."""

    name = models.CharField(max_length=80)
    data = models.JSONField()
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="+")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("name",)
        constraints = (models.UniqueConstraint(fields=("name", "user"), name="template_name"),)

    @property
    def kinds(self) -> int:
        """For how many kinds of mic it has settings."""
        return len(self.data.get("mics", {}))

    def __str__(self) -> str:
        return self.name


class Style(models.Model):
    """A style of one's own: ``core.card.own_style``, and the style of the table that it is made of."""

    name = models.CharField(max_length=40)
    school = models.CharField(max_length=10)
    data = models.JSONField()
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="+")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("name",)
        constraints = (models.UniqueConstraint(fields=("name", "user"), name="style_name"),)

    def __str__(self) -> str:
        return self.name
