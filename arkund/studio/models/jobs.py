"""Long work and its results."""

from django.db import models


class Job(models.Model):
    """Something that takes a while: its state, progress and the wish to stop it survive in the database."""

    WAITING, RUNNING, DONE, FAILED, CANCELLED = "waiting", "running", "done", "failed", "cancelled"

    kind = models.CharField(max_length=20)
    session = models.ForeignKey("studio.Session", on_delete=models.CASCADE, null=True, related_name="jobs")
    state = models.CharField(max_length=10, default=WAITING)
    progress = models.FloatField(default=0.0)
    message = models.CharField(max_length=600, blank=True)
    cancel = models.BooleanField(default=False)
    result = models.JSONField(default=dict)
    process = models.PositiveIntegerField(default=0)
    started = models.DateTimeField(auto_now_add=True)
    beat = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ("-id",)

    def __str__(self) -> str:
        return f"{self.kind} {self.state}"


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
