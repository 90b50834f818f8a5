from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0018_course")]
    operations = [migrations.AddField("run", "stop_at_once", models.BooleanField(default=False))]
