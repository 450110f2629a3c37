from django.db import migrations


def into_the_plan(apps, schema_editor):
    for session in apps.get_model("studio", "Session").objects.exclude(sides={}):
        for mic in session.plan_json["mics"]:
            mic["side"] = session.sides.get(mic["id"], "")
        session.save(update_fields=["plan_json"])


class Migration(migrations.Migration):
    dependencies = [("studio", "0005_recordings_by_digest")]

    operations = [
        migrations.RunPython(into_the_plan, migrations.RunPython.noop),
        migrations.RemoveField("session", "sides"),
    ]
