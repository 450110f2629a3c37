"""A session: one song's drum recording with its current Plan."""

import marshal
import threading
import uuid
from collections import OrderedDict

from django.conf import settings
from django.db import models

from arkund.core.plan.plan import Plan
from arkund.core.plan.versions import read_plan


def new_uid() -> str:
    """Return a name that no other session has, here or elsewhere."""
    return uuid.uuid4().hex


class Session(models.Model):
    """One song. ``version`` counts the changes of the Plan; every Move names the version that it was made on."""

    uid = models.CharField(max_length=32, unique=True, default=new_uid)  # the same wherever the session's card lies
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
        indexes = (models.Index(fields=("ready", "-created"), name="session_list"),)  # long Plans stay unread

    def __str__(self) -> str:
        return self.name

    @property
    def plan(self) -> Plan:
        """Return the current Plan, checked."""
        content = _content(self.plan_json)
        with _lock:
            known = _plans.get(content)
        return known or _remember(content, read_plan(self.plan_json, rate=self.sample_rate_hz))

    @plan.setter
    def plan(self, plan: Plan) -> None:
        self.plan_json = plan.to_json()
        _remember(_content(self.plan_json), plan)


# A song whose every stroke was moved has thousands of cuts, and each request asks for its Plan several times: it is read once.
MOST_PLANS = 16
_plans: OrderedDict[bytes, Plan] = OrderedDict()
_lock = threading.Lock()


def _content(data: dict) -> bytes:
    return marshal.dumps(data, 2)  # the last version in which equal data give equal bytes


def _remember(content: bytes, plan: Plan) -> Plan:
    with _lock:
        _plans[content] = plan
        while len(_plans) > MOST_PLANS:
            _plans.popitem(last=False)
    return plan
