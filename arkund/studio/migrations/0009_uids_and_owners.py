import uuid

import django.db.models
from django.db import migrations, models

import arkund.studio.models.session


def give_uids(apps, schema_editor):
    for session in apps.get_model("studio", "Session").objects.all():
        session.uid = uuid.uuid4().hex
        session.save(update_fields=["uid"])


class Migration(migrations.Migration):

    dependencies = [("studio", "0008_templates")]

    operations = [
        migrations.RemoveField(model_name="job", name="process"),
        migrations.AddField(model_name="job", name="owner", field=models.CharField(blank=True, max_length=60, default=""), preserve_default=False),
        migrations.AddField(model_name="session", name="uid", field=models.CharField(max_length=32, default="")),
        migrations.RunPython(give_uids, migrations.RunPython.noop),
        migrations.AddIndex(model_name="session", index=models.Index(fields=["ready", "-created"], name="session_list")),
        migrations.AlterField(
            model_name="session",
            name="uid",
            field=models.CharField(default=arkund.studio.models.session.new_uid, max_length=32, unique=True),
        ),
    ]
