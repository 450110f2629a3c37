from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("studio", "0004_members_and_who_asked")]

    operations = [migrations.RenameField("micrecording", "sha256", "digest")]
