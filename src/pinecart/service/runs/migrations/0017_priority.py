from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0016_seen")]
    operations = [migrations.AddField("run", "priority", models.SmallIntegerField(default=0))]
