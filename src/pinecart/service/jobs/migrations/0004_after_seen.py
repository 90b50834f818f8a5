from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("jobs", "0003_versions")]
    operations = [migrations.AddField("jobrecord", "after_seen", models.DateTimeField(null=True))]
