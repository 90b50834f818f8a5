"""What lies in stores: looked at, saved, uploaded, side by side."""

from __future__ import annotations

import mimetypes
from base64 import b64decode, b64encode
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

from django.http import StreamingHttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.parsers import BaseParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.core.errors import Invalid
from pinecart.core.places import Location, key_fields, key_of_text, show
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.stores import files, selectors
from pinecart.service.stores.services import contents
from pinecart.service.stores.shapes import (
    ArchiveAsked,
    BrowseAsked,
    BrowsedShape,
    HeadAsked,
    HeadShape,
    SidesAsked,
    SidesShape,
    UploadedShape,
    VersionShape,
)


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
        if path and not path.endswith(b"/"):
            path += b"/"
        after = _after(asked)
        level = contents.look_at(
            actor_in(request),
            name,
            path,
            after=after,
            everything=asked["all"],
            match=asked["match"],
            limit=asked["limit"],
        )
        bare = not path and selectors.shows_buckets(selectors.store_named(name))
        rows: list[tuple[bytes, JsonObject]] = [
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


class StoreVersions(APIView):
    @extend_schema(parameters=[HeadAsked], responses=VersionShape(many=True))
    def get(self, request: Request, name: str) -> Response:
        """The versions that a bucket keeps of one file, the newest first; none where
        it keeps none.
        """
        key = key_of_text(checked(HeadAsked, request.query_params)["path"])
        found = contents.versions_of(actor_in(request), name, key)
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


class StoreHead(APIView):
    @extend_schema(parameters=[HeadAsked], responses=HeadShape)
    def get(self, request: Request, name: str) -> Response:
        """One file: size, time, metadata, first bytes."""
        asked = checked(HeadAsked, request.query_params)
        key = key_of_text(asked["path"])
        stat, body, tags = contents.first_bytes(actor_in(request), name, key, asked["version"])
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
        if all(c.isprintable() or c in "\n\r\t" for c in text):
            return text
        return None
    return None


class StoreSave(APIView):
    @extend_schema(parameters=[HeadAsked], responses={(200, "application/octet-stream"): bytes})
    def get(self, request: Request, name: str) -> StreamingHttpResponse:
        """Save one file to the viewer's own machine. It is recorded in the trail."""
        actor = actor_in(request)
        asked = checked(HeadAsked, request.query_params)
        version = asked["version"]
        key = key_of_text(asked["path"])
        spec, stat = contents.may_save(actor, name, key, version)
        body = contents.content_of(actor, spec, key, version)
        answer = StreamingHttpResponse(body, content_type="application/octet-stream")
        _, _, last = key.rpartition(b"/")
        text = last.decode("utf-8", "replace")
        shown = quote(text, safe="")
        answer["Content-Disposition"] = f"attachment; filename*=UTF-8''{shown}"
        answer["Content-Length"] = str(stat.entry.size)
        return answer


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


class StoreArchive(APIView):
    @extend_schema(parameters=[ArchiveAsked], responses={(200, "application/zip"): bytes})
    def get(self, request: Request, name: str) -> StreamingHttpResponse:
        """Save a selection (names below `path`; folders end in /; none: all of it) as one ZIP. It
        is recorded in the trail.

        What it does not hold is told in it. A selection of more than 100 000 files is refused.
        """
        actor = actor_in(request)
        asked = checked(ArchiveAsked, request.query_params)
        path = key_of_text(asked["path"])
        if path and not path.endswith(b"/"):
            path += b"/"
        keys = [key_of_text(k, field="key") for k in asked["key"]]
        spec = contents.may_archive(actor, name, path, keys)
        answer = StreamingHttpResponse(
            files.archive(actor, spec, path, keys), content_type="application/zip"
        )
        last = path.rstrip(b"/").rpartition(b"/")[2].decode("utf-8", "replace") or name
        answer["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(last, safe='')}.zip"
        return answer
