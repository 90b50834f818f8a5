"""Fields of forms as the API takes and tells them."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from pinecart.core.form_fields import FieldType, FormField
from pinecart.json_object import JsonObject


class RenameShape(serializers.Serializer):
    pattern = serializers.CharField(
        required=False,
        allow_blank=True,
        help_text="A regular expression; empty: `to` is a template.",
    )
    to = serializers.CharField(
        help_text=(
            "The replacement, or a template of {folder} {name} {ending} {year} {month} {day} "
            "{counter}."
        )
    )


def checked(shape: type[serializers.Serializer], given: Any) -> JsonObject:
    """What was asked for. Raises ValidationError."""
    made = shape(data=given)
    made.is_valid(raise_exception=True)
    return dict(made.validated_data)


def of_field(field: FormField) -> serializers.Field:
    """Nothing is required here: what a form needs, core says, in its own words."""
    given: JsonObject = {"required": False, "help_text": f"{field.title}. {field.help}"}
    if field.is_sealed:
        given["write_only"] = True
    make = _MAKERS.get(field.type, _text)
    return make(field, given)


def of_fields(fields: list[FormField]) -> dict[str, serializers.Field]:
    return {field.name: of_field(field) for field in fields}


def _text(field: FormField, given: JsonObject) -> serializers.Field:
    is_typed_unseen = field.type is FieldType.UNSEEN
    return serializers.CharField(allow_blank=True, trim_whitespace=not is_typed_unseen, **given)


def _choice(field: FormField, given: JsonObject) -> serializers.Field:
    values = [choice.value for choice in field.choices]
    return serializers.ChoiceField(values, allow_blank=True, **given)


def _list(field: FormField, given: JsonObject) -> serializers.Field:
    return serializers.ListField(child=serializers.CharField(), **given)


def _numbers(field: FormField, given: JsonObject) -> serializers.Field:
    return serializers.DictField(child=serializers.IntegerField(), **given)


def _flag(field: FormField, given: JsonObject) -> serializers.Field:
    return serializers.BooleanField(**given)


def _number(field: FormField, given: JsonObject) -> serializers.Field:
    return serializers.IntegerField(allow_null=True, **given)


def _seconds(field: FormField, given: JsonObject) -> serializers.Field:
    return serializers.FloatField(allow_null=True, **given)


def _renaming(field: FormField, given: JsonObject) -> serializers.Field:
    return RenameShape(**given)


_MAKERS = {
    FieldType.CHOICE: _choice,
    FieldType.YES_NO: _choice,
    FieldType.CHOICES: _list,
    FieldType.LIST: _list,
    FieldType.NUMBERS: _numbers,
    FieldType.FLAG: _flag,
    FieldType.NUMBER: _number,
    FieldType.SECONDS: _seconds,
    FieldType.RENAMING: _renaming,
}
