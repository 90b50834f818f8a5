from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from pinecart.drivers import DRIVERS
from pinecart.drivers.connection_steps import Step
from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor, actor_in
from pinecart.service.config.shapes import checked
from pinecart.service.stores import files, selectors
from pinecart.service.stores.facts import StoreFacts
from pinecart.service.stores.fields import pasted_fields
from pinecart.service.stores.services import contents, registering
from pinecart.service.stores.shapes import (
    AddressShape,
    BucketShape,
    BucketsShape,
    MadeShape,
    PastedShape,
    ReachedShape,
    StoreChangeShape,
    StoreFormShape,
    StoreTold,
    StoreTriedShape,
    TriedShape,
    TryShape,
    UnderstoodShape,
)


def told(record: StoreFacts, actor: Actor) -> JsonObject:
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


def _tried(steps: list[Step]) -> JsonObject:
    """A step that wasn't tried is no failure: the store is fine if none failed."""
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
                registering.add_store(actor_in(request), checked(StoreFormShape, request.data)),
                actor_in(request),
            ),
            status=201,
        )


class StoresPasted(APIView):
    @extend_schema(request=PastedShape, responses=UnderstoodShape)
    def post(self, request: Request) -> Response:
        """What a pasted address or block of credentials holds. Secrets are not told back."""
        asked = checked(PastedShape, request.data)
        kind = asked.get("kind", "")
        fields, odd = pasted_fields(asked["pasted"], kind)
        found = dict(fields)
        sealed = DRIVERS[fields["kind"]].sealed if fields else ()
        for field, value in fields.items():
            if field in sealed:
                found[field] = f"found, {len(value)} characters"
        return Response({"found": found, "odd": odd})


class StoresAt(APIView):
    @extend_schema(request=AddressShape, responses=ReachedShape)
    def post(self, request: Request) -> Response:
        """Which stores reach an address of a share, a server or a storage, and where in them."""
        asked = checked(AddressShape, request.data)
        found = selectors.places_at(asked["address"], actor_in(request))
        texts = [location.text for location in found]
        return Response({"locations": texts})


class StoresTry(APIView):
    @extend_schema(operation_id="stores_try_form", request=StoreTriedShape, responses=TriedShape)
    def post(self, request: Request) -> Response:
        """Try a form as it stands, unsaved."""
        actor = actor_in(request)
        given = checked(StoreTriedShape, request.data)
        write_to = given.pop("write_to")
        steps = registering.try_form(actor, given, write_to=write_to)
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
                registering.change_store(
                    actor_in(request), name, checked(StoreChangeShape, request.data)
                ),
                actor_in(request),
            )
        )

    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Forget a store; nothing in it is touched."""
        registering.drop_store(actor_in(request), name)
        return Response(status=204)


class StoreTry(APIView):
    @extend_schema(request=TryShape, responses=TriedShape)
    def post(self, request: Request, name: str) -> Response:
        """Try a registered store."""
        steps = registering.try_saved(
            actor_in(request), name, write_to=checked(TryShape, request.data)["write_to"]
        )
        return Response(_tried(steps))


class StoreBuckets(APIView):
    @extend_schema(responses=BucketsShape(many=True))
    def get(self, request: Request, name: str) -> Response:
        """The buckets that this store's key sees, which are empty, and which jobs use them."""
        return Response([b._asdict() for b in files.buckets_of(actor_in(request), name)])

    @extend_schema(request=BucketShape, responses=MadeShape)
    def post(self, request: Request, name: str) -> Response:
        """Make a bucket; make it again and nothing changes."""
        actor = actor_in(request)
        asked = checked(BucketShape, request.data)
        bucket = asked["bucket"]
        made = contents.make_bucket(actor, name, bucket)
        status = 201 if made else 200
        return Response({"bucket": bucket, "made": made}, status=status)


class StoreBucket(APIView):
    @extend_schema(responses={204: None})
    def delete(self, request: Request, name: str, bucket: str) -> Response:
        """Drop a bucket, only if it is empty."""
        contents.drop_bucket(actor_in(request), name, bucket)
        return Response(status=204)
