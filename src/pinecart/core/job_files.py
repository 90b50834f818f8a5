"""Job files: definitions as YAML 1.1, one a document. Keys have hyphens where definitions have
underscores; what is as usual is left out.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from typing import Any, NamedTuple

import yaml

from pinecart.core.errors import Invalid
from pinecart.core.places import SCHEME
from pinecart.json_object import JsonObject


class GivenJob(NamedTuple):
    """A definition that somebody gave, not read yet.

    where: in words, such as "line 3".   legs_at: the same for each leg, where that is known.
    """

    mapping: JsonObject
    where: str
    legs_at: tuple[str, ...] = ()


class _PlainLoader(yaml.SafeLoader):
    """Takes no aliases: a few lines of them can stand for more than fits into memory."""

    def compose_node(self, parent: Any, index: Any) -> Any:
        """An alias could make a file of a few lines one of billions of values: it is refused, and
        its line told.
        """
        if self.check_event(yaml.AliasEvent):
            mark = self.peek_event().start_mark
            raise yaml.MarkedYAMLError(problem="aliases are not read", problem_mark=mark)
        return super().compose_node(parent, index)


def read_yaml(text: str) -> list[GivenJob]:
    """One job a document. Raises Invalid, naming the line and column."""
    try:
        documents = list(yaml.load_all(text, _PlainLoader))
    except yaml.MarkedYAMLError as exc:
        raise _no_yaml(str(exc.problem), exc.problem_mark) from exc
    except (yaml.YAMLError, RecursionError, ValueError) as exc:
        raise _no_yaml(type(exc).__name__, None) from exc
    found = []
    for number, document in enumerate(documents, 1):
        if document is None:
            continue
        where = f"document {number}"
        if not isinstance(document, dict):
            message = f"{where} is no job: it must have the keys job, legs and so on."
            raise Invalid([{"field": where, "code": "job.malformed", "message": message}])
        found.append(GivenJob(_plain(document), where))
    return found


def _no_yaml(problem: str, mark: Any) -> Invalid:
    where = f"line {mark.line + 1}, column {mark.column + 1}" if mark else "the file"
    message = f"{where}: this is no YAML ({problem})."
    return Invalid([{"field": where, "code": "job.no-yaml", "message": message}])


def _plain(value: Any) -> Any:
    """As JSON has it: YAML reads 2026-03-02 as a date."""
    if isinstance(value, Mapping):
        return {str(name).replace("-", "_"): _plain(inner) for name, inner in value.items()}
    if isinstance(value, list):
        return [_plain(inner) for inner in value]
    if isinstance(value, date):
        return value.isoformat()
    return value


def write_yaml(definitions: Iterable[Mapping[str, Any]]) -> str:
    """Definitions as JSON in one file; `read_yaml` gives them back."""
    files = [as_file(definition) for definition in definitions]
    text: str = yaml.safe_dump_all(files, sort_keys=False, allow_unicode=True, width=100)
    return text


def as_file(definition: Mapping[str, Any]) -> JsonObject:
    """As a job file has it: hyphens, and nothing that is empty."""
    file = _with_hyphens(definition)
    file["legs"] = [_with_hyphens(leg) for leg in definition["legs"]]
    if file.get("title") == file["job"]:
        del file["title"]
    return file


def _with_hyphens(given: Mapping[str, Any]) -> JsonObject:
    filled = {name: value for name, value in given.items() if value not in (None, "", [], {})}
    return {name.replace("_", "-"): value for name, value in filled.items()}


def with_other_stores(given: GivenJob, stores: Mapping[str, str]) -> GivenJob:
    """The same between other stores. stores: name in the file → name here."""
    legs = given.mapping.get("legs")
    if not isinstance(legs, list):
        return given
    mapped = [_mapped(leg, stores) for leg in legs]
    return given._replace(mapping={**given.mapping, "legs": mapped})


def _mapped(leg: Any, stores: Mapping[str, str]) -> Any:
    """The leg with other stores in its places."""
    if not isinstance(leg, Mapping):
        return leg
    made = dict(leg)
    for side in ("from", "to"):
        place = str(leg.get(side) or "")
        rest = place.removeprefix(SCHEME)
        name, slash, path = rest.partition("/")
        other = stores.get(name)
        if other is not None and side in leg:
            made[side] = f"{SCHEME}{other}{slash}{path}"
    return made


def stores_named(given: Iterable[GivenJob]) -> set[str]:
    """The stores that definitions name, before they are read."""
    found = set()
    for job in given:
        legs = job.mapping.get("legs")
        for leg in legs if isinstance(legs, list) else []:
            if isinstance(leg, Mapping):
                for side in ("from", "to"):
                    rest = str(leg.get(side) or "").removeprefix(SCHEME)
                    found.add(rest.partition("/")[0])
    return found
