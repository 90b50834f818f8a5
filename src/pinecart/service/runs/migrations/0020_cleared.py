from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0019_stop_at_once")]
    operations = [
        migrations.AddField("run", "cleared_at", models.DateTimeField(null=True)),
    ]
