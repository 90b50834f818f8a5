from __future__ import annotations

import mimetypes
from base64 import b64decode, b64encode
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

from django.http import StreamingHttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.parsers import BaseParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.errors import Invalid
from pinecart.core.places import Location, key_fields, key_of_text, show
from pinecart.drivers import DRIVERS
from pinecart.drivers.connection_steps import Step
from pinecart.service.config.rights import Actor
from pinecart.service.config.shapes import of_fields
from pinecart.service.people.api import actor_in
from pinecart.service.stores import files, selectors, services
from pinecart.service.stores.fields import pasted_fields
from pinecart.service.stores.selectors import StoreRecord


class StepShape(serializers.Serializer):
    step = serializers.CharField()
    ok = serializers.BooleanField(
        allow_null=True, help_text="Null: not tried; the message says why."
    )
    message = serializers.CharField()
    code = serializers.CharField(allow_blank=True)


class StoreShape(serializers.Serializer):
    """A store of any kind: which of the fields it has, its kind says."""

    name = serializers.CharField()
    labels = serializers.ListField(
        child=serializers.CharField(),
        required=False,
        help_text="Whoever has rights on one of them alone may use it.",
    )

    def get_fields(self) -> dict[str, Any]:
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

    def get_fields(self) -> dict[str, Any]:
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


def told(record: StoreRecord, actor: Actor) -> dict[str, Any]:
    driver = DRIVERS[record.kind]
    fields = [f for f in driver.fields if f.name in record.fields]
    return {
        "name": record.name,
        "kind": record.kind,
        "labels": record.labels,
        **{f.name: f.typed(record.fields[f.name]) for f in fields},
        "address": driver.address(record.fields),
        "is_local": driver.is_local,
        "shows_buckets": driver.shows_buckets(record.fields),
        "secret_since": record.secret_since,
        "tried_at": record.tried_at,
        "tried": record.tried,
        "jobs": selectors.jobs_using_store(record.name, actor),
    }


def checked(shape: type[serializers.Serializer], given: Any) -> dict[str, Any]:
    made = shape(data=given)
    made.is_valid(raise_exception=True)
    return dict(made.validated_data)


def _tried(steps: list[Step]) -> dict[str, Any]:
    return {
        "ok": all(step.ok is not False for step in steps),
        "steps": [step._asdict() for step in steps],
    }


class Stores(APIView):
    @extend_schema(responses=StoreTold(many=True))
    def get(self, request: Request) -> Response:
        """All stores."""
        return Response(
            [told(s, actor_in(request)) for s in selectors.stores_listed(actor_in(request))]
        )

    @extend_schema(request=StoreFormShape, responses={201: StoreTold})
    def post(self, request: Request) -> Response:
        """Register a store."""
        return Response(
            told(
                services.add_store(actor_in(request), checked(StoreFormShape, request.data)),
                actor_in(request),
            ),
            status=201,
        )


class PastedShape(serializers.Serializer):
    pasted = serializers.CharField()
    kind = serializers.CharField(
        required=False, allow_blank=True, help_text="Empty: the kind that fits best."
    )


class UnderstoodShape(serializers.Serializer):
    found = serializers.DictField(
        child=serializers.CharField(), help_text="Fields; of secrets only that they were found."
    )
    odd = serializers.ListField(child=serializers.CharField())


class StoresPasted(APIView):
    @extend_schema(request=PastedShape, responses=UnderstoodShape)
    def post(self, request: Request) -> Response:
        """What a pasted address or block of credentials holds. Secrets are not told back."""
        asked = checked(PastedShape, request.data)
        fields, odd = pasted_fields(asked["pasted"], asked.get("kind", ""))
        sealed = DRIVERS[fields["kind"]].sealed if fields else ()
        found = {k: f"found, {len(v)} characters" if k in sealed else v for k, v in fields.items()}
        return Response({"found": found, "odd": odd})


class StoresTry(APIView):
    @extend_schema(operation_id="stores_try_form", request=StoreTriedShape, responses=TriedShape)
    def post(self, request: Request) -> Response:
        """Try a form as it stands, unsaved."""
        given = checked(StoreTriedShape, request.data)
        steps = services.try_form(actor_in(request), given, write_to=given.pop("write_to"))
        return Response(_tried(steps))


class StoreView(APIView):
    @extend_schema(responses=StoreTold)
    def get(self, request: Request, name: str) -> Response:
        """One store."""
        return Response(told(selectors.store_named(name, actor_in(request)), actor_in(request)))

    @extend_schema(request=StoreChangeShape, responses=StoreTold)
    def patch(self, request: Request, name: str) -> Response:
        """Change fields, or give a new key."""
        return Response(
            told(
                services.change_store(
                    actor_in(request), name, checked(StoreChangeShape, request.data)
                ),
                actor_in(request),
            )
        )

    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Forget a store; nothing in it is touched."""
        services.drop_store(actor_in(request), name)
        return Response(status=204)


class StoreTry(APIView):
    @extend_schema(request=TryShape, responses=TriedShape)
    def post(self, request: Request, name: str) -> Response:
        """Try a registered store."""
        steps = services.try_saved(
            actor_in(request), name, write_to=checked(TryShape, request.data)["write_to"]
        )
        return Response(_tried(steps))


class BucketsShape(serializers.Serializer):
    name = serializers.CharField()
    empty = serializers.BooleanField(allow_null=True, help_text="Null: this key may not list it.")
    jobs = serializers.ListField(child=serializers.CharField())


class StoreBuckets(APIView):
    @extend_schema(responses=BucketsShape(many=True))
    def get(self, request: Request, name: str) -> Response:
        """The buckets that this store's key sees, which are empty, and which jobs use them."""
        return Response([b._asdict() for b in files.buckets_of(actor_in(request), name)])

    @extend_schema(request=BucketShape, responses=MadeShape)
    def post(self, request: Request, name: str) -> Response:
        """Make a bucket; make it again and nothing changes."""
        bucket = checked(BucketShape, request.data)["bucket"]
        made = services.make_bucket(actor_in(request), name, bucket)
        return Response({"bucket": bucket, "made": made}, status=201 if made else 200)


def _after(asked: Mapping[str, Any]) -> bytes:
    try:
        return b64decode(asked["after"], validate=True)
    except ValueError:
        problem = {
            "field": "after",
            "code": "field.malformed",
            "message": "after: take it as an answer gave it.",
        }
        raise Invalid([problem]) from None


class StoreBrowse(APIView):
    @extend_schema(parameters=[BrowseAsked], responses=BrowsedShape)
    def get(self, request: Request, name: str) -> Response:
        """What lies at a place, a page at a time."""
        asked = checked(BrowseAsked, request.query_params)
        path = key_of_text(asked["path"])
        path = path if not path or path.endswith(b"/") else path + b"/"
        after = _after(asked)
        level = services.look_at(
            actor_in(request),
            name,
            path,
            after=after,
            everything=asked["all"],
            match=asked["match"],
            limit=asked["limit"],
        )
        bare = not path and selectors.shows_buckets(selectors.store_named(name))
        rows: list[tuple[bytes, dict[str, Any]]] = [
            (
                f,
                {
                    "kind": "bucket" if bare else "folder",
                    "bytes": None,
                    "modified_ns": None,
                    "fault": "",
                },
            )
            for f in level.folders
        ]
        rows += [
            (
                e.key,
                {"kind": "file", "bytes": e.size, "modified_ns": e.modified_ns, "fault": e.fault},
            )
            for e in level.entries
        ]
        entries = [{**key_fields(key), **row} for key, row in sorted(rows, key=lambda r: r[0])]
        return Response(
            {
                "location": f"pine://{name}/{show(path)}",
                "entries": entries,
                "next": b64encode(level.after).decode(),
            }
        )


class AnyBody(BaseParser):
    """The body as it is: it is read piece by piece, never parsed."""

    media_type = "*/*"

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> Any:
        return None


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


class StoreVersions(APIView):
    @extend_schema(parameters=[HeadAsked], responses=VersionShape(many=True))
    def get(self, request: Request, name: str) -> Response:
        """The versions that a bucket keeps of one file, the newest first; none where
        it keeps none.
        """
        key = key_of_text(checked(HeadAsked, request.query_params)["path"])
        found = services.versions_of(actor_in(request), name, key)
        return Response(
            [
                {
                    "bytes": v.size,
                    **{
                        f: getattr(v, f)
                        for f in ("version", "modified_ns", "is_current", "is_removal")
                    },
                }
                for v in found
            ]
        )


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


class StoreHead(APIView):
    @extend_schema(parameters=[HeadAsked], responses=HeadShape)
    def get(self, request: Request, name: str) -> Response:
        """One file: size, time, metadata, first bytes."""
        asked = checked(HeadAsked, request.query_params)
        key = key_of_text(asked["path"])
        stat, body, tags = services.first_bytes(actor_in(request), name, key, asked["version"])
        text = as_text(body)
        return Response(
            {
                "location": f"pine://{name}/{show(key)}",
                "bytes": stat.entry.size,
                "modified_ns": stat.entry.modified_ns,
                "content_type": stat.content_type,
                "checksum": stat.crc or (stat.card.crc if stat.card else ""),
                "metadata": stat.metadata,
                "tags": tags,
                "storage_class": stat.storage_class,
                "version": stat.entry.version,
                "text": text,
                "hex": "" if text is not None else body[:256].hex(" "),
            }
        )


def as_text(body: bytes) -> str | None:
    """Bytes as text if they are some; a character that is cut at the end does not
    count against it.
    """
    for end in range(len(body), max(len(body) - 4, -1), -1):
        try:
            text = body[:end].decode()
        except UnicodeDecodeError:
            continue
        return text if all(c.isprintable() or c in "\n\r\t" for c in text) else None
    return None


class StoreSave(APIView):
    @extend_schema(parameters=[HeadAsked], responses={(200, "application/octet-stream"): bytes})
    def get(self, request: Request, name: str) -> StreamingHttpResponse:
        """Save one file to the viewer's own machine. It is recorded in the trail."""
        actor, asked = actor_in(request), checked(HeadAsked, request.query_params)
        key, version = key_of_text(asked["path"]), asked["version"]
        spec, stat = services.may_save(actor, name, key, version)
        body = services.content_of(actor, spec, key, version)
        answer = StreamingHttpResponse(body, content_type="application/octet-stream")
        last = key.rpartition(b"/")[2].decode("utf-8", "replace")
        answer["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(last, safe='')}"
        answer["Content-Length"] = str(stat.entry.size)
        return answer


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


class Sides(APIView):
    @extend_schema(parameters=[SidesAsked], responses=SidesShape)
    def get(self, request: Request) -> Response:
        """Two places as one list, merged by name."""
        asked = checked(SidesAsked, request.query_params)
        after = _after(asked)
        places = files.both_places(asked["here"], asked["there"])
        found, following = files.side_by_side(
            actor_in(request),
            *places,
            after=after,
            limit=asked["limit"],
            only_different=asked["different"],
        )
        entries = [
            {
                **key_fields(b.key),
                "here": b.here and b.here.size,
                "there": b.there and b.there.size,
                "word": b.word,
            }
            for b in found
        ]
        return Response({"entries": entries, "next": b64encode(following).decode()})


class UploadedShape(serializers.Serializer):
    location = serializers.CharField()
    bytes = serializers.IntegerField()


class StoreFiles(APIView):
    parser_classes = (AnyBody,)

    @extend_schema(
        parameters=[HeadAsked],
        request={"application/octet-stream": bytes},
        responses={201: UploadedShape},
    )
    def post(self, request: Request, name: str) -> Response:
        """Put a file from the viewer's own machine where nothing is yet.

        It is recorded in the trail.
        """
        path = key_of_text(checked(HeadAsked, request.query_params)["path"])
        place = Location(name, path)
        kind = (
            mimetypes.guess_type(path.decode("utf-8", "replace"))[0] or "application/octet-stream"
        )
        body = iter(lambda: request._request.read(1 << 20), b"")
        size = files.upload(actor_in(request), place, body, content_type=kind)
        return Response({"location": str(place), "bytes": size}, status=201)


class ArchiveAsked(serializers.Serializer):
    path = serializers.CharField(default="", allow_blank=True, trim_whitespace=False)
    key = serializers.ListField(child=serializers.CharField(trim_whitespace=False), default=list)


class StoreArchive(APIView):
    @extend_schema(parameters=[ArchiveAsked], responses={(200, "application/zip"): bytes})
    def get(self, request: Request, name: str) -> StreamingHttpResponse:
        """Save a selection (names below `path`; folders end in /; none: all of it) as one ZIP. It
        is recorded in the trail.

        What it does not hold is told in it. A selection of more than 100 000 files is refused.
        """
        actor, asked = actor_in(request), checked(ArchiveAsked, request.query_params)
        path = key_of_text(asked["path"])
        path = path if not path or path.endswith(b"/") else path + b"/"
        keys = [key_of_text(k, field="key") for k in asked["key"]]
        spec = services.may_archive(actor, name, path, keys)
        answer = StreamingHttpResponse(
            files.archive(actor, spec, path, keys), content_type="application/zip"
        )
        last = path.rstrip(b"/").rpartition(b"/")[2].decode("utf-8", "replace") or name
        answer["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(last, safe='')}.zip"
        return answer


class StoreBucket(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str, bucket: str) -> Response:
        """Drop a bucket, only if it is empty."""
        services.drop_bucket(actor_in(request), name, bucket)
        return Response(status=204)
