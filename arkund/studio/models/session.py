"""A session: one song's drum recording with its current Plan."""

import functools
import marshal

from django.conf import settings
from django.db import models

from arkund.core.plan.plan import Plan


class Session(models.Model):
    """One song. ``version`` counts the changes of the Plan; every Move names the version that it was made on."""

    name = models.CharField(max_length=120)
    sample_rate_hz = models.PositiveIntegerField()
    plan_json = models.JSONField()
    version = models.PositiveIntegerField(default=0)
    warnings = models.JSONField(default=list)
    created = models.DateTimeField(auto_now_add=True)
    ready = models.BooleanField(default=False)  # false while an import is still writing

    members = models.ManyToManyField(settings.AUTH_USER_MODEL, related_name="sessions")  # who may see it, with logins

    class Meta:
        ordering = ("-created",)

    def __str__(self) -> str:
        return self.name

    @property
    def plan(self) -> Plan:
        """Return the current Plan, checked."""
        return _read(marshal.dumps(self.plan_json))


@functools.lru_cache(maxsize=16)
def _read(data: bytes) -> Plan:
    """Read a Plan once: a song whose every stroke was moved has thousands of cuts, and each request asks for it several times."""
    return Plan.from_json(marshal.loads(data))  # noqa: S302 - what was dumped a line before
