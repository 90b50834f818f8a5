from django.db import migrations, models

NAMES = '"key", "source", "there", "crc", "racy", "cleared", "run", "scope_id"'


class Migration(migrations.Migration):
    """The ledger kept in the order of its keys: one tree instead of a table and an index beside it.
    """

    dependencies = [
        ('runs', '0007_uploads_again'),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(
            database_operations=[
                migrations.RunSQL([
                    '''CREATE TABLE "new__runs_ledgerrow" (
                        "scope_id" bigint NOT NULL REFERENCES "runs_scope" ("id") DEFERRABLE INITIALLY DEFERRED,
                        "key" BLOB NOT NULL, "source" varchar(120) NOT NULL, "there" varchar(120) NOT NULL,
                        "crc" varchar(12) NOT NULL, "racy" bool NOT NULL, "cleared" bool NOT NULL, "run" bigint NOT NULL,
                        PRIMARY KEY ("scope_id", "key")
                    ) WITHOUT ROWID''',
                    f'INSERT INTO "new__runs_ledgerrow" ({NAMES}) SELECT {NAMES} FROM "runs_ledgerrow" ORDER BY "scope_id", "key"',
                    'DROP TABLE "runs_ledgerrow"',
                    'ALTER TABLE "new__runs_ledgerrow" RENAME TO "runs_ledgerrow"',
                ]),
            ],
            state_operations=[
                migrations.AlterUniqueTogether(name='ledgerrow', unique_together=set()),
                migrations.RemoveField(model_name='ledgerrow', name='id'),
                migrations.AddField(
                    model_name='ledgerrow',
                    name='pk',
                    field=models.CompositePrimaryKey('scope', 'key', blank=True, editable=False, primary_key=True, serialize=False),
                ),
            ],
        ),
    ]
