from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("jobs", "0004_after_seen")]
    operations = [
        migrations.AddField("jobrecord", "next_audit", models.DateTimeField(null=True, db_index=True)),
    ]
