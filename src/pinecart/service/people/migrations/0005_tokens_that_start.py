from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("people", "0004_ways_in")]
    operations = [
        migrations.AddField(
            "token", "starts", models.CharField(max_length=63, blank=True, default="")
        )
    ]
