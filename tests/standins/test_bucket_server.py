"""An independent S3 SDK judges the stand-in: every operation it offers, walked through once."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import botocore.session
import httpx
import pytest
from botocore.config import Config
from botocore.exceptions import ClientError

from pinecart.standins.bucket_behaviour import Behaviour
from tests.standin import KEY, SECRET, running

SESSION = botocore.session.get_session()  # keeps the protocol's description, which is slow to load


def sdk(endpoint: str, key: str = KEY, secret: str = SECRET):
    config = Config(
        signature_version="s3v4", s3={"addressing_style": "path"}, retries={"total_max_attempts": 1}
    )
    return SESSION.create_client(
        "s3",
        endpoint_url=endpoint,
        aws_access_key_id=key,
        aws_secret_access_key=secret,
        region_name="us-east-1",
        config=config,
    )


@pytest.fixture
def server():
    with running("dawn") as (server, endpoint):
        yield server, endpoint, sdk(endpoint)


def refused(code, call, **args):
    with pytest.raises(ClientError) as caught:
        call(**args)
    assert caught.value.response["Error"]["Code"] in (
        code,
        {"NoSuchKey": "404", "PreconditionFailed": "412"}.get(code),
    )


def test_buckets(server):
    _, _, s3 = server
    s3.create_bucket(Bucket="dusk")
    refused("BucketAlreadyOwnedByYou", s3.create_bucket, Bucket="dusk")
    refused("InvalidBucketName", s3.create_bucket, Bucket="a--_b")
    assert [b["Name"] for b in s3.list_buckets()["Buckets"]] == ["dawn", "dusk"]
    assert s3.head_bucket(Bucket="dusk")["BucketRegion"] == "us-east-1"
    s3.put_object(Bucket="dusk", Key="x", Body=b"1")
    refused("BucketNotEmpty", s3.delete_bucket, Bucket="dusk")
    s3.delete_object(Bucket="dusk", Key="x")
    s3.delete_bucket(Bucket="dusk")
    refused("NoSuchBucket", s3.list_objects_v2, Bucket="dusk")


@pytest.mark.parametrize("algorithm", ["CRC32C", "CRC64NVME", "SHA256", "CRC32"])
def test_objects_and_their_checksums(server, algorithm):
    _, _, s3 = server
    s3.put_object(
        Bucket="dawn",
        Key="a b/é+%.flac",
        Body=b"song",
        Metadata={"post": "aldermurr"},
        ContentType="audio/flac",
        ChecksumAlgorithm=algorithm,
    )
    got = s3.get_object(Bucket="dawn", Key="a b/é+%.flac", Range="bytes=1-2")
    assert (got["Body"].read(), got["ContentRange"], got["Metadata"]) == (
        b"on",
        "bytes 1-2/4",
        {"post": "aldermurr"},
    )
    head = s3.head_object(Bucket="dawn", Key="a b/é+%.flac", ChecksumMode="ENABLED")
    assert (head["ContentLength"], head["ContentType"]) == (4, "audio/flac")
    wrong = {
        f"Checksum{algorithm}": "AAAAAA==" if algorithm.startswith("CRC32") else "AAAAAAAAAAE="
    }
    refused("BadDigest", s3.put_object, Bucket="dawn", Key="bad", Body=b"song", **wrong)
    refused(
        "BadDigest",
        s3.put_object,
        Bucket="dawn",
        Key="bad",
        Body=b"song",
        ContentMD5="AAAAAAAAAAAAAAAAAAAAAA==",
    )
    refused("NoSuchKey", s3.head_object, Bucket="dawn", Key="bad")


def test_conditions(server):
    _, _, s3 = server
    etag = s3.put_object(Bucket="dawn", Key="x", Body=b"1", IfNoneMatch="*")["ETag"]
    refused("PreconditionFailed", s3.put_object, Bucket="dawn", Key="x", Body=b"2", IfNoneMatch="*")
    refused(
        "PreconditionFailed", s3.put_object, Bucket="dawn", Key="x", Body=b"2", IfMatch='"other"'
    )
    refused("PreconditionFailed", s3.get_object, Bucket="dawn", Key="x", IfMatch='"other"')
    refused(
        "PreconditionFailed",
        s3.copy_object,
        Bucket="dawn",
        Key="y",
        CopySource="dawn/x",
        CopySourceIfMatch='"other"',
    )
    refused("PreconditionFailed", s3.delete_object, Bucket="dawn", Key="x", IfMatch='"other"')
    s3.put_object(Bucket="dawn", Key="x", Body=b"2", IfMatch=etag)
    assert s3.get_object(Bucket="dawn", Key="x")["Body"].read() == b"2"


def test_listings_page_and_group(server):
    _, _, s3 = server
    keys = [f"{f}/{i:03}" for f in ("a", "b", "c") for i in range(5)] + ["top & <x>.txt"]
    for key in keys:
        s3.put_object(Bucket="dawn", Key=key, Body=b"")
    pages = s3.get_paginator("list_objects_v2").paginate(
        Bucket="dawn", PaginationConfig={"PageSize": 3}
    )
    assert [o["Key"] for p in pages for o in p["Contents"]] == keys
    assert [
        o["Key"]
        for o in s3.list_objects_v2(Bucket="dawn", Prefix="b/", StartAfter="b/002")["Contents"]
    ] == [
        "b/003",
        "b/004",
    ]
    grouped = list(
        s3.get_paginator("list_objects_v2").paginate(
            Bucket="dawn", Delimiter="/", PaginationConfig={"PageSize": 2}
        )
    )
    assert [c["Prefix"] for p in grouped for c in p.get("CommonPrefixes", [])] == ["a/", "b/", "c/"]
    assert [o["Key"] for p in grouped for o in p.get("Contents", [])] == ["top & <x>.txt"]


def test_copy_and_deletes(server):
    _, _, s3 = server
    s3.put_object(Bucket="dawn", Key="x y", Body=b"1", Metadata={"a": "b"})
    s3.copy_object(Bucket="dawn", Key="kept", CopySource={"Bucket": "dawn", "Key": "x y"})
    s3.copy_object(
        Bucket="dawn",
        Key="fresh",
        CopySource={"Bucket": "dawn", "Key": "x y"},
        MetadataDirective="REPLACE",
        Metadata={"c": "d"},
    )
    assert [s3.head_object(Bucket="dawn", Key=k)["Metadata"] for k in ("kept", "fresh")] == [
        {"a": "b"},
        {"c": "d"},
    ]
    gone = s3.delete_objects(Bucket="dawn", Delete={"Objects": [{"Key": "x y"}, {"Key": "kept"}]})
    assert {d["Key"] for d in gone["Deleted"]} == {"x y", "kept"}
    assert [o["Key"] for o in s3.list_objects_v2(Bucket="dawn")["Contents"]] == ["fresh"]


def test_uploads_in_parts(server):
    _, _, s3 = server
    where = {"Bucket": "dawn", "Key": "long.flac"}
    upload = s3.create_multipart_upload(**where, Metadata={"post": "brockwen"})["UploadId"]
    pieces = [b"a" * 10, b"b" * 5]
    parts = [
        {
            "PartNumber": n,
            "ETag": s3.upload_part(**where, UploadId=upload, PartNumber=n, Body=b)["ETag"],
        }
        for n, b in enumerate(pieces, 1)
    ]
    assert [p["Size"] for p in s3.list_parts(**where, UploadId=upload)["Parts"]] == [10, 5]
    assert [u["UploadId"] for u in s3.list_multipart_uploads(Bucket="dawn")["Uploads"]] == [upload]
    refused(
        "InvalidPart",
        s3.complete_multipart_upload,
        **where,
        UploadId=upload,
        MultipartUpload={"Parts": [{"PartNumber": 9, "ETag": "x"}]},
    )
    s3.complete_multipart_upload(**where, UploadId=upload, MultipartUpload={"Parts": parts})
    got = s3.get_object(**where)
    assert (got["Body"].read(), got["Metadata"], got["ETag"][-3:]) == (
        b"".join(pieces),
        {"post": "brockwen"},
        '-2"',
    )
    other = s3.create_multipart_upload(**where)["UploadId"]
    s3.abort_multipart_upload(**where, UploadId=other)
    refused("NoSuchUpload", s3.list_parts, **where, UploadId=other)


def test_signatures(server):
    _, endpoint, s3 = server
    s3.put_object(Bucket="dawn", Key="a b", Body=b"song")
    refused("SignatureDoesNotMatch", sdk(endpoint, secret="wrong").list_buckets)
    refused("InvalidAccessKeyId", sdk(endpoint, key="NOBODY").list_buckets)
    reader = sdk(endpoint, "READER", "reader-secret")
    refused("AccessDenied", reader.put_object, Bucket="dawn", Key="x", Body=b"")
    link = s3.generate_presigned_url(
        "get_object", Params={"Bucket": "dawn", "Key": "a b"}, ExpiresIn=60
    )
    assert httpx.get(link).content == b"song"
    assert httpx.get(link.replace("a%20b", "other")).status_code == 403
    server[0].now = lambda: datetime.now(UTC) + timedelta(minutes=20)
    assert httpx.get(link).status_code == 403
    refused("RequestTimeTooSkewed", s3.list_buckets)


def test_it_counts_and_can_be_told_to_fail(server):
    standin, _, s3 = server
    standin.behaviour["put"] = Behaviour(fail="SlowDown", times=1, match="slow")
    refused("SlowDown", s3.put_object, Bucket="dawn", Key="slow", Body=b"")
    s3.put_object(Bucket="dawn", Key="slow", Body=b"")
    assert standin.counts["put"] == 2


def test_what_lies_in_a_folder_is_there_after_a_restart(tmp_path):
    from pinecart.standins.bucket_behaviour import Account
    from pinecart.standins.bucket_server import BucketServer
    from pinecart.standins.bucket_shelf import Shelf

    for want in ([], ["z", "é/1"]):
        shelf = Shelf(tmp_path)
        assert list(shelf.keys_after("dawn", "")) == want if want else not shelf.buckets
        with running(server=BucketServer({KEY: Account(SECRET)}, shelf)) as (_, endpoint):
            s3 = sdk(endpoint)
            if not want:
                s3.create_bucket(Bucket="dawn")
                s3.put_object(Bucket="dawn", Key="z", Body=b"1")
                s3.put_object(Bucket="dawn", Key="é/1", Body=b"22")
            assert s3.get_object(Bucket="dawn", Key="é/1")["Body"].read() == b"22"
