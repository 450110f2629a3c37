from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("studio", "0012_moves_of_jobs")]

    operations = [
        migrations.AddField("move", "reverts", models.PositiveIntegerField(null=True)),
        migrations.AddField("decision", "evidence", models.CharField(max_length=600, blank=True, default="")),
    ]
