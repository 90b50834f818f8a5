"""Jobs in files: given out, brought in, and the schema of such a file."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import click

from pinecart.cli.frame import PROBLEMS, Cart, output_option, say
from pinecart.cli.job_life import tell_differences
from pinecart.cli.jobs import job, tell_sentences
from pinecart.json_object import JsonObject


@job.command("export")
@click.argument("names", nargs=-1)
@click.option(
    "--into",
    type=click.Path(file_okay=False, path_type=Path),
    help="A folder: one file a job, NAME.yaml.",
)
@output_option
def job_export(cart: Cart, names: tuple[str, ...], into: Path | None) -> None:
    """Jobs as YAML, to be kept in version control; without a name, all. No secret is in it.

    \b
    pinecart job export > jobs.yaml
    pinecart job export --into jobs/
    """
    export = cart.client.export_jobs
    if into is None:
        told = export(*names)
        text = told["text"].rstrip()
        cart.show(told, lambda: click.echo(text))
        return
    found = list(names)
    if not found:
        found = export()["jobs"]
    into.mkdir(parents=True, exist_ok=True)
    for name in found:
        told = export(name)
        file = into / f"{name}.yaml"
        file.write_text(told["text"])
    words = f"Wrote {len(found)} files into {into}."
    cart.show({"jobs": found}, lambda: say(words))


@job.command("import")
@click.argument("files", nargs=-1, required=True, type=click.Path(exists=True, path_type=Path))
@click.option("--job", "name", default="", help="Of a table: the one job its rows are legs of.")
@click.option("--map-store", "stores", multiple=True, metavar="FILE=HERE", help="Another store.")
@click.option("--check", is_flag=True, help="Only tell; exit 1 when anything differs.")
@click.option("--yes", is_flag=True, help="Don't ask.")
@output_option
def job_import(
    cart: Cart,
    files: tuple[Path, ...],
    name: str,
    stores: tuple[str, ...],
    check: bool,
    yes: bool,
) -> None:
    """Bring jobs in from YAML files, folders of them, or a table (CSV): all or nothing. What
    would change is told first; the same again changes nothing.

    \b
    pinecart job import jobs/
    pinecart job import jobs.yaml --map-store test=live
    pinecart job import pairs.csv --job dawn
    \b
    A table has a head: from,to and, if you like, name,title,why,labels,intent. Any other column
    is a value that {column} in from and to stands for.
    """
    text, form = _read_all(files)
    mapped = _store_map(stores)
    told = cart.client.import_jobs(text, form=form, job=name, stores=mapped)
    if not cart.as_json:
        _tell_import(told)
    if not told["differ"] or check:
        cart.show(told, lambda: None)
        sys.exit(PROBLEMS if told["differ"] else 0)
    if not yes and sys.stdin.isatty():
        click.confirm("Save this?", abort=True, err=True)
    elif not yes:
        raise click.UsageError("Say --yes to save it, or --check to be told only.")
    saved = cart.client.import_jobs(text, form=form, job=name, stores=mapped, save=True)
    cart.show(saved, lambda: say(f"Saved {saved['differ']} jobs."))


def _read_all(paths: tuple[Path, ...]) -> tuple[str, str]:
    """The text of all files, and whether it is "yaml" or "csv"."""
    files: list[Path] = []
    for path in paths:
        if path.is_dir():
            below = [*path.rglob("*.yaml"), *path.rglob("*.yml")]
            files += sorted(below)
        else:
            files.append(path)
    has_table = any(file.suffix.lower() == ".csv" for file in files)
    if has_table and len(files) > 1:
        raise click.UsageError("A table is brought in by itself: give it alone.")
    texts = [file.read_text(encoding="utf-8") for file in files]
    whole = "\n---\n".join(texts)
    return whole, "csv" if has_table else "yaml"


def _store_map(given: tuple[str, ...]) -> dict[str, str]:
    """Of FILE=HERE, once or more: which store here stands for which in the files. Raises
    UsageError.
    """
    found = {}
    for text in given:
        old, _, new = text.partition("=")
        if not old or not new:
            raise click.UsageError(f"{text!r}: write it as FILE=HERE, such as test=live.")
        found[old] = new
    return found


def _tell_import(told: JsonObject) -> None:
    same = 0
    for one in told["jobs"]:
        if one["change"] == "same":
            same += 1
            continue
        click.echo(f"{one['job']}: {one['change']}")
        if one["change"] == "new":
            tell_sentences(one)
        tell_differences(one["differences"])
    if same:
        click.echo(f"{same} as they are already.")


@job.command("schema")
def job_schema() -> None:
    """The JSON Schema of a job file, for editors and checks elsewhere.

    \b
    pinecart job schema > job.schema.json
    """
    schema = click.get_current_context().obj.client.job_schema()
    click.echo(json.dumps(schema, indent=2))
