from django.db import migrations, models
from django.db.models.functions import Cast

RENAMED = {"newer_than": "changed_within", "older_than": "unchanged_for"}


def renamed(definition):
    legs = [{RENAMED.get(k, k): v for k, v in leg.items()} for leg in definition["legs"]]
    return definition | {"legs": legs}


def rename_rules(apps, schema_editor):
    runs = apps.get_model("runs", "Run")
    for old in RENAMED:
        told = runs.objects.annotate(text=Cast("definition", models.TextField()))
        for run in told.filter(text__contains=f'"{old}"').only("definition").iterator(200):
            runs.objects.filter(pk=run.pk).update(definition=renamed(run.definition))


class Migration(migrations.Migration):
    dependencies = [("runs", "0010_sums_kept")]

    operations = [
        migrations.AddField("run", "waits", models.BooleanField(default=False)),
        migrations.AddField("uploadrow", "clear_at", models.DateTimeField(null=True)),
        migrations.AddField("instance", "folder", models.CharField(default="", max_length=32)),
        migrations.AddField("instance", "sealed", models.BinaryField(default=bytes)),
        migrations.RunPython(rename_rules, migrations.RunPython.noop),
    ]
