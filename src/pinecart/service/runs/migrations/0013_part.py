from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0012_apart")]
    operations = [migrations.AddField("run", "part", models.JSONField(default=dict))]
