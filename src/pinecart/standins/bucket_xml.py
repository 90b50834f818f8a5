"""What a bucket server says, as the protocol's documents have it."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Iterable
from datetime import UTC, datetime
from xml.sax.saxutils import escape

from aiohttp import web

from pinecart.standins.bucket_shelf import Thing

STATUS = {
    "AccessDenied": 403,
    "InvalidAccessKeyId": 403,
    "SignatureDoesNotMatch": 403,
    "RequestTimeTooSkewed": 403,
    "NoSuchKey": 404,
    "NoSuchBucket": 404,
    "NoSuchUpload": 404,
    "NoSuchVersion": 404,
    "BucketNotEmpty": 409,
    "BucketAlreadyOwnedByYou": 409,
    "BucketAlreadyExists": 409,
    "PreconditionFailed": 412,
    "BadDigest": 400,
    "XAmzContentSHA256Mismatch": 400,
    "InvalidPart": 400,
    "InvalidBucketName": 400,
    "InvalidRange": 416,
    "SlowDown": 503,
    "InternalError": 500,
    "NotImplemented": 501,
    "MethodNotAllowed": 405,
    "InvalidArgument": 400,
    "RequestTimeout": 400,
    "IncompleteBody": 400,
    "NotModified": 304,
    "MalformedXML": 400,
    "AuthorizationHeaderMalformed": 400,
    "InvalidToken": 403,
}


class Fault(Exception):
    def __init__(self, code: str, *, region: str = "") -> None:
        super().__init__(code)
        self.code = code
        self.region = region


def iso(moment: float) -> str:
    return datetime.fromtimestamp(moment, UTC).strftime("%Y-%m-%dT%H:%M:%S.000Z")


def contents(key: str, thing: Thing) -> str:
    return tag(
        "Contents",
        leaf("Key", key),
        leaf("LastModified", iso(thing.modified)),
        leaf("ETag", f'"{thing.etag}"'),
        leaf("Size", thing.size),
        leaf("StorageClass", "STANDARD"),
    )


def leaf(name: str, value: object) -> str:
    return f"<{name}>{escape(str(value), {chr(13): '&#13;'})}</{name}>"


def tag(name: str, *inner: str) -> str:
    return f"<{name}>{''.join(inner)}</{name}>"


def document(root: str, *inner: str) -> web.Response:
    elements = "".join(inner)
    text = (
        f'<?xml version="1.0" encoding="UTF-8"?>\n<{root} '
        f'xmlns="http://s3.amazonaws.com/doc/2006-03-01/">{elements}</{root}>'
    )
    return web.Response(body=text.encode(), content_type="application/xml")


def nodes(body: bytes, wanted: str) -> Iterable[dict[str, str]]:
    """Each element of that name, wherever it is: the texts of its children by their names. Raises
    MalformedXML.
    """
    try:
        root = ET.fromstring(body)
    except ET.ParseError as exc:
        raise Fault("MalformedXML") from exc
    for node in root.iter():
        if _local(node) == wanted:
            yield {_local(child): child.text or "" for child in node}


def _local(node: ET.Element) -> str:
    return node.tag.rpartition("}")[2]


def error_answer(fault: Fault, bare: bool) -> web.Response:
    code = fault.code
    told = [leaf("Code", code), leaf("Message", code)]
    headers = {}
    if code == "AuthorizationHeaderMalformed":
        told.append(leaf("Region", fault.region))
    if code == "SlowDown":
        headers["Retry-After"] = "1"
    text = tag("Error", *told)
    return web.Response(
        status=STATUS.get(fault.code, 400),
        body=b"" if bare else text.encode(),
        content_type="application/xml",
        headers=headers,
    )
