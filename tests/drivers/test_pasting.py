"""What people paste, and what is understood of it."""

from __future__ import annotations

import pytest

from pinecart.core.pasting import read_pasted
from pinecart.drivers import DRIVERS

KINDS = [driver.pasting for driver in DRIVERS.values()]
KEYS = {"kind": "s3", "key_id": "LARKFELL", "secret": "made/up+secret="}


@pytest.mark.parametrize(
    ("text", "fields"),
    [
        (
            "https://objects.example:9000/larkfell/d%61wn/",
            {"kind": "s3", "endpoint": "https://objects.example:9000", "root": "larkfell/dawn"},
        ),
        (
            '"https://larkfell.s3.eu-west-2.objects.example/dawn"',
            {
                "kind": "s3",
                "endpoint": "https://s3.eu-west-2.objects.example",
                "root": "larkfell/dawn",
                "region": "eu-west-2",
            },
        ),
        (
            "https://s3-eu-west-2.objects.example/larkfell",
            {
                "kind": "s3",
                "endpoint": "https://s3-eu-west-2.objects.example",
                "root": "larkfell",
                "region": "eu-west-2",
            },
        ),
        ("s3://larkfell/dawn/", {"kind": "s3", "root": "larkfell/dawn"}),
        ("'/srv/larkfell/posts/'", {"kind": "folder", "path": "/srv/larkfell/posts"}),
        ("export ACCESS_KEY_ID=LARKFELL\nexport SECRET_ACCESS_KEY='made/up+secret='\n", KEYS),
        ("Access key ID: LARKFELL \nSecret access key: made/up+secret=\n# a remark", KEYS),
        ("Access key ID,Secret access key\nLARKFELL,made/up+secret=", KEYS),
        (
            '{"credentials": {"accessKeyId": "LARKFELL", "secretAccessKey": "made/up+secret=",'
            ' "sessionToken": "t"}}',
            KEYS | {"session_token": "t"},
        ),
        (
            (
                "[dawn]\nkey_id = LARKFELL\nsecret = made/up+secret=\nendpoint = "
                "https://objects.example/larkfell"
            ),
            KEYS | {"endpoint": "https://objects.example", "root": "larkfell"},
        ),
    ],
)
def test_what_is_pasted_fills_the_fields(text, fields):
    assert read_pasted(text, KINDS).fields == fields


def test_quotes_and_blanks_and_what_is_not_understood_are_said():
    fields, odd = read_pasted('key_id = "LARKFELL"\ncolour = green\nsecret = x', KINDS)
    assert fields == {"kind": "s3", "key_id": "LARKFELL", "secret": "x"}
    assert any("Quotes round key_id" in o for o in odd) and any("'colour'" in o for o in odd)
    assert read_pasted("hello there", KINDS).odd and not read_pasted("hello there", KINDS).fields
