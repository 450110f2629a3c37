"""Takes, the audio of their mics, and what was measured in them (their hits among it)."""

from django.db import models


class Takes(models.Manager):
    """The takes themselves, without a backing track and the shelf's files."""

    def get_queryset(self):
        """Leave out what is kept like a take and is none."""
        return super().get_queryset().filter(kind=Take.DRUMS)


class Take(models.Model):
    """One pass of the whole kit; a session's backing track and the files of its shelf are kept in the same way."""

    DRUMS, BACKING, SHELF = "drums", "backing", "shelf"

    session = models.ForeignKey("studio.Session", on_delete=models.CASCADE, related_name="takes")
    key = models.CharField(max_length=40)  # as the Plan names it
    name = models.CharField(max_length=120)
    length = models.BigIntegerField(default=0)  # samples
    kind = models.CharField(max_length=10, default=DRUMS)

    objects = Takes()
    everything = models.Manager()

    class Meta:
        ordering = ("id",)
        constraints = (models.UniqueConstraint(fields=("session", "key"), name="take_key"),)

    def __str__(self) -> str:
        return f"{self.session}: {self.name}"


class MicRecording(models.Model):
    """One mic of one take: where its samples lie and what was noticed while reading."""

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="mics")
    mic = models.CharField(max_length=60)  # id in the Plan
    file = models.CharField(max_length=255)  # as it was named
    digest = models.CharField(max_length=64)
    length = models.BigIntegerField()
    peak_db = models.FloatField()
    clipped = models.PositiveIntegerField(default=0)
    confidence = models.FloatField(default=0.0)

    class Meta:
        ordering = ("id",)
        constraints = (models.UniqueConstraint(fields=("take", "mic"), name="mic_of_take"),)

    def __str__(self) -> str:
        return f"{self.take}: {self.mic}"


class Measured(models.Model):
    """A measurement by the hash of all it depends on, so that nothing is measured twice."""

    key = models.CharField(max_length=64, primary_key=True)
    session = models.ForeignKey("studio.Session", on_delete=models.CASCADE, related_name="measured")
    data = models.JSONField()

    def __str__(self) -> str:
        return self.key
