from django.db import migrations, models

from pinecart.core.trail_chain import ChainEntry, link


def chain_anew(apps, schema_editor):
    """What was written before is numbered without gaps, and chained by this folder's key."""
    from pinecart.service.config.settings import STATE

    Line = apps.get_model("trail", "Line")
    key, before = STATE.trail_key, ""
    for number, line in enumerate(list(Line.objects.order_by("id").iterator()), 1):
        facts = (line.at.isoformat(), line.who, line.address, line.action, line.subject, line.facts)
        digest = link(key, before, ChainEntry(number, *facts, ""))
        Line.objects.filter(pk=line.pk).update(id=number, digest=digest)
        before = digest


class Migration(migrations.Migration):
    dependencies = [("trail", "0001_initial")]
    operations = [
        migrations.AddField("line", "address", models.CharField(max_length=60, default="")),
        migrations.CreateModel(
            name="Head",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("at", models.DateTimeField()),
                ("count", models.BigIntegerField()),
                ("digest", models.CharField(max_length=64)),
                ("signature", models.CharField(max_length=100)),
            ],
        ),
        migrations.RunPython(chain_anew, migrations.RunPython.noop),
    ]
