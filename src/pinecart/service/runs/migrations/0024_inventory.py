from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0023_effort")]
    operations = [migrations.AddField("run", "inventory", models.JSONField(null=True))]
