from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0017_priority")]
    operations = [migrations.AddField("run", "course", models.JSONField(default=list))]
