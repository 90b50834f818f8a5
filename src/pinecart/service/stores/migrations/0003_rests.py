from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("stores", "0002_used_places")]

    operations = [migrations.AddField("storerecord", "rests_until", models.DateTimeField(null=True))]
