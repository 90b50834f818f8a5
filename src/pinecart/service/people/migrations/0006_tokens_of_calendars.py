from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("people", "0005_tokens_that_start")]
    operations = [
        migrations.AddField("token", "reads_calendar", models.BooleanField(default=False))
    ]
