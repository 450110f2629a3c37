import django.db.models.deletion
from django.db import migrations, models


def link(apps, schema_editor):
    """Give each finding that was done the Move by which it was: the last of its title in its session."""
    decision, move = apps.get_model("studio", "Decision"), apps.get_model("studio", "Move")
    for each in decision.objects.filter(verdict="done"):
        each.move = move.objects.filter(session=each.session_id, title=each.title).order_by("-number").first()
        each.save(update_fields=["move"])


class Migration(migrations.Migration):
    dependencies = [("studio", "0010_moves_by_schema")]

    operations = [
        migrations.AddField(model_name="move", name="last_version", field=models.PositiveIntegerField(default=0)),
        migrations.AddField(
            model_name="decision",
            name="move",
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, to="studio.move"),
        ),
        migrations.RunPython(link, migrations.RunPython.noop),
    ]
