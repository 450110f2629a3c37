from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("studio", "0011_decisions_by_their_moves")]

    operations = [migrations.AddField("move", "unattended", models.BooleanField(default=False))]
