from django.db import migrations, models


def count_what_ran(apps, schema_editor):
    """What ended before counts, too."""
    Run, Tally = apps.get_model("runs", "Run"), apps.get_model("runs", "RunTally")
    ended = Run.objects.filter(kind="transfer", state="ended").exclude(outcome="")
    for outcome in ended.values_list("outcome", flat=True).distinct():
        Tally.objects.create(outcome=outcome, runs=ended.filter(outcome=outcome).count())


class Migration(migrations.Migration):
    dependencies = [("runs", "0021_audit")]
    operations = [
        migrations.CreateModel(
            name="RunTally",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("outcome", models.CharField(max_length=14, unique=True)),
                ("runs", models.BigIntegerField(default=0)),
                ("files", models.BigIntegerField(default=0)),
                ("bytes", models.BigIntegerField(default=0)),
                ("seconds", models.FloatField(default=0)),
                ("lasted", models.JSONField(default=dict)),
            ],
        ),
        migrations.RunPython(count_what_ran, migrations.RunPython.noop),
    ]
