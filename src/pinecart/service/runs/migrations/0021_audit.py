from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0020_cleared")]
    operations = [
        migrations.AddField("run", "audit", models.JSONField(default=dict)),
    ]
