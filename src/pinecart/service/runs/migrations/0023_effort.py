from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0022_tally")]
    operations = [migrations.AddField("run", "effort", models.JSONField(default=dict))]
