from django.db import migrations, models

GROUPED_BY = ("decision", "reason", "done", "error", "proof", "cleared", "folder")


def add_up(apps, schema_editor):
    """Runs that had not ended when the release changed have their sums from now on as well."""
    runs, records = apps.get_model("runs", "Run"), apps.get_model("runs", "RecordRow")
    unsummed = list(runs.objects.filter(summed__isnull=True).values_list("pk", flat=True))
    for number in unsummed:
        groups = records.objects.filter(run_id=number).values(*GROUPED_BY)
        found = list(groups.annotate(n=models.Count("id"), b=models.Sum("size")))
        runs.objects.filter(pk=number).update(summed=found)


class Migration(migrations.Migration):
    dependencies = [("runs", "0009_ledger_in_fewer_columns")]

    operations = [
        migrations.RunPython(add_up, migrations.RunPython.noop),
        migrations.AlterField("run", "summed", models.JSONField(default=list)),
        migrations.AlterField("scope", "job", models.CharField(max_length=100)),
        migrations.AddField("scope", "dropped_at", models.DateTimeField(null=True)),
    ]
