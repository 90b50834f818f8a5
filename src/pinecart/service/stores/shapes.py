"""What the calls about stores take and tell."""

from __future__ import annotations

from rest_framework import serializers

from pinecart.drivers import DRIVERS
from pinecart.json_object import JsonObject
from pinecart.service.config.shapes import of_fields


class StepShape(serializers.Serializer):
    step = serializers.CharField()
    ok = serializers.BooleanField(
        allow_null=True, help_text="Null: not tried; the message says why."
    )
    message = serializers.CharField()
    code = serializers.CharField(allow_blank=True)
    found = serializers.DictField(
        child=serializers.CharField(),
        required=False,
        help_text="Fields of the store that this step told. A store that is saved keeps those that "
        "it had not.",
    )


class StoreShape(serializers.Serializer):
    """A store of any kind: which of the fields it has, its kind says."""

    name = serializers.CharField()
    labels = serializers.ListField(
        child=serializers.CharField(),
        required=False,
        help_text="Whoever has rights on one of them alone may use it.",
    )

    def get_fields(self) -> JsonObject:
        kinds = {"kind": serializers.ChoiceField(list(DRIVERS))}
        fields = [field for driver in DRIVERS.values() for field in driver.fields]
        return kinds | of_fields(fields) | super().get_fields()


class StoreFormShape(StoreShape):
    pasted = serializers.CharField(
        required=False,
        write_only=True,
        allow_blank=True,
        help_text="An address or credentials as they come.",
    )
    untried = serializers.BooleanField(
        required=False, write_only=True, help_text="Save a new key without trying it first."
    )


class StoreChangeShape(StoreFormShape):
    name = serializers.CharField(required=False)
    rebind = serializers.BooleanField(
        required=False,
        write_only=True,
        help_text="The same files lie at the new address: each job's next run waits for a yes.",
    )

    def get_fields(self) -> JsonObject:
        kind = serializers.ChoiceField(list(DRIVERS), required=False)
        return super().get_fields() | {"kind": kind}


class StoreTriedShape(StoreFormShape):
    name = serializers.CharField(required=False)
    write_to = serializers.CharField(required=False, default="", allow_blank=True)


KEY_ID = (
    "Stands for exactly this key, wherever a key, a path or a location is asked for: put it "
    "behind the place's own."
)


class StoreTold(StoreShape):
    address = serializers.CharField(help_text="Where it is, in one word.")
    is_local = serializers.BooleanField(
        help_text="Its files lie in a folder of the service's machine, its `path`."
    )
    shows_buckets = serializers.BooleanField(help_text="Its first level is buckets.")
    secret_since = serializers.DateTimeField(allow_null=True)
    tried_at = serializers.DateTimeField(allow_null=True)
    tried = StepShape(many=True, allow_null=True)
    jobs = serializers.ListField(child=serializers.CharField())


class TryShape(serializers.Serializer):
    write_to = serializers.CharField(
        default="", allow_blank=True, help_text="A path to try writing at; empty: no writing."
    )


class TriedShape(serializers.Serializer):
    ok = serializers.BooleanField()
    steps = StepShape(many=True)


class BucketShape(serializers.Serializer):
    bucket = serializers.CharField()


class MadeShape(serializers.Serializer):
    bucket = serializers.CharField()
    made = serializers.BooleanField(help_text="False: it was there already, nothing changed.")


class BrowseAsked(serializers.Serializer):
    path = serializers.CharField(default="", allow_blank=True, trim_whitespace=False)
    after = serializers.CharField(
        default="", allow_blank=True, help_text="The `next` of the page before."
    )
    all = serializers.BooleanField(default=False, help_text="All below, instead of this level.")
    match = serializers.CharField(
        default="", allow_blank=True, help_text="With `all`: only what matches this pattern."
    )
    limit = serializers.IntegerField(default=200, min_value=1, max_value=5000)


class FileShape(serializers.Serializer):
    key = serializers.CharField()
    key_id = serializers.CharField(help_text=KEY_ID)
    kind = serializers.ChoiceField(["file", "folder", "bucket"])
    bytes = serializers.IntegerField(allow_null=True)
    modified_ns = serializers.IntegerField(allow_null=True, help_text="ns since 1970 UTC.")
    fault = serializers.CharField(allow_blank=True)


class BrowsedShape(serializers.Serializer):
    location = serializers.CharField()
    entries = FileShape(many=True)
    next = serializers.CharField(allow_blank=True, help_text="Empty: this was the last page.")


class PastedShape(serializers.Serializer):
    pasted = serializers.CharField()
    kind = serializers.CharField(
        required=False, allow_blank=True, help_text="Empty: the kind that fits best."
    )


class AddressShape(serializers.Serializer):
    address = serializers.CharField(
        max_length=4000, help_text="Of a share, a server or a storage, as it comes."
    )


class ReachedShape(serializers.Serializer):
    locations = serializers.ListField(
        child=serializers.CharField(), help_text="pine://STORE/PATH of each store that reaches it."
    )


class UnderstoodShape(serializers.Serializer):
    found = serializers.DictField(
        child=serializers.CharField(), help_text="Fields; of secrets only that they were found."
    )
    odd = serializers.ListField(child=serializers.CharField())


class BucketsShape(serializers.Serializer):
    name = serializers.CharField()
    empty = serializers.BooleanField(allow_null=True, help_text="Null: this key may not list it.")
    jobs = serializers.ListField(child=serializers.CharField())


class HeadAsked(serializers.Serializer):
    path = serializers.CharField(trim_whitespace=False)
    version = serializers.CharField(
        default="", allow_blank=True, help_text="One that the bucket keeps; else the present one."
    )


class VersionShape(serializers.Serializer):
    version = serializers.CharField()
    bytes = serializers.IntegerField()
    modified_ns = serializers.IntegerField(allow_null=True)
    is_current = serializers.BooleanField()
    is_removal = serializers.BooleanField(help_text="The mark of a delete: it has no bytes.")


class HeadShape(serializers.Serializer):
    location = serializers.CharField()
    bytes = serializers.IntegerField()
    modified_ns = serializers.IntegerField(allow_null=True)
    content_type = serializers.CharField(allow_blank=True)
    checksum = serializers.CharField(
        allow_blank=True, help_text="CRC-64/NVME, where the store tells it."
    )
    metadata = serializers.DictField(child=serializers.CharField())
    tags = serializers.DictField(child=serializers.CharField())
    storage_class = serializers.CharField(allow_blank=True)
    version = serializers.CharField(allow_blank=True)
    text = serializers.CharField(
        allow_null=True, help_text="Its first bytes as text; null where they are none."
    )
    hex = serializers.CharField(
        allow_blank=True, help_text="Its first bytes in hexadecimal, where they are no text."
    )


class SidesAsked(serializers.Serializer):
    here = serializers.CharField(trim_whitespace=False)
    there = serializers.CharField(trim_whitespace=False)
    after = serializers.CharField(default="", allow_blank=True)
    limit = serializers.IntegerField(default=200, min_value=1, max_value=5000)
    different = serializers.BooleanField(default=False, help_text="Only names that differ.")


class SideShape(serializers.Serializer):
    key = serializers.CharField()
    key_id = serializers.CharField(help_text=KEY_ID)
    here = serializers.IntegerField(allow_null=True, help_text="Bytes; null: not there.")
    there = serializers.IntegerField(allow_null=True)
    word = serializers.ChoiceField(
        ["same-size", "differs", "only-here", "only-there", "name-clash"]
    )


class SidesShape(serializers.Serializer):
    entries = SideShape(many=True)
    next = serializers.CharField(allow_blank=True)


class UploadedShape(serializers.Serializer):
    location = serializers.CharField()
    bytes = serializers.IntegerField()


class ArchiveAsked(serializers.Serializer):
    path = serializers.CharField(default="", allow_blank=True, trim_whitespace=False)
    key = serializers.ListField(child=serializers.CharField(trim_whitespace=False), default=list)
