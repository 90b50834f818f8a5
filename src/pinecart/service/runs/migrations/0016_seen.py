from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0015_version")]
    operations = [migrations.AddField("recordrow", "seen", models.BigIntegerField(null=True))]
