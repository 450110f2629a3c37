from django.db import migrations, models

from arkund.core.plan.plan import SCHEMA


class Migration(migrations.Migration):
    dependencies = [("studio", "0009_uids_and_owners")]

    operations = [
        # What is in a logbook by now names settings of schema 1.
        migrations.AddField(
            model_name="move", name="schema", field=models.PositiveSmallIntegerField(default=1)
        ),
        migrations.AlterField(
            model_name="move", name="schema", field=models.PositiveSmallIntegerField(default=SCHEMA)
        ),
    ]
