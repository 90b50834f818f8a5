"""The JSON Schema (draft 2020-12) of a job file, made from the options there are."""

from __future__ import annotations

from collections.abc import Iterable

from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.option_spec import JOB
from pinecart.core.options import of_use
from pinecart.core.triggers import TRIGGERS
from pinecart.json_object import JsonObject

_TEXTS = {"type": "array", "items": {"type": "string"}}
_OF_TYPE: dict[FieldType, JsonObject] = {
    FieldType.FLAG: {"type": "boolean"},
    FieldType.YES_NO: {"type": "boolean"},
    FieldType.NUMBER: {"type": "integer"},
    FieldType.SECONDS: {"type": "number"},
    FieldType.LIST: _TEXTS,
    FieldType.NUMBERS: {"type": "object", "additionalProperties": {"type": "integer"}},
    FieldType.RENAMING: {
        "type": "object",
        "properties": {"pattern": {"type": "string"}, "to": {"type": "string"}},
        "required": ["to"],
        "additionalProperties": False,
    },
    FieldType.SIZE: {"type": ["string", "integer"]},
    FieldType.DATE: {"type": "string", "format": "date"},
}


def job_schema() -> JsonObject:
    """Of one document of a job file; keys with hyphens."""
    place = {"type": "string", "pattern": "^pine://"}
    of_legs = _properties(option.field for option in of_use(JOB, is_of_leg=True))
    of_a_leg = {"from": place, "to": place, **of_legs, "one": _TEXTS}
    leg = _object(of_a_leg, ["from", "to"])
    text = {"type": "string"}
    properties: JsonObject = {
        "job": {"type": "string", "pattern": "^[a-z0-9][a-z0-9-]{0,62}$"},
        "title": text,
        "why": text,
        "owner": text,
        "labels": _TEXTS,
        "legs": {"type": "array", "items": leg, "minItems": 1},
    }
    properties |= _properties(option.field for option in of_use(JOB, is_of_leg=False))
    properties["schedule"] = _schedule()
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Job"}
    return head | _object(properties, ["job", "legs"])


def _object(properties: JsonObject, required: list[str]) -> JsonObject:
    return {
        "type": "object",
        "properties": properties,
        "required": required,
        "additionalProperties": False,
    }


def _properties(fields: Iterable[FormField]) -> JsonObject:
    return {field.name.replace("_", "-"): _of_field(field) for field in fields}


def _of_field(field: FormField) -> JsonObject:
    told: JsonObject = dict(_OF_TYPE.get(field.type, {"type": "string"}))
    values = [choice.value for choice in field.choices]
    if field.type is FieldType.CHOICE:
        told["enum"] = values
    if field.type is FieldType.CHOICES:
        told = {"type": "array", "items": {"enum": values}}
    if field.type is FieldType.NUMBER:
        told |= {"minimum": field.least, "maximum": field.most}
    told["description"] = f"{field.title}. {field.help}".strip()
    return told


def _schedule() -> JsonObject:
    """One shape for each kind of trigger, with its own fields and no others; a job may have
    none.
    """
    kinds = []
    for trigger in TRIGGERS.values():
        properties = _properties(trigger.fields)
        needed = [field.name for field in trigger.fields if field.is_needed]
        properties["kind"] = {"const": trigger.kind}
        kinds.append(_object(properties, needed))
    return {"anyOf": [{"type": "null"}, *kinds]}
