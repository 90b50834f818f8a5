from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0013_part")]
    operations = [
        migrations.AddIndex(
            "run", models.Index(fields=["kind", "job", "outcome"], name="runs_latest_of_job")
        )
    ]
