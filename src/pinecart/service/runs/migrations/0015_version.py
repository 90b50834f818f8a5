from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0014_latest_of_job")]
    operations = [migrations.AddField("run", "version", models.IntegerField(null=True))]
