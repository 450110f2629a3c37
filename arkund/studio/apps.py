"""The Django application."""

from django.apps import AppConfig


class StudioConfig(AppConfig):
    """Arkund's pages, services and command line."""

    name = "arkund.studio"
    label = "studio"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Let the runner know all kinds of work."""
        from arkund.studio.jobs import kinds, runner  # they need the models

        runner.know(kinds.KINDS)
