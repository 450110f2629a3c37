"""Long work and its results."""

from django.conf import settings
from django.db import models

LEAST_PROGRESS = 0.05  # before, the remaining time cannot be estimated


class Job(models.Model):
    """Something that takes a while: what is to be done, its state, progress and the wish to stop it survive in the database."""

    WAITING, RUNNING, DONE, FAILED, CANCELLED = "waiting", "running", "done", "failed", "cancelled"
    OPEN = (WAITING, RUNNING)

    kind = models.CharField(max_length=20)
    title = models.CharField(max_length=200, default="")
    session = models.ForeignKey("studio.Session", on_delete=models.CASCADE, null=True, related_name="jobs")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)  # who asked, with logins
    arguments = models.JSONField(default=dict)
    state = models.CharField(max_length=10, default=WAITING)
    progress = models.FloatField(default=0.0)
    message = models.CharField(max_length=600, blank=True)
    cancel = models.BooleanField(default=False)
    quiet = models.BooleanField(default=False)  # in the background, while nothing else is to be done
    result = models.JSONField(default=dict)
    owner = models.CharField(max_length=60, blank=True)  # the process that does it: ``services/owner.py``
    tries = models.PositiveSmallIntegerField(default=0)
    started = models.DateTimeField(auto_now_add=True)
    began = models.DateTimeField(null=True)
    beat = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return f"{self.kind} {self.state}"

    @property
    def remaining_s(self) -> float | None:
        """How long it will still take, from how long it took so far; None while that says nothing."""
        if self.state != self.RUNNING or self.began is None or self.progress < LEAST_PROGRESS:
            return None
        return (self.beat - self.began).total_seconds() * (1.0 - self.progress) / self.progress


class Print(models.Model):
    """Rendered files with a manifest."""

    session = models.ForeignKey("studio.Session", on_delete=models.CASCADE, related_name="prints")
    folder = models.CharField(max_length=500)
    format = models.CharField(max_length=10)
    version = models.PositiveIntegerField()
    manifest = models.JSONField()
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return f"{self.session} v{self.version}"
